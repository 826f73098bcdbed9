/// Games that lie in a folder twice.
#pragma once

#include "opifex/core/stage/survey.hpp"

namespace opifex {

/// Images whose largest files have the same size and bytes; of huge files many places are looked at. A problem each.
std::vector<Warning> find_duplicates(const Survey& survey, JobContext& context);

}  // namespace opifex
