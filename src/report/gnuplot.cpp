#include "gnuplot.hpp"

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <exception>
#include <tuple>

#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::report {

namespace fs = std::filesystem;

std::string in_quotes(const std::string& text) {
  std::string out = "'";
  for (const char c : printable(text)) out += c == '\'' ? "''" : std::string(1, c);
  return out + "'";
}

std::string field(std::string_view text) {
  std::string out = printable(text);
  std::replace(out.begin(), out.end(), '"', '\'');
  return '"' + out + '"';
}

namespace {

/// A gnuplot that is drawing.
struct Drawing {
  pid_t child = 0;
  std::string script;
};

[[noreturn]] void no_figure(const std::string& script, std::string found) {
  throw Error({.fault = Fault::device,
               .code = "no_figure",
               .what = "gnuplot could not draw the figure",
               .file = script,
               .found = std::move(found),
               .hint = "install gnuplot-nox"});
}

Drawing begin_drawing(const fs::path& folder, const std::string& script) {
  std::string program = "gnuplot", argument = script;
  std::array<char*, 3> arguments = {program.data(), argument.data(), nullptr};
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
  Drawing drawing{0, script};
  const int failed = ::posix_spawnp(&drawing.child, "gnuplot", &actions, nullptr, arguments.data(), environ);
  ::posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) no_figure(script, std::generic_category().message(failed));
  return drawing;
}

void end_drawing(const Drawing& drawing) {
  int status = 0;
  while (::waitpid(drawing.child, &status, 0) < 0 && errno == EINTR) continue;
  if (WIFSIGNALED(status)) no_figure(drawing.script, fmt::format("signal {}", WTERMSIG(status)));
  if (WEXITSTATUS(status) != 0) no_figure(drawing.script, fmt::format("exit status {}", WEXITSTATUS(status)));
}

std::string script_of(const Figure& figure) {
  const auto& [width, height] = std::tie(figure.width, figure.height);
  std::string script =
      fmt::format("# drawn by gnuplot from the data beside it: gnuplot {0}.gp\ndata = '{0}.dat'\n", figure.name);
  const auto part = [&](const char* terminal, const char* extension) {
    script += fmt::format("set terminal {} size {},{} background rgb \"white\" font \"DejaVu Sans,11\"\n", terminal,
                          width, height);
    script += fmt::format("set output '{}.{}'\n{}{}\nunset output\nreset\n", figure.name, extension,
                          title_line(figure.title), figure.body);
  };
  part("pngcairo noenhanced", "png");
  part("svg noenhanced", "svg");
  return script;
}

}  // namespace

std::string title_line(const std::string& title) {
  return fmt::format("set title {} font \",14\"\n", in_quotes(title));
}

std::vector<std::string> files_of(const Figure& figure) {
  std::vector<std::string> files;
  for (const char* extension : {".dat", ".gp", ".svg", ".png"}) files.push_back(figure.name + extension);
  return files;
}

void draw(const fs::path& folder, const Figures& figures) {
  constexpr std::size_t kAtOnce = 4;  // most of a drawing's time is gnuplot's start
  std::vector<Drawing> running;
  std::exception_ptr failure;
  const auto guarded = [&](const auto& work) {
    try {
      work();
    } catch (const Error&) {
      if (!failure) failure = std::current_exception();
    }
  };
  const auto end_first = [&] {
    const Drawing first = running.front();
    running.erase(running.begin());
    guarded([&] { end_drawing(first); });
  };
  for (const Figure& figure : figures) {
    write_whole_file(folder / (figure.name + ".dat"), figure.data, Existing::keep);
    write_whole_file(folder / (figure.name + ".gp"), script_of(figure), Existing::keep);
    if (running.size() == kAtOnce) end_first();
    guarded([&] { running.push_back(begin_drawing(folder, figure.name + ".gp")); });
  }
  while (!running.empty()) end_first();
  if (failure) std::rethrow_exception(failure);
}

}  // namespace opifex::report
