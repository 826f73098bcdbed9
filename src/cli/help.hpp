/// What the tables of commands and settings tell a person, and the shell.
#pragma once

#include <string>

#include "command.hpp"

namespace opifex::cli {

std::string overview();
std::string command_help(const Command& command);
/// "--hunk-size SIZE"
std::string option_name(const Setting& setting);
/// One line, with the formats it is for and its preset.
std::string option_help(const Command& command, const Setting& setting);

/// opifex(1), for man.
std::string manual_page();
/// For the shells; written into a file of their own.
std::string bash_completion();
std::string zsh_completion();
std::string fish_completion();

}  // namespace opifex::cli
