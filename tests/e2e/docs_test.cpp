// What the documents say is run here.
#include <functional>
#include <regex>
#include <set>
#include <sstream>

#include "program.hpp"

namespace opifex::testkit {
namespace {

class DocsTest : public Program {};

std::string document(const std::string& name) { return read_file(fs::path(OPIFEX_SOURCE) / name); }

TEST_F(DocsTest, TheReadmesSessionGivesWhatItShows) {
  make_workshop();
  // Blocks of ```console: lines that begin with "$ opifex" are run; what follows is their output.
  const std::string readme = document("README.md");
  const std::regex block("```console\n([^`]*)```");
  int commands = 0;
  for (std::sregex_iterator b(readme.begin(), readme.end(), block), end; b != end; ++b) {
    std::istringstream lines((*b)[1]);
    std::string command, expected, line;
    const auto run = [&] {
      if (command.empty()) return;
      ++commands;
      const Outcome done = run_program(
          "sh", {"-c", std::regex_replace(command, std::regex("^opifex"), std::string("'") + OPIFEX_PROGRAM + "'")},
          folder.path());
      EXPECT_EQ(done.out + done.err, expected) << command;
    };
    while (std::getline(lines, line)) {
      if (line.starts_with("$ ")) {
        run();
        command = line.substr(2);
        expected.clear();
      } else {
        expected += line + "\n";
      }
    }
    run();
  }
  EXPECT_GE(commands, 3);
}

TEST_F(DocsTest, EveryCommandAndOptionIsInTheManual) {
  const std::string manual =
      std::regex_replace(read_file(fs::path(OPIFEX_PAGES) / "opifex.1"), std::regex("\\\\-"), "-");
  const Outcome overview = cli({"help"});
  std::istringstream lines(overview.out);
  const std::regex command("^  ([a-z]+) +"), option("^  (--[a-z0-9-]+)");
  std::smatch match;
  int commands = 0, options = 0;
  for (std::string line; std::getline(lines, line);) {
    if (!std::regex_search(line, match, command)) continue;
    ++commands;
    const std::string name = match[1];
    EXPECT_TRUE(contains(manual, name)) << name;
    std::istringstream help(cli({"help", name}).out);
    for (std::string h; std::getline(help, h);) {
      if (!std::regex_search(h, match, option)) continue;
      ++options;
      EXPECT_TRUE(contains(manual, match[1])) << name << " " << match[1];
    }
  }
  EXPECT_GE(commands, 10);
  EXPECT_GE(options, 20);
}

TEST_F(DocsTest, EveryKeyOfTheJsonIsDocumented) {
  make_workshop();
  const std::string manual = document("docs/json.md");
  std::vector<nlohmann::json> documents = {cli({"identify", moth, "--json"}).json(),
                                           cli({"check", moth, "--json"}).json(),
                                           cli({"convert", kestrel2, "--to", "iso", "--json"}).json(),
                                           cli({"rename", moth, "x", "--plan", "--json"}).json(),
                                           cli({"check", "absent", "--json"}).json(),
                                           cli({"convert", moth, "--to", "iso", "--plan", "--json"}).json()};
  std::set<std::string> keys;
  const std::function<void(const nlohmann::json&)> collect = [&](const nlohmann::json& j) {
    if (j.is_object())
      for (const auto& [key, value] : j.items()) {
        // Names of hashes, kinds and indexes are values in key's clothing.
        if (key == "hashes" || key == "kinds" || key == "indexes")
          keys.insert(key);
        else {
          keys.insert(key);
          collect(value);
        }
      }
    if (j.is_array())
      for (const auto& value : j) collect(value);
  };
  for (const auto& d : documents) collect(d);
  for (const std::string& key : keys) EXPECT_TRUE(contains(manual, "`" + key + "`")) << key;
  EXPECT_GT(keys.size(), 40u);
}

TEST_F(DocsTest, EveryLinkToAFileOfTheRepositoryHolds) {
  const std::regex link("\\]\\(([^)#:]+)\\)");
  for (const char* name : {"README.md", "docs/architecture.md", "docs/formats.md"}) {
    const std::string text = document(name);
    for (std::sregex_iterator i(text.begin(), text.end(), link), end; i != end; ++i) {
      const fs::path target = (fs::path(OPIFEX_SOURCE) / name).parent_path() / (*i)[1].str();
      EXPECT_TRUE(fs::exists(target)) << name << ": " << (*i)[1];
    }
  }
}

}  // namespace
}  // namespace opifex::testkit
