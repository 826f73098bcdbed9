#include "help.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/jobs/settings.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::cli {
namespace {

/// What a setting does for each format that has one of its name, where a command lets the user choose a format.
std::string help_by_format(const Setting& setting) {
  std::string text;
  std::vector<const Setting*> told;
  const auto with = jobs::formats_with(setting);
  for (const Format* format : with) {
    const Setting* own = find_setting(format->settings, setting.name);
    if (std::find(told.begin(), told.end(), own) != told.end()) continue;
    told.push_back(own);
    std::vector<std::string_view> ids;
    for (const Format* f : with)
      if (find_setting(f->settings, setting.name) == own) ids.push_back(f->id);
    text += fmt::format("{}for {}: {}", text.empty() ? "" : "; ", fmt::join(ids, ", "), report::hint_text(own->help));
  }
  return text;
}

std::string options_text(const Command& command, const SettingList& settings) {
  std::string text;
  for (const Setting* setting : settings)
    text += fmt::format("  {:<22} {}\n", option_name(*setting), option_help(command, *setting));
  return text;
}

}  // namespace

std::string option_name(const Setting& setting) {
  return fmt::format("--{}{}{}", setting.name, setting.value.empty() ? "" : " ", setting.value);
}

std::string option_help(const Command& command, const Setting& setting) {
  const SettingList& list = settings_of(command);
  // "to" and "as" choose a format: then a setting may be for some of them only.
  const bool chooses = find_setting(list, "to") != nullptr || find_setting(list, "as") != nullptr;
  const bool of_reading = find_setting(jobs::read_settings(), setting.name) != nullptr;
  std::string text = chooses && !of_reading ? help_by_format(setting) : "";
  if (text.empty()) text = report::hint_text(setting.help);
  if (!setting.preset.empty() && text.find("(default") == std::string::npos)
    text += fmt::format(" (default: {})", setting.preset);
  return text;
}

std::string overview() {
  std::string text = "opifex: convert, merge, split and check images of your own game discs\n\n";
  for (const Command* c : commands()) text += fmt::format("  {:<9} {}\n", c->name, c->summary);
  text += "\nopifex help COMMAND tells more. Start with: opifex demo\n";
  return text;
}

std::string command_help(const Command& command) {
  std::string text = fmt::format("opifex {}{}{}\n\n{}\n", command.name, *command.arguments ? " " : "",
                                 command.arguments, command.summary);
  if (*command.details) text += fmt::format("\n{}\n", command.details);
  if (command.settings) text += "\nOptions\n" + options_text(command, command.settings());
  text += "\nFor every command\n" + options_text(command, common_settings());
  if (*command.examples) text += fmt::format("\nExamples\n{}", command.examples);
  return text;
}

}  // namespace opifex::cli
