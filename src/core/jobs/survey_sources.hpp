/// The images of a folder that was looked through already.
#pragma once

#include "opifex/core/jobs/sources.hpp"
#include "opifex/core/stage/survey.hpp"

namespace opifex::jobs {

/// As find_sources(), but without what the survey itself could not see.
Sources find_sources(const Survey& survey, const ReadRules& rules, JobContext& context);

}  // namespace opifex::jobs
