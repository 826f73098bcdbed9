// The program at a terminal, into a pipe that closes, and stopped by Ctrl-C.
#include <csignal>
#include <thread>

#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/check/check.hpp"

#include "program.hpp"

extern char** environ;

namespace opifex::testkit {
namespace {

// Long enough to be drawn, and to be stopped in.
#if defined(__SANITIZE_ADDRESS__)
constexpr std::uint32_t kSectors = 1500;
#else
constexpr std::uint32_t kSectors = 4000;
#endif

class Terminal : public Program {
 protected:
  void disc(const std::string& where, const std::string& stem, std::uint32_t sectors, std::uint64_t seed) {
    fs::create_directories(*this / where);
    demo::write_disc({.stem = stem, .data_sectors = sectors, .seed = seed}, *this / where, demo::Files::one_bin,
                     Existing::replace);
  }

  unsigned short columns = 80;
  std::map<std::string, std::string> variables = {};  // of the program's environment

  struct Screen {
    int exit_code = -1;
    std::string bytes;  // everything that was written to the terminal
  };
  /// With stdin, stdout and stderr on a terminal of 80 columns; sends Ctrl-C once `until` has appeared.
  Screen at_terminal(std::vector<std::string> words, const std::string& until = {}) {
    words.insert(words.begin(), OPIFEX_PROGRAM);
    winsize size{.ws_row = 24, .ws_col = columns, .ws_xpixel = 0, .ws_ypixel = 0};
    int master = -1;
    const pid_t child = ::forkpty(&master, nullptr, nullptr, &size);
    if (child == 0) {
      if (::chdir(folder.path().c_str()) != 0) ::_exit(99);
      ::unsetenv("NO_COLOR");
      ::setenv("TERM", "xterm", 1);
      for (const auto& [name, value] : variables) ::setenv(name.c_str(), value.c_str(), 1);
      std::vector<char*> argv;
      for (std::string& word : words) argv.push_back(word.data());
      argv.push_back(nullptr);
      ::execv(OPIFEX_PROGRAM, argv.data());
      ::_exit(98);
    }
    Screen screen;
    bool stopped = false;
    std::array<char, 4096> buffer;
    for (ssize_t n = 0; (n = ::read(master, buffer.data(), buffer.size())) > 0;) {
      screen.bytes.append(buffer.data(), static_cast<std::size_t>(n));
      if (until.empty() || stopped || screen.bytes.find(until) == std::string::npos) continue;
      stopped = ::write(master, "\x03", 1) == 1;
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    ::close(master);
    screen.exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    return screen;
  }

  /// What a terminal shows in the end, of carriage returns, wiped lines and lines gone up.
  static std::vector<std::string> shown(const std::string& bytes) {
    std::vector<std::string> lines = {""};
    std::size_t row = 0, column = 0;
    for (std::size_t i = 0; i < bytes.size(); ++i) {
      if (bytes.compare(i, 3, "\033[K") == 0) {
        lines[row].resize(std::min(column, lines[row].size()));
        i += 2;
      } else if (bytes.compare(i, 4, "\033[1A") == 0) {
        row = row == 0 ? 0 : row - 1;
        i += 3;
      } else if (bytes[i] == '\r') {
        column = 0;
      } else if (bytes[i] == '\n') {
        if (++row == lines.size()) lines.emplace_back();
        column = 0;
      } else {
        if (lines[row].size() <= column) lines[row].resize(column + 1, ' ');
        lines[row][column++] = bytes[i];
      }
    }
    while (!lines.empty() && lines.back().empty()) lines.pop_back();
    return lines;
  }
};

constexpr const char* kGreen = "\x1B[32mintact\x1B[0m";

TEST_F(Terminal, StatesHaveColoursWhereThereAreColours) {
  disc(".", "game", 60, 1);
  const auto has_colours = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words = {"check", "game.cue"};
    words.insert(words.end(), more.begin(), more.end());
    const std::string bytes = at_terminal(words).bytes;
    EXPECT_TRUE(contains(bytes, "intact")) << bytes;
    return contains(bytes, kGreen);
  };
  EXPECT_TRUE(has_colours({}));
  EXPECT_TRUE(has_colours({"--color", "auto"}));
  EXPECT_FALSE(has_colours({"--color", "never"}));
  EXPECT_FALSE(has_colours({"--json", "--color", "always"})) << "JSON is for programs";
  variables = {{"NO_COLOR", "1"}};
  EXPECT_FALSE(has_colours({}));
  EXPECT_TRUE(has_colours({"--color", "always"})) << "the user's word is above the environment's";
  variables = {{"NO_COLOR", ""}};
  EXPECT_TRUE(has_colours({})) << "set, but empty";
  variables = {{"TERM", "dumb"}};
  EXPECT_FALSE(has_colours({}));
  EXPECT_FALSE(contains(cli({"check", "game.cue"}).out, "\x1B")) << "a pipe";
  EXPECT_TRUE(contains(cli({"check", "game.cue", "--color", "always"}).out, kGreen));
  EXPECT_EQ(cli({"check", "game.cue", "--color", "sometimes"}).exit_code, 2);
}

TEST_F(Terminal, TablesFitItsWidth) {
  const std::string folder_name = "a folder with quite a long name for games",
                    name = "Moth & Lantern, the rather long title of a disc";
  disc(folder_name, name, 60, 1);
  disc(folder_name, name + " 2", 60, 2);
  const auto widest = [&](const std::string& text) {
    std::size_t most = 0;
    for (std::size_t at = 0; at < text.size();) {
      const std::size_t end = std::min(text.size(), text.find('\n', at));
      most = std::max(most, end - at - (end > at && text[end - 1] == '\r'));
      at = end + 1;
    }
    return most;
  };
  const std::vector<std::string> words = {"identify", ".", "--quiet"};
  const std::string piped = cli(words).out;
  EXPECT_TRUE(contains(piped, folder_name + "/" + name)) << piped;
  EXPECT_GT(widest(piped), 100u) << "a pipe is as wide as it has to be";
  const std::string narrow = at_terminal(words).bytes;
  EXPECT_FALSE(contains(narrow, folder_name + "/" + name + ".cue"));
  EXPECT_TRUE(contains(narrow, "...")) << narrow;
  for (const std::string& line : shown(narrow))
    if (contains(line, "...")) {
      EXPECT_LE(line.size(), 80u) << line;
      EXPECT_TRUE(contains(line, ".cue")) << "the end of a path tells most: " << line;
    }
  columns = 250;
  EXPECT_TRUE(contains(at_terminal(words).bytes, folder_name + "/" + name));
}

TEST_F(Terminal, ProgressIsWipedAndTheResultStays) {
  disc("in", "A", kSectors, 1);
  disc("in", "B", kSectors, 2);
  const Screen screen = at_terminal({"convert", "in", "--to", "chd", "--effort", "fast", "--out", "out/"});
  EXPECT_EQ(screen.exit_code, 0) << screen.bytes;
  const auto lines = shown(screen.bytes);
  for (const std::string& line : lines) {
    EXPECT_EQ(line.find("s left"), std::string::npos) << "a rest of the progress line stays: " << line;
    EXPECT_EQ(line.find('\033'), std::string::npos) << line;
  }
  ASSERT_FALSE(lines.empty());
  EXPECT_TRUE(lines.back().starts_with("2 images written")) << lines.back();
}

TEST_F(Terminal, ABarForTheWholeAndALineForTheFile) {
  for (const char* name : {"A", "B", "C", "D"}) disc("in", name, kSectors, 3);
  const Screen screen = at_terminal({"convert", "in", "--to", "chd", "--effort", "fast", "--out", "out/"});
  EXPECT_EQ(screen.exit_code, 0);
  EXPECT_NE(screen.bytes.find(" of 4  "), std::string::npos) << "no bar was drawn";
  EXPECT_NE(screen.bytes.find("\033[1A"), std::string::npos) << "two lines are drawn";
}

TEST_F(Terminal, CtrlCKeepsWhatIsDoneAndTheSameCommandGoesOn) {
  for (const char* name : {"A", "B", "C", "D", "E", "F"}) disc("in", name, kSectors, 4);
  const Screen screen = at_terminal({"convert", "in", "--to", "chd", "--effort", "fast", "--out", "out/"}, "2/6");
  EXPECT_EQ(screen.exit_code, 130) << screen.bytes;
  const auto left = listing(*this / "out");
  EXPECT_GE(left.size(), 2u);
  EXPECT_LT(left.size(), 6u) << "it was not stopped in the middle";
  for (const auto& [name, size] : left) {
    EXPECT_TRUE(name.ends_with(".chd")) << "half a file was left: " << name;
    EXPECT_EQ(cli({"check", "out/" + name}).exit_code, 0) << name;
  }
  const Outcome again =
      cli({"convert", "in", "--to", "chd", "--effort", "fast", "--out", "out/", "--skip-existing", "--json"});
  EXPECT_EQ(again.exit_code, 0) << again.err;
  EXPECT_EQ(again.json()["summary"]["there_already"].size(), left.size());
  EXPECT_EQ(again.json()["summary"]["done"].size(), 6 - left.size());
}

TEST_F(Terminal, AClosedPipeEndsQuietly) {
  make_workshop();
  for (const char* command : {"identify .", "check .", "files 'Moth & Lantern.cue'", "formats", "help convert"}) {
    const Outcome run = run_program("/bin/bash",
                                    {"-c", std::string("set -o pipefail; '") + OPIFEX_PROGRAM + "' " + command +
                                               " | head -c 1 > /dev/null; echo ${PIPESTATUS[0]}"},
                                    folder.path());
    const int code = std::stoi(run.out);
    EXPECT_LT(code, 128) << command << " ended by a signal";
    EXPECT_EQ(run.err.find("internal"), std::string::npos) << run.err;
  }
}

}  // namespace
}  // namespace opifex::testkit
