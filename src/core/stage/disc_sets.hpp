/// Games on several discs, known by "(Disc 2)" and its like in their names.
#pragma once

#include <optional>
#include <string>

#include "opifex/core/stage/survey.hpp"

namespace opifex {

/// "(Disc 2)", "(CD 2)", "Disk 2 of 3" in a name: the number, and the name without it, without case.
struct DiscName {
  std::string rest;
  int number = 0;
};
std::optional<DiscName> disc_in(const std::string& stem);

/// The discs of one game get a common `set`, and their number; a number that is left out is a problem.
void join_discs(Survey& survey);

}  // namespace opifex
