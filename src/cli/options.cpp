#include "options.hpp"

#include <boost/program_options.hpp>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex::cli {

namespace po = boost::program_options;

namespace {

[[noreturn]] void usage_error(const Command& command, std::string what, std::string hint = {}) {
  if (hint.empty()) hint = fmt::format("opifex help {}", command.name);
  throw Error({.fault = Fault::usage, .code = "usage", .what = std::move(what), .hint = std::move(hint)});
}

po::options_description options_of(const SettingList& settings) {
  po::options_description options;
  for (const Setting* setting : settings) {
    const std::string name(setting->name);
    if (setting->type == SettingType::flag) {
      options.add_options()(name.c_str(), po::bool_switch());
      continue;
    }
    if (setting->repeats) {
      options.add_options()(name.c_str(), po::value<std::vector<std::string>>()->composing());
      continue;
    }
    auto* value = po::value<std::string>();
    if (!setting->implied.empty()) value->implicit_value(std::string(setting->implied));
    options.add_options()(name.c_str(), value);
  }
  return options;
}

std::vector<std::string> option_names(const SettingList& settings) {
  std::vector<std::string> names;
  for (const Setting* setting : settings) names.push_back("--" + std::string(setting->name));
  return names;
}

po::variables_map values_of_line(const Command& command, const std::vector<std::string>& words) {
  const SettingList& settings = settings_of(command);
  po::options_description all = options_of(settings);
  all.add_options()("words", po::value<std::vector<std::string>>());
  po::positional_options_description positional;
  positional.add("words", -1);
  po::variables_map values;
  namespace style = po::command_line_style;
  const int rules = style::allow_long | style::long_allow_next | style::long_allow_adjacent;
  try {
    po::store(po::command_line_parser(words).options(all).positional(positional).style(rules).run(), values);
    po::notify(values);
  } catch (const po::unknown_option& e) {
    const std::string nearest = nearest_word(e.get_option_name(), option_names(settings));
    usage_error(command, fmt::format("{} has no option {}", command.name, printable(e.get_option_name())),
                nearest.empty() ? "" : fmt::format("did you mean {}?", nearest));
  } catch (const po::error& e) {
    usage_error(command, fmt::format("{}: {}", command.name, printable(e.what())));
  }
  return values;
}

void check_count(const Command& command, std::size_t count) {
  if (count >= command.words.least && count <= command.words.most) return;
  usage_error(command,
              count == 0 ? fmt::format("{} needs {}", command.name, command.arguments)
                         : fmt::format("{} takes {}, not {}", command.name,
                                       *command.arguments ? command.arguments : "nothing more", plural(count, "word")));
}

void set(Line& line, const Setting& setting, const std::string& value) {
  try {
    line.settings.set(setting, value);
  } catch (const Error& e) {
    ErrorDetails d = e.details;
    d.what = "--" + d.what;  // it begins with the setting's name
    if (d.hint.empty()) d.hint = fmt::format("opifex help {}", line.command);
    throw Error(std::move(d));
  }
}

}  // namespace

Line parse(const Command& command, const std::vector<std::string>& words) {
  const po::variables_map values = values_of_line(command, words);
  Line line{.command = command.name, .words = {}, .settings = {}, .list = &settings_of(command)};
  if (values.count("words") != 0) line.words = values["words"].as<std::vector<std::string>>();
  for (const Setting* setting : *line.list) {
    const std::string name(setting->name);
    if (values.count(name) == 0) continue;
    if (setting->repeats)
      for (const std::string& value : values[name].as<std::vector<std::string>>()) set(line, *setting, value);
    else if (setting->type != SettingType::flag)
      set(line, *setting, values[name].as<std::string>());
    else if (values[name].as<bool>())
      set(line, *setting, "");
  }
  if (!line.settings.flag(kHelpFlag)) check_count(command, line.words.size());
  return line;
}

}  // namespace opifex::cli
