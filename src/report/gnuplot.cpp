#include "gnuplot.hpp"

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <exception>
#include <tuple>

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::report {

namespace fs = std::filesystem;

std::string in_quotes(const std::string& text, std::size_t most) {
  std::string out = "'";
  for (const char c : short_text(text, most)) out += c == '\'' ? "\u2019" : std::string(1, c);
  return out + "'";
}

std::string short_text(const std::string& text, std::size_t most) {
  std::string shown = printable(text);
  if (shown.size() <= most) return shown;
  std::string head = shown.substr(0, most / 2), tail = shown.substr(shown.size() - most / 2);
  while (!head.empty() && !is_utf8(head)) head.pop_back();
  while (!tail.empty() && !is_utf8(tail)) tail.erase(0, 1);
  return head + "..." + tail;
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

/// What gnuplot says goes here, and not to the user's terminal.
fs::path complaints_of(const fs::path& folder, const std::string& script) { return folder / (script + ".err"); }

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
  const std::string complaints = complaints_of(folder, script).string();
  ::posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, complaints.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
  Drawing drawing{0, script};
  const int failed = ::posix_spawnp(&drawing.child, "gnuplot", &actions, nullptr, arguments.data(), environ);
  ::posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) no_figure(script, std::generic_category().message(failed));
  return drawing;
}

void end_drawing(const fs::path& folder, const Drawing& drawing) {
  int status = 0;
  while (::waitpid(drawing.child, &status, 0) < 0 && errno == EINTR) continue;
  const fs::path complaints = complaints_of(folder, drawing.script);
  std::string said(as_text(read_up_to(*open_file(complaints), 0, 300)));
  fs::remove(complaints);
  if (WIFSIGNALED(status)) no_figure(drawing.script, fmt::format("signal {}", WTERMSIG(status)));
  if (WEXITSTATUS(status) == 0) return;
  std::replace(said.begin(), said.end(), '\n', ' ');
  no_figure(drawing.script, fmt::format("exit status {}: {}", WEXITSTATUS(status), printable(trim(said))));
}

/// A full drive does not stop gnuplot.
void require_whole(const fs::path& folder, const Figure& figure) {
  constexpr std::size_t kTail = 16;
  for (const auto& [extension, end] : {std::pair(".png", "IEND"), std::pair(".svg", "</svg>")}) {
    const SourcePtr file = open_file(folder / (figure.name + extension));
    const Bytes tail = read_up_to(*file, file->size() - std::min<std::uint64_t>(kTail, file->size()), kTail);
    if (as_text(tail).find(end) == std::string_view::npos) no_figure(figure.name + extension, "a file that is cut");
  }
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
    guarded([&] { end_drawing(folder, first); });
  };
  for (const Figure& figure : figures) {
    write_whole_file(folder / (figure.name + ".dat"), figure.data, Existing::keep);
    write_whole_file(folder / (figure.name + ".gp"), script_of(figure), Existing::keep);
    if (running.size() == kAtOnce) end_first();
    guarded([&] { running.push_back(begin_drawing(folder, figure.name + ".gp")); });
  }
  while (!running.empty()) end_first();
  for (const Figure& figure : figures)
    if (!failure) guarded([&] { require_whole(folder, figure); });
  if (failure) std::rethrow_exception(failure);
}

}  // namespace opifex::report
