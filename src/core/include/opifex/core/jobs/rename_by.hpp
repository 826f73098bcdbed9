/// Sets and what belongs to them under the names that known lists have for them.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/stage/renames.hpp"

namespace opifex::jobs {

struct RenameByJob {
  std::vector<std::string> inputs;  ///< images, folders
  std::vector<std::string> lists;
  ReadRules reading = {};
  std::filesystem::path cache = {};       ///< for lists that were read; empty: none
  std::optional<std::size_t> limit = {};  ///< UTF-16 units of the longest name
  std::string file_system = {};           ///< whose name rules hold; empty: found out
  bool plan_only = false;
  static RenameByJob of(std::vector<std::string> inputs, const Settings& settings);
};

struct RenamedByList {
  struct LeftAlone {
    std::string what, why;  ///< for people
  };
  std::vector<RenameGroup> groups;               ///< as they are or would be renamed
  std::vector<LeftAlone> left_alone;             ///< what the lists do not know, or cannot name
  std::vector<std::string> notes;                ///< names that are not quite the list's
  std::size_t right = 0;                         ///< sets that have their names already
  std::vector<std::filesystem::path> undo = {};  ///< what undoes it; of a plan: none
  bool planned_only = false;
  bool undone = false;  ///< it was the way back
};

/// Only sets that are complete are renamed, each whole or not at all, and never by a name that is no safe path.
/// Archives get the name of the set that alone is in them; nothing in them is changed.
Outcome run(const RenameByJob& job, Listener& listener, JobContext& context);

/// Gives all files the names they had before.
struct UndoRenameJob {
  std::filesystem::path file;
  bool plan_only = false;
};
Outcome run(const UndoRenameJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
