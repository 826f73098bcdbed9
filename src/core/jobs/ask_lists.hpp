/// Is what a job has just written known?
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/known_answer.hpp"
#include "opifex/core/lists/read_list.hpp"

namespace opifex::jobs {

/// Known lists, read before a long job begins.
class AskedLists {
 public:
  /// Lists that cannot be read go to `listener`. Error (refused, "no_list") if none of them can. No words: nobody asks.
  AskedLists(const std::vector<std::string>& words, const std::filesystem::path& cache, Listener& listener,
             JobContext& context);

  bool any() const { return !lists_.lists.empty(); }
  /// Reads the image as it lies there now. One answer for each list.
  std::vector<KnownAnswer> ask(const std::filesystem::path& image, JobContext& context) const;

 private:
  Lists lists_;
};

}  // namespace opifex::jobs
