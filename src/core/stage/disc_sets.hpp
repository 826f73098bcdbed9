/// Games on several discs, known by "(Disc 2)" and its like in their names.
#pragma once

#include "opifex/core/stage/survey.hpp"

namespace opifex {

/// The discs of one game get a common `set`, and their number; a number that is left out is a problem.
void join_discs(Survey& survey);

}  // namespace opifex
