#include "opifex/report/figures.hpp"

#include <algorithm>
#include <array>
#include <map>

#include "opifex/core/base/text.hpp"

#include "gnuplot.hpp"

namespace opifex::report {
namespace {

namespace fs = std::filesystem;
using dump::DumpPlan;
using dump::DumpResult;

/// Worst last: a cell of many sectors shows the worst of them.
struct StateColour {
  SectorState state;
  const char* name;
  unsigned rgb;
};
constexpr std::array kColours = {
    StateColour{SectorState::good, "good", 0x4C9F70},
    StateColour{SectorState::audio_confirmed, "music, confirmed", 0x3F7CAC},
    StateColour{SectorState::runout, "run-out", 0x9AA5B1},
    StateColour{SectorState::retried, "good after retries", 0xC9D64F},
    StateColour{SectorState::repaired, "repaired", 0xF2C14E},
    StateColour{SectorState::combined, "combined", 0xF08A4B},
    StateColour{SectorState::audio_unsure, "music, unsure", 0x8E6BBF},
    StateColour{SectorState::bad_edc, "wrong checksum", 0xE4572E},
    StateColour{SectorState::hang, "drive hung", 0x6B1D1D},
    StateColour{SectorState::unreadable, "unreadable", 0xB3001B},
    StateColour{SectorState::untried, "not tried", 0x303030},
};

std::size_t rank(SectorState state) {
  for (std::size_t i = 0; i < kColours.size(); ++i)
    if (kColours[i].state == state) return i;
  return 0;
}

std::string disc_title(const DumpPlan& plan) {
  const Identity& id = plan.medium.identity;
  std::string title = id.title.empty() ? plan.medium.name : id.title;
  if (!id.serial.empty()) title += " (" + id.serial + ")";
  return title;
}

struct Mark {
  cd::Lba lba;
  std::string text;
};

std::vector<Mark> marks_of(const DumpPlan& plan) {
  std::vector<Mark> marks;
  for (const cd::Track& t : plan.layout.tracks) marks.push_back({t.start_lba, fmt::format("track {}", t.number)});
  if (plan.medium.layer_break > 0) {
    marks.push_back({0, "layer 0"});
    marks.push_back({static_cast<cd::Lba>(plan.medium.layer_break), "layer 1"});
  }
  return marks;
}

fs::path draw_map(const DumpPlan& plan, const DumpResult& result, const FigureRequest& request) {
  constexpr int kColumns = 100, kMostRows = 40;
  const SectorMap& map = result.map.map;
  const std::int64_t total = map.end() - map.first();
  const std::int64_t each = std::max<std::int64_t>(1, (total + kColumns * kMostRows - 1) / (kColumns * kMostRows));
  const std::int64_t cells = (total + each - 1) / each, rows = (cells + kColumns - 1) / kColumns;
  std::vector<int> worst(static_cast<std::size_t>(cells), -1);
  for (const StateRange& r : map.ranges()) {
    if (r.state == SectorState::outside) continue;
    for (std::int64_t c = (r.first - map.first()) / each; c <= (r.end - 1 - map.first()) / each; ++c)
      worst[static_cast<std::size_t>(c)] =
          std::max(worst[static_cast<std::size_t>(c)], static_cast<int>(rank(r.state)));
  }
  std::string data = "# column row colour first_lba state\n";
  std::map<int, bool> used;
  for (std::int64_t c = 0; c < cells; ++c) {
    const int w = worst[static_cast<std::size_t>(c)];
    if (w < 0) continue;
    used[w] = true;
    const StateColour& colour = kColours[static_cast<std::size_t>(w)];
    data += fmt::format("{} {} {} {} {}\n", c % kColumns, c / kColumns, colour.rgb, map.first() + c * each,
                        to_string(colour.state));
  }
  std::string body = fmt::format("set title {} font \",14\"\n", quoted("Sectors of " + disc_title(plan)));
  body += fmt::format("set xrange [-0.6:{}]\nset yrange [{}:-0.6]\n", kColumns - 0.4, static_cast<double>(rows) - 0.4);
  body += "unset xtics\nset border 0\nset lmargin 12\nset bmargin 6\n";
  body += "set key at screen 0.5, screen 0.05 center horizontal Left reverse samplen 1 width 2\n";
  const std::string cell_text = each == 1 ? "each cell is a sector"
                                          : fmt::format("each cell stands for {} sectors and shows the worst of them",
                                                        grouped(static_cast<std::uint64_t>(each)));
  body += fmt::format("set xlabel \"{}; on the left the address a row begins with\"\n", cell_text);
  body += "set ytics scale 0 (";
  const std::int64_t step = std::max<std::int64_t>(1, rows / 16);
  for (std::int64_t r = 0; r < rows; r += step)
    body += fmt::format("{}\"{}\" {}", r > 0 ? ", " : "", map.first() + r * kColumns * each, r);
  body += ")\n";
  int label = 0;
  for (const Mark& m : marks_of(plan)) {
    const std::int64_t cell = (m.lba - map.first()) / each;
    if (cell < 0 || cell >= cells) continue;
    const std::int64_t x = cell % kColumns, y = cell / kColumns;
    ++label;
    body += fmt::format("set arrow {} from {},{} to {},{} nohead lw 2.5 lc rgb \"black\" front\n", label,
                        static_cast<double>(x) - 0.5, static_cast<double>(y) - 0.5, static_cast<double>(x) - 0.5,
                        static_cast<double>(y) + 0.5);
    body += fmt::format("set label {} {} at {},{} left front font \",9\" tc rgb \"black\"\n", label, quoted(m.text),
                        static_cast<double>(x) - 0.2, y);
  }
  body += fmt::format(
      "plot \"sector-map.dat\" using 1:2:(0.46):(0.46):3 with boxxyerror fillstyle solid noborder lc rgb variable "
      "notitle");
  for (const auto& [w, seen] : used)
    body += fmt::format(", NaN with points pt 5 ps 1.6 lc rgb \"#{:06X}\" title \"{}\"",
                        kColours[static_cast<std::size_t>(w)].rgb, kColours[static_cast<std::size_t>(w)].name);
  return draw(request, "sector-map", data, body, 1280, 760);
}

fs::path draw_speed(const DumpPlan& plan, const DumpResult& result, const FigureRequest& request) {
  const unsigned one_x = plan.medium.kind == dump::MediumKind::cd   ? dump::kCdSpeed
                         : plan.medium.kind == dump::MediumKind::bd ? dump::kBdSpeed
                                                                    : dump::kDvdSpeed;
  std::string data = "# lba kB/s\n";
  double most = 0;
  for (const dump::SpeedSample& s : result.stats.speeds) {
    data += fmt::format("{} {:.1f}\n", s.lba, s.kbs);
    most = std::max(most, s.kbs);
  }
  if (result.stats.speeds.empty()) data += "0 0\n";
  std::string body = fmt::format("set title {} font \",14\"\n", quoted("Reading speed over " + disc_title(plan)));
  body +=
      "set xlabel \"sector (LBA)\"\nset ylabel \"MB/s, by the drive's clock\"\nset y2label \"x\"\nset grid ytics lc "
      "rgb \"#d0d0d0\"\nset ytics nomirror\nset y2tics\nunset key\nset format x \"%.0f\"\n";
  const double top = std::max(most * 1.15, 100.0) / 1000;
  body += fmt::format("set yrange [0:{}]\nset y2range [0:{}]\nset xrange [{}:{}]\n", top, top * 1000 / one_x,
                      result.map.map.first(), result.map.map.end());
  int label = 0;
  for (const Mark& m : marks_of(plan)) {
    ++label;
    body += fmt::format("set arrow {} from first {}, graph 0 to first {}, graph 1 nohead dt 3 lc rgb \"#808080\"\n",
                        label, m.lba, m.lba);
    body += fmt::format("set label {} {} at first {}, graph 0.97 left offset 0.4,0 font \",9\"\n", label,
                        quoted(m.text), m.lba);
  }
  body += "plot \"reading-speed.dat\" using 1:($2/1000) with linespoints pt 7 ps 0.4 lw 2 lc rgb \"#3F7CAC\"";
  return draw(request, "reading-speed", data, body, 1280, 480);
}

fs::path draw_readings(const DumpPlan& plan, const DumpResult& result, const FigureRequest& request) {
  std::map<unsigned, std::pair<std::uint64_t, std::uint64_t>> bars;  // recovered, given up
  std::uint64_t sum = 0;
  for (const auto& [readings, sectors] : result.stats.readings) bars[readings].first += sectors, sum += sectors;
  for (const auto& [readings, sectors] : result.stats.given_up) bars[readings].second += sectors, sum += sectors;
  std::string data = "# readings recovered given_up\n";
  for (const auto& [readings, bar] : bars) data += fmt::format("{} {} {}\n", readings, bar.first, bar.second);
  const std::string title =
      fmt::format("How often the {} damaged sectors of {} were read", grouped(sum), disc_title(plan));
  std::string body = fmt::format("set title {} font \",14\"\n", quoted(title));
  body += "set xlabel \"readings, until the sector was good or given up\"\nset ylabel \"sectors\"\n";
  body += "set style fill solid\nset boxwidth 0.8\nset grid ytics lc rgb \"#d0d0d0\"\nset key top left Left reverse\n";
  if (sum == 0) {
    data += "1 0 0\n";
    body += "set yrange [0:1]\nset xrange [0:10]\n";
    body += "set label \"no sector needed a second try\" at graph 0.5,0.5 center\n";
  } else {
    body += fmt::format("set yrange [0:*]\nset xrange [0:{}]\nset xtics 1\n", std::max(10u, bars.rbegin()->first + 1));
  }
  body += "plot \"readings.dat\" using 1:($2+$3) with boxes lc rgb \"#B3001B\" title \"given up\", ";
  body += "\"readings.dat\" using 1:2 with boxes lc rgb \"#4C9F70\" title \"recovered\"";
  return draw(request, "readings", data, body, 1280, 480);
}

}  // namespace

std::vector<fs::path> dump_figures(const fs::path& folder) {
  std::vector<fs::path> files;
  for (const char* name : {"sector-map", "reading-speed", "readings"})
    for (fs::path& file : files_of(folder, name)) files.push_back(std::move(file));
  return files;
}

std::vector<fs::path> draw_dump(const DumpPlan& plan, const DumpResult& result, const FigureRequest& request) {
  return {draw_map(plan, result, request), draw_speed(plan, result, request), draw_readings(plan, result, request)};
}

}  // namespace opifex::report
