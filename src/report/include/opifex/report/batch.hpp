/// Jobs over many images: what is going to be done, each of them as it ends, and the end.
#pragma once

#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

/// A table of all that would be written.
std::string batch_plan_text(const jobs::BatchPlan& plan);
/// What a user should know before the first byte is written: how many, how much, what is lost with his word.
std::string batch_start_text(const jobs::BatchPlan& plan);
/// One line: "3/12  kestrel.cue -> kestrel.chd  327 MiB, 47 % of 700 MiB, 85 MB/s".
std::string batch_line(const jobs::BatchStep& step, const jobs::Written& written);
/// One line for a sound image, all that was found for another.
std::string batch_line(const jobs::BatchStep& step, const jobs::Checked& checked, double seconds);
std::string batch_summary_text(const jobs::BatchSummary& summary);
Json batch_summary_json(const jobs::BatchSummary& summary);

}  // namespace opifex::report
