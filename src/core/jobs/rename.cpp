#include "opifex/core/jobs/rename.hpp"

#include "opifex/core/io/journal.hpp"
#include "opifex/core/jobs/settings.hpp"

namespace opifex::jobs {

RenameJob RenameJob::of(const std::vector<std::string>& words, const Settings& settings) {
  RenameJob job{.set = words.at(0), .new_name = words.at(1)};
  if (const auto limit = settings.number(kNameLimit)) job.limit = static_cast<std::size_t>(*limit);
  job.plan_only = settings.flag(kPlan);
  return job;
}

Outcome run(const RenameJob& job, Listener& listener, JobContext&) {
  if (!job.plan_only) {
    // What an interrupted renaming left half done may be the very job that is asked for.
    auto finished = finish_interrupted(job.set.parent_path());
    if (!finished.empty() && !std::filesystem::exists(job.set)) {
      listener.result(Renamed{{}, false, std::move(finished)});
      return {};
    }
  }
  Renamed renamed{plan_rename(job.set, job.new_name, job.limit), job.plan_only};
  if (!job.plan_only) run_rename(renamed.plan);
  listener.result(renamed);
  return {};
}

}  // namespace opifex::jobs
