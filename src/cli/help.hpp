#pragma once

#include "command.hpp"

namespace opifex::cli {

po::options_description common_options();
/// The list of commands.
std::string overview();
std::string command_help(const Command& command);

}  // namespace opifex::cli
