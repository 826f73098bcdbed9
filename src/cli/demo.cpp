// The demo: builds the workshop and walks the whole job with it, as its user would, through the same commands.
#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/demo/workshop.hpp"

#include "command.hpp"
#include "demo_steps.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

const Setting kAgain{.name = "overwrite", .help = "build again over an earlier workshop"};

const SettingList& demo_settings() {
  static const SettingList list = {&kAgain};
  return list;
}

std::string quoted(const std::string& word) {
  const bool plain = word.find_first_of(" &()'") == std::string::npos;
  return plain ? word : "'" + word + "'";
}

/// Where @ stood, the path from here.
std::string in_workshop(const std::string& word, const fs::path& folder) {
  const std::size_t at = word.find('@');
  if (at == std::string::npos) return word;
  return word.substr(0, at) + (folder / word.substr(at + 1)).string();
}

void refuse_used_folder(const fs::path& folder, Existing existing) {
  if (existing == Existing::replace || !fs::exists(folder) || fs::is_empty(folder)) return;
  throw Error({.fault = Fault::needs_word,
               .code = "exists",
               .cause = Cause::exists,
               .what = "the folder is not empty",
               .file = folder.string(),
               .hint = "<overwrite> builds the workshop again; another folder can be named"});
}

/// Of a second walk: what the first one wrote is replaced.
std::vector<std::string> line_of(const DemoStep& step, const fs::path& folder, Existing existing) {
  std::vector<std::string> line;
  for (const std::string& word : step.words) line.push_back(in_workshop(word, folder));
  const bool repairs = std::find(line.begin(), line.end(), "--repair") != line.end();
  const bool writes = line[0] != "identify" && line[0] != "files" && line[0] != "save" && line[0] != "rename" &&
                      (line[0] != "check" || repairs);
  if (existing == Existing::replace && writes) line.emplace_back("--overwrite");
  return line;
}

/// Runs a step as its user would. Its answer is shown, or with --json only how it ended.
report::Json run_step(Session& session, const DemoStep& step, std::vector<std::string> line) {
  std::string shown = "opifex";
  for (const std::string& word : line) shown += " " + quoted(word);
  std::ostream nowhere(nullptr);
  Console silent{nowhere, nowhere};
  const bool quiet = session.wants_json();
  if (session.settings().has(kColor)) line.push_back("--color=" + session.settings().text(kColor));
  if (quiet)
    line.emplace_back("--quiet");
  else
    session.console().out << fmt::format("\n# {}\n$ {}\n", step.says, printable(shown)) << std::flush;
  const int code = dispatch(line, quiet ? silent : session.console(), session.context().progress.stop);
  session.context().progress.check_stop();
  if (code != step.expected)
    throw Error({.fault = Fault::device,
                 .code = "demo_failed",
                 .what = "a step of the demo did not end as it should",
                 .found = fmt::format("exit code {}", code),
                 .expected = fmt::format("{}", step.expected)});
  return {{"command", shown}, {"exit", code}};
}

void run_demo(Session& session) {
  const auto& words = session.words();
  const fs::path folder = words.empty() ? "demo-workshop" : words.front();
  const Existing existing = session.settings().flag(kAgain) ? Existing::replace : Existing::keep;
  refuse_used_folder(folder, existing);
  demo::build_museum(folder, existing);
  if (!session.wants_json())
    session.console().out << fmt::format("The workshop of the Lantern Street Arcade Museum is in {}\n",
                                         printable(folder.string()));
  report::Json steps = report::Json::array();
  for (const DemoStep& step : demo_steps()) steps.push_back(run_step(session, step, line_of(step, folder, existing)));
  session.result({{"folder", folder.string()}, {"steps", steps}}, "\nEverything above can be tried by hand.\n");
}

}  // namespace

extern const Command kDemo = {
    "demo",
    "[DIR]",
    "builds a workshop of made-up discs and walks the whole job with it",
    "Every command is printed before it runs. The folder (default: demo-workshop) must be new or empty.",
    "  opifex demo\n  opifex demo /tmp/workshop\n",
    &demo_settings,
    {0, 1},
    &run_demo};

}  // namespace opifex::cli
