// What the program knows of itself: help, version, formats.
#include <fmt/format.h>

#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

#include "command.hpp"
#include "help.hpp"

namespace opifex::cli {
namespace {

const Setting kPage{.name = "page",
                    .type = SettingType::choice,
                    .help = "all of it, as a manual page (man) or as completions for a shell",
                    .value = "man|bash|zsh|fish",
                    .words = [] {
                      return std::vector<std::string>{"man", "bash", "zsh", "fish"};
                    }};

const SettingList& help_settings() {
  static const SettingList list = {&kPage};
  return list;
}

report::Json setting_json(const Setting& setting) {
  report::Json words = report::Json::array();
  if (setting.words)
    for (const std::string& word : setting.words()) words.push_back(word);
  return {{"name", setting.name},
          {"takes", values_of(setting)},
          {"words", words},
          {"default", setting.preset.empty() ? report::Json() : report::Json(setting.preset)},
          {"help", report::hint_text(setting.help)}};
}

void run_help(Session& session) {
  const auto& words = session.words();
  std::string text;
  if (const std::string page = session.settings().text(kPage); !page.empty()) {
    text = page == "man"    ? manual_page()
           : page == "bash" ? bash_completion()
           : page == "zsh"  ? zsh_completion()
                            : fish_completion();
  } else if (words.empty()) {
    text = overview();
  } else {
    const Command* command = find_command(words.front());
    std::vector<std::string> known;
    for (const Command* c : commands()) known.emplace_back(c->name);
    if (!command) unknown_word("command", words.front(), known);
    text = command_help(*command);
  }
  report::Json json = {{"text", text}};
  if (const Command* command = words.empty() ? nullptr : find_command(words.front())) {
    json["settings"] = report::Json::array();
    for (const Setting* setting : settings_of(*command)) json["settings"].push_back(setting_json(*setting));
  }
  session.result(json, text);
}

void run_version(Session& session) {
  session.result({{"version", OPIFEX_VERSION}}, fmt::format("opifex {}\n", OPIFEX_VERSION));
}

void run_formats(Session& session) {
  report::Json list = report::Json::array();
  for (const Format* f : formats()) {
    report::Json own = report::Json::array();
    for (const Setting* setting : f->settings) own.push_back(setting_json(*setting));
    list.push_back({{"id", f->id},
                    {"title", f->title},
                    {"extensions", f->extensions},
                    {"writes", f->plan_write != nullptr},
                    {"holds",
                     {{"audio", f->holds.audio},
                      {"tracks", f->holds.track_list},
                      {"form2", f->holds.form2},
                      {"raw_headers", f->holds.raw_headers},
                      {"subchannel", f->holds.subchannel},
                      {"sessions", f->holds.sessions}}},
                    {"settings", own}});
  }
  session.result({{"formats", list}}, report::formats_text());
}

}  // namespace

extern const Command kHelp = {"help",
                              "[COMMAND]",
                              "tells how to use a command",
                              "",
                              "  opifex help convert\n  opifex help --page bash > opifex.bash\n",
                              &help_settings,
                              kAnyWords,
                              &run_help};
extern const Command kVersion = {"version", "", "prints the version", "", "", nullptr, kNoWords, &run_version};
extern const Command kFormats = {"formats", "",          "lists the formats and what each can hold", "", "", nullptr,
                                 kNoWords,  &run_formats};

}  // namespace opifex::cli
