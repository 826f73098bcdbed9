// The manual page and the completions of shells, from the same tables as help.
#include <set>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/report/words.hpp"

#include "help.hpp"

namespace opifex::cli {
namespace {

/// A text as troff wants it: hyphens that are typed, no line that begins like a request.
std::string troff(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-')
      out += "\\-";
    else if ((c == '.' || c == '\'') && (out.empty() || out.back() == '\n'))
      out += std::string("\\&") + c;
    else
      out += c;
  }
  return out;
}

std::string capital(std::string text) {
  if (!text.empty() && text.front() >= 'a' && text.front() <= 'z') text.front() = static_cast<char>(text.front() - 32);
  return text;
}

std::string manual_options(const Command& command, const SettingList& settings) {
  std::string text;
  for (const Setting* setting : settings) {
    text += fmt::format(".TP\n\\fB{}\\fR\n{}.\n", troff(option_name(*setting)),
                        troff(capital(option_help(command, *setting))));
    if (!setting->details.empty()) text += troff(report::hint_text(setting->details)) + "\n";
  }
  return text;
}

std::string manual_command(const Command& command) {
  std::string text = fmt::format(".SH \"{} {}\"\n{}.\n", troff(command.name), troff(command.arguments),
                                 troff(capital(command.summary)));
  if (*command.details) text += ".PP\n" + troff(command.details) + "\n";
  if (command.settings) text += manual_options(command, command.settings());
  if (*command.examples) text += fmt::format(".PP\n.nf\n{}.fi\n", troff(command.examples));
  return text;
}

/// In single quotes, for any shell.
std::string in_quotes(std::string_view text) {
  std::string out = "'";
  for (const char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return out + "'";
}

std::vector<std::string> words_of(const Setting& setting) {
  return setting.words ? setting.words() : std::vector<std::string>{};
}

std::vector<std::string> option_words(const Command& command) {
  std::vector<std::string> words;
  for (const Setting* setting : settings_of(command)) words.push_back("--" + std::string(setting->name));
  return words;
}

std::vector<std::string> command_names() {
  std::vector<std::string> names;
  for (const Command* command : commands()) names.emplace_back(command->name);
  return names;
}

}  // namespace

std::string manual_page() {
  std::string text = fmt::format(
      ".TH OPIFEX 1 \"\" \"opifex {}\" \"User Commands\"\n.SH NAME\nopifex \\- dump, convert, merge, split and check "
      "images of your own game discs\n.SH SYNOPSIS\n.B opifex\n.I COMMAND\n.RI [ words ]\n.RI [ options ]\n"
      ".SH DESCRIPTION\nOpifex says what disc images are and whether they are intact, and writes any format it knows "
      "from any other. It says what would be lost before it writes, never overwrites what it was not told to, and "
      "leaves either a complete output or none.\n",
      OPIFEX_VERSION);
  for (const Command* command : commands()) text += manual_command(*command);
  text += ".SH \"OPTIONS OF EVERY COMMAND\"\n" + manual_options(*commands().front(), common_settings());
  text +=
      ".SH EXIT STATUS\n0 done; 1 bad news (damaged, incomplete, unknown); 2 wrong command line; 3 input refused; 4 "
      "the user's word is needed (a loss, an existing file, too little space); 5 a device failed; 130 "
      "interrupted.\n.SH SEE ALSO\nREADME.md, docs/formats.md, docs/json.md and docs/errors.md of the source.\n";
  return text;
}

std::string bash_completion() {
  std::string text =
      "# Completion of opifex for bash; made by: opifex help --page bash\n_opifex() {\n"
      "  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]} options=\n";
  text += fmt::format("  if ((COMP_CWORD == 1)); then COMPREPLY=($(compgen -W {} -- \"$word\")); return; fi\n",
                      in_quotes(fmt::format("{}", fmt::join(command_names(), " "))));
  text += "  case ${COMP_WORDS[1]}:$before in\n";
  for (const Command* command : commands())
    for (const Setting* setting : settings_of(*command))
      if (const auto words = words_of(*setting); !words.empty())
        text += fmt::format("    {}:--{}) COMPREPLY=($(compgen -W {} -- \"$word\")); return ;;\n", command->name,
                            setting->name, in_quotes(fmt::format("{}", fmt::join(words, " "))));
  text += "  esac\n  case ${COMP_WORDS[1]} in\n";
  for (const Command* command : commands())
    text += fmt::format("    {}) options={} ;;\n", command->name,
                        in_quotes(fmt::format("{}", fmt::join(option_words(*command), " "))));
  return text +
         "  esac\n  if [[ $word == -* ]]; then COMPREPLY=($(compgen -W \"$options\" -- \"$word\")); return; fi\n"
         "  if [[ ${COMP_WORDS[1]} == help ]]; then COMPREPLY=($(compgen -W " +
         in_quotes(fmt::format("{}", fmt::join(command_names(), " "))) +
         " -- \"$word\")); fi\n}\ncomplete -o default -F _opifex opifex\n";
}

std::string zsh_completion() {
  std::string text =
      "#compdef opifex\n# Completion of opifex for zsh; made by: opifex help --page zsh\n_opifex() {\n  if "
      "((CURRENT == 2)); then\n    local -a names=(";
  for (const Command* command : commands())
    text += " " + in_quotes(fmt::format("{}:{}", command->name, command->summary));
  text += ")\n    _describe command names\n    return\n  fi\n  case $words[2] in\n";
  for (const Command* command : commands()) {
    text += fmt::format("    {}) _arguments", command->name);
    for (const Setting* setting : settings_of(*command)) {
      std::string help = option_help(*command, *setting);
      std::erase_if(help, [](char c) { return c == '[' || c == ']' || c == ':'; });
      std::string spec = fmt::format("--{}[{}]", setting->name, help);
      if (setting->type != SettingType::flag) {
        const auto words = words_of(*setting);
        spec += fmt::format(":value:{}", words.empty() ? "_files" : fmt::format("({})", fmt::join(words, " ")));
      }
      text += " " + in_quotes(spec);
    }
    text += " '*:file:_files' ;;\n";
  }
  return text + "  esac\n}\n_opifex \"$@\"\n";
}

std::string fish_completion() {
  std::string text = "# Completion of opifex for fish; made by: opifex help --page fish\n";
  for (const Command* command : commands()) {
    text += fmt::format("complete -c opifex -n __fish_use_subcommand -f -a {} -d {}\n", command->name,
                        in_quotes(command->summary));
    for (const Setting* setting : settings_of(*command)) {
      text += fmt::format("complete -c opifex -n '__fish_seen_subcommand_from {}' -l {} -d {}", command->name,
                          setting->name, in_quotes(option_help(*command, *setting)));
      const auto words = words_of(*setting);
      if (!words.empty()) text += fmt::format(" -x -a {}", in_quotes(fmt::format("{}", fmt::join(words, " "))));
      if (words.empty() && setting->type != SettingType::flag) text += " -r";
      text += "\n";
    }
  }
  return text;
}

}  // namespace opifex::cli
