// Runs the command lines of tests/e2e/cases/, which are data.
#include <sstream>

#include "program.hpp"

namespace opifex::testkit {
namespace {

struct CommandLine {
  std::string line;  // of the command, as written
  std::vector<std::string> words;
  int exit_code = -1;
  std::vector<std::string> out, err, created;
};

/// Words as a shell takes them apart; single quotes only.
std::vector<std::string> shell_words(const std::string& line) {
  std::vector<std::string> words;
  std::string word;
  bool quoted = false, any = false;
  for (const char c : line) {
    if (c == '\'') {
      quoted = !quoted;
      any = true;
    } else if (c == ' ' && !quoted) {
      if (any || !word.empty()) words.push_back(word);
      word.clear();
      any = false;
    } else {
      word += c;
    }
  }
  if (any || !word.empty()) words.push_back(word);
  return words;
}

std::vector<CommandLine> cases_of(const fs::path& file) {
  std::vector<CommandLine> cases;
  std::istringstream lines(read_file(file));
  const auto after = [](const std::string& line, const std::string& key) { return line.substr(key.size()); };
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("$ opifex")) {
      cases.push_back({line, shell_words(after(line, "$ opifex")), -1, {}, {}, {}});
    } else if (line.empty() || line.starts_with('#')) {
      continue;
    } else if (cases.empty()) {
      ADD_FAILURE() << file << " begins with " << line;
    } else if (line.starts_with("exit ")) {
      cases.back().exit_code = std::stoi(after(line, "exit "));
    } else if (line.starts_with("out ")) {
      cases.back().out.push_back(after(line, "out "));
    } else if (line.starts_with("err ")) {
      cases.back().err.push_back(after(line, "err "));
    } else if (line.starts_with("new ")) {
      cases.back().created.push_back(after(line, "new "));
    } else {
      ADD_FAILURE() << file << ": what is " << line;
    }
  }
  return cases;
}

class CasesTest : public Program {};

TEST_F(CasesTest, EndAsTheyAreWritten) {
  const std::vector<CommandLine> cases = cases_of(fs::path(OPIFEX_SOURCE) / "tests/e2e/cases/mistakes.txt");
  ASSERT_GT(cases.size(), 40u);
  make_workshop();
  for (const CommandLine& c : cases) {
    const auto before = listing(folder.path());
    const Outcome run = cli(c.words);
    const std::string said = c.line + "\n" + run.out + run.err;
    EXPECT_EQ(run.exit_code, c.exit_code) << said;
    for (const std::string& part : c.out) EXPECT_TRUE(contains(run.out, part)) << part << "\n" << said;
    for (const std::string& part : c.err) EXPECT_TRUE(contains(run.err, part)) << part << "\n" << said;
    const auto after = listing(folder.path());
    std::vector<std::string> created;
    for (const auto& [name, size] : after)
      if (!before.contains(name)) created.push_back(name);
    EXPECT_EQ(created, c.created) << said;
    for (const std::string& name : created) fs::remove(*this / name);
    // An error is at most three lines, and a wrong command line says nothing on stdout.
    if (run.exit_code != 2 || c.words.empty()) continue;
    EXPECT_LE(std::count(run.err.begin(), run.err.end(), '\n'), 3) << said;
    EXPECT_EQ(run.out, "") << said;
  }
}

}  // namespace
}  // namespace opifex::testkit
