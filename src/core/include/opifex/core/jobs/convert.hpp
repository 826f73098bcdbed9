/// Writing images in another format, joining and cutting them.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/convert/scrub.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

struct ConvertJob {
  std::vector<std::string> inputs;  ///< images, folders, drives, archives
  const Format* target = nullptr;   ///< null: folders with the files inside
  std::string out = {};  ///< file, leading file or (ending in /, or there already) folder; empty: beside each input
  ReadRules reading = {};
  WriteRules writing = {};
  Settings settings = {};  ///< of the target
  bool scrub = false;      ///< leave out what no file uses
  WiiKeep keep = WiiKeep::all;
  std::uint64_t limit_bytes = 0;      ///< of each file that is written; 0: none
  std::filesystem::path titles = {};  ///< the user's list of names for what has only an id; empty: none
  bool skip_existing = false;         ///< of many: what is there and proves to be right is left out
  /// Error (usage) for a setting that the target has not.
  static ConvertJob of(std::vector<std::string> inputs, const Settings& settings);
};
Outcome run(const ConvertJob& job, Listener& listener, JobContext& context);

/// The files of each set become one, with a new sheet; the parts of a file that was cut become one again.
struct MergeJob {
  std::vector<std::string> inputs;
  std::string out;
  ReadRules reading = {};
  WriteRules writing = {};
  bool skip_existing = false;
  static MergeJob of(std::vector<std::string> inputs, const Settings& settings);
};
Outcome run(const MergeJob& job, Listener& listener, JobContext& context);

/// A file for each track, with a new sheet; or with a limit one big file in parts.
struct SplitJob {
  std::vector<std::string> inputs;
  std::string out;  ///< a folder
  ReadRules reading = {};
  WriteRules writing = {};
  Settings settings = {};
  std::uint64_t limit_bytes = 0;  ///< 0: by tracks
  bool skip_existing = false;
  static SplitJob of(std::vector<std::string> inputs, const Settings& settings);
};
Outcome run(const SplitJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
