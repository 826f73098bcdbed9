#include "help.hpp"

#include <iostream>
#include <sstream>

#include <fmt/format.h>

#include "opifex/report/table.hpp"
#include "opifex/report/text.hpp"

namespace opifex::cli {
namespace {

std::string options_text(const po::options_description& options) {
  std::string text;
  for (const auto& option : options.options()) {
    std::string name = "--" + option->long_name();
    if (option->semantic()->max_tokens() > 0) name += " " + option->semantic()->name();
    text += fmt::format("  {:<22} {}\n", name, option->description());
  }
  return text;
}

void run_help(Session& session) {
  const auto words = session.list("words");
  if (words.empty()) return session.result({{"text", overview()}}, overview());
  const Command* command = find_command(words.front());
  if (!command) {
    std::vector<std::string> known;
    for (const Command* c : commands()) known.emplace_back(c->name);
    unknown_word("command", words.front(), known);
  }
  session.result({{"text", command_help(*command)}}, command_help(*command));
}

void run_version(Session& session) {
  session.result({{"version", OPIFEX_VERSION}}, fmt::format("opifex {}\n", OPIFEX_VERSION));
}

void run_formats(Session& session) {
  report::Json list = report::Json::array();
  for (const Format* f : formats())
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
                      {"sessions", f->holds.sessions}}}});
  session.result({{"formats", list}}, report::formats_text());
}

}  // namespace

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
  po::options_description own;
  if (command.declare) command.declare(own);
  if (!own.options().empty()) text += "\nOptions\n" + options_text(own);
  text += "\nFor every command\n" + options_text(common_options());
  if (*command.examples) text += fmt::format("\nExamples\n{}", command.examples);
  return text;
}

extern const Command kHelp = {
    "help", "[COMMAND]", "tells how to use a command", "", "  opifex help convert\n", nullptr, kAnyWords, &run_help};
extern const Command kVersion = {"version", "", "prints the version", "", "", nullptr, kNoWords, &run_version};
extern const Command kFormats = {"formats", "",          "lists the formats and what each can hold", "", "", nullptr,
                                 kNoWords,  &run_formats};

}  // namespace opifex::cli
