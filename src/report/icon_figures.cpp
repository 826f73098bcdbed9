// The icons of a memory card's saves, as their console shows them, large.
#include <algorithm>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/files.hpp"
#include "opifex/report/figures.hpp"

#include "gnuplot.hpp"

namespace opifex::report {
namespace {

constexpr unsigned kEdge = 16, kFrames = 3, kGap = 2, kAcross = 4;
constexpr double kCellWidth = kFrames * (kEdge + kGap) + 6, kCellHeight = kEdge + 13;

struct ShownSave {
  const VolumeEntry* entry;
  std::size_t number;
  double x() const { return static_cast<double>(number % kAcross) * kCellWidth; }
  double y() const { return static_cast<double>(number / kAcross) * kCellHeight; }
};

std::vector<ShownSave> saves_of(const jobs::Listed& listed) {
  std::vector<ShownSave> saves;
  for (const Volume& v : listed.volumes)
    for (const VolumeEntry& e : v.entries)
      if (e.facts && !e.facts->icons.empty()) saves.push_back({&e, saves.size()});
  return saves;
}

/// A line for each pixel that is not transparent: its place and its colour.
void add_pixels(const ShownSave& save, std::string& data) {
  for (std::size_t frame = 0; frame < save.entry->facts->icons.size(); ++frame) {
    const Bytes& icon = save.entry->facts->icons[frame];
    for (unsigned i = 0; i < kEdge * kEdge; ++i) {
      if (icon[i * 4 + 3] == std::byte{0}) continue;
      const unsigned rgb = std::to_integer<unsigned>(icon[i * 4]) << 16 |
                           std::to_integer<unsigned>(icon[i * 4 + 1]) << 8 | std::to_integer<unsigned>(icon[i * 4 + 2]);
      data += fmt::format("{} {} {} # {}\n", save.x() + static_cast<double>(frame * (kEdge + kGap) + i % kEdge),
                          save.y() + i / kEdge, rgb, printable(save.entry->path));
    }
  }
}

/// A title in lines that fit below three frames.
std::string label_lines(const std::string& text) {
  constexpr std::size_t kMost = 26;
  return text.size() <= kMost ? text : shortened(text, kMost - 3, kMost - 3) + "...";
}

std::string title_of(const ShownSave& save) {
  const EntryFacts& f = *save.entry->facts;
  return f.plain_title.empty() ? save.entry->path : f.plain_title;
}

void add_labels(const ShownSave& save, std::string& body) {
  const EntryFacts& f = *save.entry->facts;
  const std::string title = title_of(save);
  const auto label = [&](const std::string& text, double down, const char* font) {
    body += fmt::format("set label {} at {},{} left noenhanced font \",{}\"\n", in_quotes(label_lines(text)), save.x(),
                        save.y() + kEdge + down, font);
  };
  label(title, 2.2, "12");
  label(fmt::format("{}, {}", printable(f.code.empty() ? save.entry->path : f.code), plural(f.blocks, "block")), 5.4,
        "10");
}

}  // namespace

Figures icon_figures(const jobs::Listed& listed) {
  const std::vector<ShownSave> saves = saves_of(listed);
  if (saves.empty()) return {};
  std::string data = "# x y colour\n";
  std::string body, titles;
  for (const ShownSave& save : saves) {
    for (std::size_t frame = 0; frame < save.entry->facts->icons.size(); ++frame) {
      const double x = save.x() + static_cast<double>(frame * (kEdge + kGap));
      body += fmt::format("set object rectangle from {},{} to {},{} fc rgb \"#e8eaee\" fs solid noborder behind\n",
                          x - 0.5, save.y() - 0.5, x + kEdge - 0.5, save.y() + kEdge - 0.5);
    }
    add_pixels(save, data);
    add_labels(save, body);
    titles += (titles.empty() ? "" : "; ") + title_of(save);
  }
  const auto rows = static_cast<double>((saves.size() + kAcross - 1) / kAcross);
  const auto columns = static_cast<double>(std::min<std::size_t>(saves.size(), kAcross));
  body += fmt::format("set xrange [-3:{}]\nset yrange [{}:-3]\n", columns * kCellWidth, rows * kCellHeight);
  body += "unset xtics\nunset ytics\nset border 0\nunset key\nset size ratio -1\n";
  body += "plot data using 1:2:(0.54):(0.54):3 with boxxyerror fillstyle solid noborder lc rgb variable\n";
  const std::string title = listed.image.path.filename().string() + ", " + plural(saves.size(), "save");
  const int height = std::max(320, static_cast<int>(rows * kCellHeight * 5.4) + 60);
  return {{"icons", title, fmt::format("{}: {}.", printable(title), printable(titles)), data, body, 1280, height}};
}

}  // namespace opifex::report
