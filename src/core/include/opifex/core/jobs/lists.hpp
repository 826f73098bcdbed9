/// What a known list is, what a folder lacks of it, and a list of what is there.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/jobs/job.hpp"

namespace opifex {
class KnownList;
struct ListMatch;
}  // namespace opifex

namespace opifex::jobs {

struct ListsJob {
  std::vector<std::string> words;  ///< lists, archives and folders of lists
  std::filesystem::path cache = {};
  std::string sets = {};  ///< a pattern: those sets are shown with their entries; empty: none
  static ListsJob of(std::vector<std::string> words, const Settings& settings);
};

/// One list that was read.
struct ListTold {
  const KnownList& list;
  std::vector<std::uint32_t> shown = {};  ///< sets that were asked for
};

/// Outcome::good: no list was refused, and none has a fault that keeps an entry from being compared.
Outcome run(const ListsJob& job, Listener& listener, JobContext& context);

struct MissingJob {
  std::vector<std::string> words;
  std::filesystem::path cache = {};
  std::string folder;
  ReadRules reading = {};
  static MissingJob of(std::vector<std::string> words, const Settings& settings);
};

/// Of one list.
struct MissingTold {
  const KnownList& list;
  const ListMatch& match;
  std::string folder;
};

/// Outcome::good: nothing is missing.
Outcome run(const MissingJob& job, Listener& listener, JobContext& context);

struct MakeListJob {
  std::string folder;
  std::filesystem::path out;
  std::string name = {};  ///< of the list; empty: that of the folder
  ReadRules reading = {};
  WriteRules writing = {};
  static MakeListJob of(const std::vector<std::string>& words, const Settings& settings);
};

struct ListMade {
  std::filesystem::path out;
  std::uint64_t sets = 0, entries = 0, size_bytes = 0;
  bool planned_only = false;
};

/// A set for each image: its files, or of a container what it holds.
Outcome run(const MakeListJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
