#include <algorithm>
#include <filesystem>
#include <iostream>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

#include "opifex/core/base/text.hpp"

#include "command.hpp"
#include "help.hpp"

namespace opifex::cli {

extern const Command kIdentify, kDump, kRescue, kConvert, kMerge, kSplit, kRename, kCheck, kFiles, kExtract, kBuild,
    kDemo, kFormats, kHelp, kVersion;

const std::vector<const Command*>& commands() {
  static const std::vector<const Command*> all = {&kIdentify, &kDump,   &kRescue,  &kConvert, &kMerge,
                                                  &kSplit,    &kRename, &kCheck,   &kFiles,   &kExtract,
                                                  &kBuild,    &kDemo,   &kFormats, &kHelp,    &kVersion};
  return all;
}

const Command* find_command(const std::string& name) {
  for (const Command* c : commands())
    if (name == c->name) return c;
  return nullptr;
}

void unknown_word(const std::string& what, const std::string& word, const std::vector<std::string>& known) {
  const std::string nearest = nearest_word(word, known);
  throw Error({.fault = Fault::usage,
               .code = "unknown_word",
               .what = fmt::format("there is no {} named {}", what, printable(word)),
               .hint = nearest.empty() ? fmt::format("one of {}", fmt::join(known, ", "))
                                       : fmt::format("did you mean {}?", nearest)});
}

po::options_description common_options() {
  po::options_description options;
  options.add_options()("json", po::bool_switch(), "result as one JSON document on stdout")(
      "quiet", po::bool_switch(), "no progress and no messages")("progress", po::bool_switch(),
                                                                 "progress even if stderr is no terminal")(
      "threads", po::value<unsigned>()->value_name("N"), "threads to use (default: all)")(
      "log", po::value<std::string>()->value_name("FILE"), "append what is done to a file")("help", po::bool_switch(),
                                                                                            "this help");
  return options;
}

namespace {

std::vector<std::string> option_names(const po::options_description& options) {
  std::vector<std::string> names;
  for (const auto& option : options.options()) names.push_back("--" + option->long_name());
  return names;
}

[[noreturn]] void usage_error(const Command& command, std::string what, std::string hint = {}) {
  if (hint.empty()) hint = fmt::format("opifex help {}", command.name);
  throw Error({.fault = Fault::usage, .code = "usage", .what = std::move(what), .hint = std::move(hint)});
}

po::variables_map parse(const Command& command, const std::vector<std::string>& words) {
  po::options_description own;
  if (command.declare) command.declare(own);
  own.add(common_options());
  po::options_description all;
  all.add(own).add_options()("words", po::value<std::vector<std::string>>());
  po::positional_options_description positional;
  positional.add("words", -1);
  po::variables_map values;
  namespace style = po::command_line_style;
  const int rules = style::allow_long | style::long_allow_next | style::long_allow_adjacent;
  try {
    const auto parsed = po::command_line_parser(words).options(all).positional(positional).style(rules).run();
    // "-1" as an unsigned number would be a very large one.
    for (const auto& option : parsed.options)
      for (const std::string& value : option.value)
        if (option.string_key != "offset" && option.string_key != "words" && value.size() > 1 && value[0] == '-' &&
            value[1] >= '0' && value[1] <= '9')
          usage_error(command, fmt::format("--{} takes no negative number", option.string_key));
    po::store(parsed, values);
    po::notify(values);
  } catch (const po::unknown_option& e) {
    const std::string nearest = nearest_word(e.get_option_name(), option_names(own));
    usage_error(command, fmt::format("{} has no option {}", command.name, printable(e.get_option_name())),
                nearest.empty() ? "" : fmt::format("did you mean {}?", nearest));
  } catch (const po::error& e) {
    usage_error(command, fmt::format("{}: {}", command.name, e.what()));
  }
  if (values["help"].as<bool>()) return values;
  const std::size_t count = values.count("words") != 0 ? values["words"].as<std::vector<std::string>>().size() : 0;
  if (count < command.words.least || count > command.words.most)
    usage_error(command, count == 0 ? fmt::format("{} needs {}", command.name, command.arguments)
                                    : fmt::format("{} takes {}, not {}", command.name,
                                                  *command.arguments ? command.arguments : "nothing more",
                                                  plural(count, "word")));
  return values;
}

int run_command(const Command& command, const std::vector<std::string>& words, std::stop_token stop) {
  const po::variables_map values = parse(command, words);
  if (values["help"].as<bool>()) {
    std::cout << command_help(command);
    return kDone;
  }
  Session session(command.name, values, std::move(stop));
  try {
    command.run(session);
  } catch (const Error& e) {
    session.failed(e);
  } catch (const std::filesystem::filesystem_error& e) {
    session.failed(Error({.fault = Fault::device,
                          .code = "file_system",
                          .what = "the file system refuses: " + e.code().message(),
                          .file = e.path1().string(),
                          .hint = "check the name and the permissions of the file and its folder"}));
  } catch (const std::bad_alloc&) {
    session.failed(Error({.fault = Fault::device, .code = "no_memory", .what = "there is not enough memory"}));
  } catch (const std::exception& e) {
    // A fault of ours; still a message and an exit code rather than a crash.
    session.failed(
        Error({.fault = Fault::device, .code = "internal", .what = fmt::format("internal fault: {}", e.what())}));
  }
  return session.finish();
}

}  // namespace

int dispatch(const std::vector<std::string>& words, std::stop_token stop) {
  try {
    if (words.empty()) {
      std::cout << overview();
      return kUsage;
    }
    std::string name = words.front();
    if (name == "--help" || name == "-h") name = "help";
    if (name == "--version") name = "version";
    const Command* command = find_command(name);
    if (!command) {
      std::vector<std::string> known;
      for (const Command* c : commands()) known.emplace_back(c->name);
      unknown_word("command", name, known);
    }
    return run_command(*command, {words.begin() + 1, words.end()}, std::move(stop));
  } catch (const Error& e) {
    std::cout << std::flush;
    std::cerr << "opifex: " << e.what() << "\n";
    if (std::find(words.begin(), words.end(), "--json") != words.end()) {
      report::DocumentPrinter(std::cout, words.front())
          .finish(report::Json::array({report::to_json(e.details, exit_code(e.details.fault))}));
    }
    return exit_code(e.details.fault);
  }
}

}  // namespace opifex::cli
