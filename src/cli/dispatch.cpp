#include <algorithm>
#include <filesystem>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/report/words.hpp"

#include "command.hpp"
#include "help.hpp"
#include "options.hpp"

namespace opifex::cli {

extern const Command kIdentify, kDump, kRescue, kConvert, kMerge, kSplit, kRename, kCheck, kLists, kFiles, kExtract,
    kBuild, kPut, kDrop, kEdit, kPatch, kSave, kShelf, kDemo, kFormats, kHelp, kVersion;

const std::vector<const Command*>& commands() {
  static const std::vector<const Command*> all = {
      &kIdentify, &kDump, &kRescue, &kConvert, &kMerge, &kSplit, &kRename, &kCheck, &kLists,   &kFiles, &kExtract,
      &kBuild,    &kPut,  &kDrop,   &kEdit,    &kPatch, &kSave,  &kShelf,  &kDemo,  &kFormats, &kHelp,  &kVersion};
  return all;
}

const Command* find_command(const std::string& name) {
  for (const Command* c : commands())
    if (name == c->name) return c;
  return nullptr;
}

const SettingList& settings_of(const Command& command) {
  static std::map<const Command*, SettingList> lists;
  const auto [at, is_new] = lists.try_emplace(&command);
  if (!is_new) return at->second;
  if (command.settings) at->second = command.settings();
  for (const Setting* common : common_settings()) at->second.push_back(common);
  return at->second;
}

namespace {

int run_command(const Command& command, const std::vector<std::string>& words, Console& console, std::stop_token stop) {
  Line line = parse(command, words);
  if (line.settings.flag(kHelpFlag)) {
    console.out << command_help(command);
    return kDone;
  }
  Session session(std::move(line), console, std::move(stop));
  try {
    command.run(session);
  } catch (const Error& e) {
    session.ended_by(e);
  } catch (const std::filesystem::filesystem_error& e) {
    session.ended_by(Error({.fault = Fault::device,
                            .code = "file_system",
                            .what = "the file system refuses: " + e.code().message(),
                            .file = e.path1().string(),
                            .hint = "check the name and the permissions of the file and its folder"}));
  } catch (const std::bad_alloc&) {
    session.ended_by(Error({.fault = Fault::device, .code = "no_memory", .what = "there is not enough memory"}));
  } catch (const std::exception& e) {
    // A fault of ours; still a message and an exit code rather than a crash.
    session.ended_by(
        Error({.fault = Fault::device, .code = "internal", .what = fmt::format("internal fault: {}", e.what())}));
  }
  return session.finish();
}

const Command& command_named(std::string name) {
  if (name == "--help" || name == "-h") name = "help";
  if (name == "--version") name = "version";
  if (const Command* command = find_command(name)) return *command;
  std::vector<std::string> known;
  for (const Command* c : commands()) known.emplace_back(c->name);
  unknown_word("command", name, known);
}

}  // namespace

int dispatch(const std::vector<std::string>& words, Console& console, std::stop_token stop) {
  try {
    if (words.empty()) {
      console.out << overview();
      return kUsage;
    }
    return run_command(command_named(words.front()), {words.begin() + 1, words.end()}, console, std::move(stop));
  } catch (const Error& e) {
    const int code = exit_code(e.details.fault);
    console.out << std::flush;
    console.err << "opifex: " << report::error_text(e.details) << "\n";
    if (std::find(words.begin(), words.end(), "--json") != words.end())
      report::DocumentPrinter(console.out, words.front())
          .finish(report::Json::array({report::to_json(e.details, code)}));
    return code;
  } catch (const std::exception& e) {
    console.out << std::flush;
    console.err << fmt::format("opifex: internal fault: {}\n", printable(e.what()));
    return kDevice;
  }
}

}  // namespace opifex::cli
