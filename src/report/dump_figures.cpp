// What came out of a drive, drawn.
#include <algorithm>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/dump.hpp"
#include "opifex/core/jobs/rescue.hpp"
#include "opifex/report/figures.hpp"

#include "gnuplot.hpp"
#include "sector_figures.hpp"

namespace opifex::report {
namespace {

using dump::DumpPlan;
using dump::DumpResult;

std::string title_of_disc(const DumpPlan& plan) { return disc_title(plan.medium.identity, plan.medium.name); }

std::vector<Mark> marks_on(const DumpPlan& plan) {
  std::vector<Mark> marks = marks_of(plan.layout);
  if (plan.medium.layer_break > 0) {
    marks.push_back({0, "layer 0"});
    marks.push_back({static_cast<std::int64_t>(plan.medium.layer_break), "layer 1"});
  }
  return marks;
}

std::vector<ToneRange> ranges_of(const SectorMap& map) {
  std::vector<ToneRange> ranges;
  for (const StateRange& r : map.ranges())
    if (r.state != SectorState::outside) ranges.push_back({r.first, r.end, tone_of(r.state), ""});
  return ranges;
}

/// Only what is not as it should be: on a bar the rest is background.
std::vector<ToneRange> flaws_of(const std::vector<ToneRange>& ranges) {
  std::vector<ToneRange> flaws;
  for (const ToneRange& r : ranges)
    if (r.tone > Tone::good) flaws.push_back(r);
  return flaws;
}

Figure layout_figure(const DumpPlan& plan, const DumpResult& result, const std::vector<ToneRange>& ranges) {
  std::vector<Layer> layers = layers_of(plan.layout);
  if (plan.layout.tracks.empty()) layers.clear();
  if (plan.medium.layer_break > 0) {
    const auto at = static_cast<std::int64_t>(plan.medium.layer_break);
    layers.push_back({"layers", {{0, at, Tone::data, "layer 0"}, {at, result.map.map.end(), Tone::music, "layer 1"}}});
  }
  layers.push_back({"damage", flaws_of(ranges)});
  return bar_figure("Layout of " + title_of_disc(plan), {result.map.map.first(), result.map.map.end()}, layers);
}

Figure speed_figure(const DumpPlan& plan, const DumpResult& result) {
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
  std::string body =
      "set xlabel \"sector (LBA)\"\nset ylabel \"MB/s, by the drive's clock\"\nset y2label \"x\"\nset grid ytics lc "
      "rgb \"#d0d0d0\"\nset ytics nomirror\nset y2tics\nunset key\nset format x \"%.0f\"\n";
  const double top = std::max(most * 1.15, 100.0) / 1000;
  body += fmt::format("set yrange [0:{}]\nset y2range [0:{}]\nset xrange [{}:{}]\n", top, top * 1000 / one_x,
                      result.map.map.first(), result.map.map.end());
  int label = 0;
  for (const Mark& m : marks_on(plan)) {
    ++label;
    body += fmt::format("set arrow {} from first {}, graph 0 to first {}, graph 1 nohead dt 3 lc rgb \"#808080\"\n",
                        label, m.lba, m.lba);
    body += fmt::format("set label {} {} at first {}, graph 0.97 left offset 0.4,0 font \",9\"\n", label,
                        in_quotes(m.text), m.lba);
  }
  body +=
      fmt::format("plot data using 1:($2/1000) with linespoints pt 7 ps 0.4 lw 2 lc rgb \"#{:06X}\"", series_rgb(0));
  const std::string title = "Reading speed over " + title_of_disc(plan);
  return {"reading-speed", title, fmt::format("{}: at most {:.1f} MB/s.", title, most / 1000), data, body};
}

Figure readings_figure(const DumpPlan& plan, const DumpResult& result) {
  std::map<unsigned, std::pair<std::uint64_t, std::uint64_t>> bars;  // recovered, given up
  std::uint64_t sum = 0;
  for (const auto& [readings, sectors] : result.stats.readings) bars[readings].first += sectors, sum += sectors;
  for (const auto& [readings, sectors] : result.stats.given_up) bars[readings].second += sectors, sum += sectors;
  std::string data = "# readings recovered given_up\n";
  for (const auto& [readings, bar] : bars) data += fmt::format("{} {} {}\n", readings, bar.first, bar.second);
  const std::string title =
      fmt::format("How often the {} damaged sectors of {} were read", grouped(sum), title_of_disc(plan));
  std::string body = "set xlabel \"readings, until the sector was good or given up\"\nset ylabel \"sectors\"\n";
  body += "set style fill solid\nset boxwidth 0.8\nset grid ytics lc rgb \"#d0d0d0\"\nset key top left Left reverse\n";
  if (sum == 0) {
    data += "1 0 0\n";
    body += "set yrange [0:1]\nset xrange [0:10]\n";
    body += "set label \"no sector needed a second try\" at graph 0.5,0.5 center\n";
  } else {
    body += fmt::format("set yrange [0:*]\nset xrange [0:{}]\nset xtics 1\n", std::max(10u, bars.rbegin()->first + 1));
  }
  body += fmt::format(
      "plot data using 1:($2+$3) with boxes lc rgb \"#{:06X}\" title \"given up\", data using 1:2 with boxes "
      "lc rgb \"#{:06X}\" title \"recovered\"",
      shade(Tone::lost).rgb, shade(Tone::good).rgb);
  return {"readings", title, title + ".", data, body};
}

}  // namespace

Figures dump_figures(const DumpPlan& plan, const DumpResult& result) {
  const std::vector<ToneRange> ranges = ranges_of(result.map.map);
  const DiscRange disc{result.map.map.first(), result.map.map.end()};
  Figures figures = {layout_figure(plan, result, ranges),
                     map_figure("Sectors of " + title_of_disc(plan), disc, ranges, marks_on(plan)),
                     speed_figure(plan, result), readings_figure(plan, result)};
  for (Figure& f : suffered_figures(title_of_disc(plan), result.suffered)) figures.push_back(std::move(f));
  return figures;
}

Figures rescue_figures(const jobs::Rescued& rescued) {
  const RescueResult& r = rescued.rescue;
  const std::string title = disc_title(identify_platform(r.image), r.image.path.filename().string());
  std::vector<ToneRange> ranges = ranges_of(r.map), sources;
  for (const RescueRange& range : r.ranges) {
    const Tone tone = range.how == RescueHow::agreed     ? Tone::good
                      : range.how == RescueHow::taken    ? Tone::taken
                      : range.how == RescueHow::repaired ? Tone::mended
                      : range.how == RescueHow::combined ? Tone::combined
                      : range.how == RescueHow::unsure   ? Tone::unsure
                      : range.how == RescueHow::conflict ? Tone::wrong
                                                         : Tone::lost;
    sources.push_back({range.first, range.end, tone, ""});
  }
  const DiscRange disc{r.map.first(), r.map.end()};
  std::vector<Layer> layers;
  if (r.image.cd()) layers = layers_of(r.image.cd()->layout());
  for (std::size_t input = 0; input < std::min<std::size_t>(rescued.inputs.size(), 8); ++input) {
    Layer layer{fmt::format("dump {}", input + 1), {}};
    for (const RescueRange& range : r.ranges)
      if (std::find(range.inputs.begin(), range.inputs.end(), input) == range.inputs.end())
        layer.ranges.push_back({range.first, range.end, Tone::other, ""});
    layers.push_back(std::move(layer));
  }
  layers.push_back({"result", flaws_of(sources)});
  Figures figures = {bar_figure("Which dump of " + title + " lacks what", disc, layers),
                     map_figure("Sectors of the rescued " + title, disc, ranges,
                                r.image.cd() ? marks_of(r.image.cd()->layout()) : std::vector<Mark>{})};
  std::vector<DiscRange> lost;
  for (const RescueRange& range : r.ranges)
    if (range.how == RescueHow::lost) lost.push_back({range.first, range.end});
  if (!lost.empty())
    for (Figure& f : suffered_figures(title, FileMap(r.image).suffered(lost))) figures.push_back(std::move(f));
  return figures;
}

}  // namespace opifex::report
