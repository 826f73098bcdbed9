/// A set with all its files under a new name.
#pragma once

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/stage/naming.hpp"

namespace opifex::jobs {

struct RenameJob {
  std::filesystem::path set;
  std::string new_name;
  std::optional<std::size_t> limit = {};  ///< UTF-16 units of the longest name
  bool plan_only = false;
  static RenameJob of(const std::vector<std::string>& words, const Settings& settings);
};

struct Renamed {
  RenamePlan plan;
  bool planned_only = false;
  std::vector<std::filesystem::path> finished = {};  ///< what an interrupted job had begun, and was all there was to do
};
Outcome run(const RenameJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
