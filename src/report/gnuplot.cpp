#include "gnuplot.hpp"

#include <array>
#include <cerrno>
#include <cstdlib>

#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/journal.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::report {

namespace fs = std::filesystem;

std::string quoted(const std::string& text) {
  std::string out = "'";
  for (const char c : printable(text)) out += c == '\'' ? "''" : std::string(1, c);
  return out + "'";
}

namespace {

/// A folder below the report's own, gone with all that is in it when this is.
class DrawingFolder {
 public:
  explicit DrawingFolder(const fs::path& report) {
    std::error_code error;
    fs::create_directories(report, error);
    std::string name = (report / ".opifex-drawing-XXXXXX").string();
    if (!::mkdtemp(name.data())) throw_system_error("cannot draw into this folder", report.string(), errno);
    path_ = name;
  }
  DrawingFolder(const DrawingFolder&) = delete;
  DrawingFolder& operator=(const DrawingFolder&) = delete;
  ~DrawingFolder() {
    std::error_code ignored;
    fs::remove_all(path_, ignored);
  }
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
};

void run_gnuplot(const fs::path& folder, const std::string& script) {
  const auto fail = [&](std::string found) {
    throw Error({.fault = Fault::device,
                 .code = "no_figure",
                 .what = "gnuplot could not draw the figure",
                 .file = script,
                 .found = std::move(found),
                 .hint = "install gnuplot-nox"});
  };
  std::string program = "gnuplot", argument = script;
  std::array<char*, 3> arguments = {program.data(), argument.data(), nullptr};
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
  pid_t child = 0;
  const int failed = ::posix_spawnp(&child, "gnuplot", &actions, nullptr, arguments.data(), environ);
  ::posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) fail(std::generic_category().message(failed));
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) continue;
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0) fail(fmt::format("exit status {}", WEXITSTATUS(status)));
}

}  // namespace

std::vector<fs::path> files_of(const fs::path& folder, const std::string& name) {
  std::vector<fs::path> files;
  for (const char* extension : {".dat", ".gp", ".svg", ".png"}) files.push_back(folder / (name + extension));
  return files;
}

fs::path draw(const FigureRequest& request, const std::string& name, const std::string& data, const std::string& body,
              int width, int height) {
  const DrawingFolder drawing(request.folder);
  const auto written = files_of(drawing.path(), name), targets = files_of(request.folder, name);
  refuse_existing(targets, request.inputs, request.existing);
  write_whole_file(written[0], data, Existing::keep);
  std::string script = fmt::format("# drawn by gnuplot from the data beside it: gnuplot {}.gp\n", name);
  const auto part = [&](const char* terminal, const char* extension) {
    script += fmt::format("set terminal {} size {},{} background rgb \"white\" font \"DejaVu Sans,11\"\n", terminal,
                          width, height);
    script += fmt::format("set output '{}.{}'\n{}\nunset output\nreset\n", name, extension, body);
  };
  part("pngcairo noenhanced", "png");
  part("svg noenhanced", "svg");
  write_whole_file(written[1], script, Existing::keep);
  run_gnuplot(drawing.path(), name + ".gp");
  std::vector<Placing> placings;
  for (std::size_t i = 0; i < written.size(); ++i) {
    fs::path aside = request.existing == Existing::replace ? fs::path(targets[i].string() + ".opifex-old") : fs::path();
    placings.push_back({written[i], targets[i], std::move(aside)});
  }
  place_together(placings);
  return targets.back();
}

}  // namespace opifex::report
