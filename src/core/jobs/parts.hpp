/// Jobs that only cut files, or join what was cut: no byte of them changes.
#pragma once

#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

/// The parts of a split file become one.
Outcome join_parts(const std::filesystem::path& part, const std::string& out, const WriteRules& rules,
                   Listener& listener, JobContext& context);

/// Each file in parts of at most `limit` bytes.
Outcome cut_files(const std::vector<std::string>& files, const std::filesystem::path& folder, std::uint64_t limit,
                  const WriteRules& rules, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
