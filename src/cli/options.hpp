/// Options of the command line, made from the tables of settings.
#pragma once

#include <string>
#include <vector>

#include "command.hpp"

namespace opifex::cli {

/// Error (usage) with the nearest right word; a wrong value names the setting and what it takes.
Line parse(const Command& command, const std::vector<std::string>& words);

}  // namespace opifex::cli
