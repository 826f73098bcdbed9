// How dense an image is from its beginning to its end, and how a container stores it.
#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/density.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/report/figures.hpp"

#include "bar_rows.hpp"
#include "gnuplot.hpp"
#include "sector_figures.hpp"

namespace opifex::report {
namespace {

constexpr std::size_t kStretches = 240;

std::size_t number_of(std::vector<std::string>& codecs, const std::string& codec) {
  const auto at = std::find(codecs.begin(), codecs.end(), codec);
  if (at != codecs.end()) return static_cast<std::size_t>(at - codecs.begin());
  codecs.push_back(codec);
  return codecs.size() - 1;
}

double percent(std::uint64_t part, std::uint64_t whole) {
  return whole == 0 ? 0 : 100.0 * static_cast<double>(part) / static_cast<double>(whole);
}

Figure along_figure(const std::string& name, const std::vector<ContainerStretch>& stretches,
                    std::vector<std::string>& codecs) {
  Figure figure{.name = "compression", .title = "How " + name + " is stored, from its beginning to its end"};
  figure.data = "# first_byte end_byte percent_stored colour codec_of_most_hunks\n";
  std::uint64_t held = 0, stored = 0;
  double most = 100;
  for (const ContainerStretch& s : stretches) {
    const ContainerShare* first = nullptr;
    std::uint64_t bytes = 0;
    for (const ContainerShare& share : s.shares) {
      bytes += share.bytes;
      if (!first || share.hunks > first->hunks) first = &share;
    }
    if (!first) continue;
    held += s.end - s.first;
    stored += bytes;
    most = std::max(most, percent(bytes, s.end - s.first));
    figure.data += fmt::format("{} {} {:.2f} {} {}\n", s.first, s.end, std::max(0.6, percent(bytes, s.end - s.first)),
                               series_rgb(number_of(codecs, first->codec)), field(first->codec));
  }
  figure.body = fmt::format("set xrange [0:{}]\nset yrange [0:{}]\nset xlabel \"MB of what it holds\"\n",
                            static_cast<double>(stretches.back().end) / 1e6, most * 1.04);
  figure.body +=
      "set ylabel \"per cent of its size that is stored\"\nset grid ytics lc rgb \"#d0d0d0\"\nset border 3\n";
  figure.body += "set xtics nomirror\nset ytics nomirror\nset bmargin 7\n";
  figure.body += "set key at screen 0.5, screen 0.05 center horizontal Left reverse samplen 1 width 2\n";
  figure.body +=
      "plot data using (($1+$2)/2e6):($3/2):($1/1e6):($2/1e6):(0):3:4 with boxxyerror fillstyle solid noborder "
      "lc rgb variable notitle";
  for (std::size_t i = 0; i < codecs.size(); ++i)
    figure.body +=
        fmt::format(", NaN with points pt 5 ps 1.6 lc rgb \"#{:06X}\" title {}", series_rgb(i), in_quotes(codecs[i]));
  figure.words = fmt::format(
      "{}: {} are stored as {}, {:.1f} per cent; each stretch has the colour of the codec of most "
      "of its hunks.",
      figure.title, human_size(held), human_size(stored), percent(stored, held));
  return figure;
}

Figure shares_figure(const std::string& name, const Container& container, std::vector<std::string>& codecs) {
  BarChart chart{
      .name = "codecs", .title = "Hunks of " + name + " by codec", .unit = "hunks", .series = {}, .rows = {}};
  const std::vector<ContainerShare> shares = container.shares();
  std::uint64_t hunks = 0;
  for (const ContainerShare& s : shares) hunks += s.hunks;
  for (const ContainerShare& s : shares) {
    const std::size_t number = number_of(codecs, s.codec);
    while (chart.series.size() <= number)
      chart.series.push_back({codecs[chart.series.size()], series_rgb(chart.series.size())});
    chart.rows.push_back({s.codec,
                          fmt::format("{}, {:.1f} %, stored as {}", plural(s.hunks, "hunk"), percent(s.hunks, hunks),
                                      human_size(s.bytes)),
                          {{static_cast<double>(s.hunks), number}}});
  }
  Figure figure = bar_rows(chart);
  return figure;
}

Figure entropy_figure(const std::string& name, const std::vector<Density>& along) {
  Figure figure{.name = "density", .title = "How dense the data of " + name + " is"};
  figure.data = "# byte bits_a_byte\n";
  double sum = 0;
  for (const Density& d : along) {
    figure.data += fmt::format("{} {:.3f}\n", d.at, d.bits);
    sum += d.bits;
  }
  const double end = static_cast<double>(along.back().at + along.back().bytes) / 1e6;
  const double step = end / static_cast<double>(along.size());
  figure.body = fmt::format("set xrange [0:{}]\nset yrange [0:8.2]\nset xlabel \"MB of what it holds\"\n", end);
  figure.body +=
      "set ylabel \"bits a byte (8: cannot be compressed)\"\nset grid ytics lc rgb \"#d0d0d0\"\nset border 3\nunset "
      "key\nset xtics nomirror\nset ytics nomirror\n";
  figure.body +=
      fmt::format("plot data using ($1/1e6+{0}):2:({1}) with boxes fillstyle solid noborder lc rgb \"#{2:06X}\"",
                  step / 2, step * 0.98, series_rgb(0));
  figure.words = fmt::format("{}, by Shannon's entropy of {}: {:.1f} bits a byte on average, 8 cannot be compressed.",
                             figure.title, plural(along.size(), "sample"), sum / static_cast<double>(along.size()));
  return figure;
}

}  // namespace

Figures density_figures(const Image& image, JobContext& context) {
  const std::string name = printable(image.path.filename().string());
  if (image.container) {
    const std::vector<ContainerStretch> stretches = image.container->along(kStretches);
    std::vector<std::string> codecs;
    if (!stretches.empty()) {
      Figure along = along_figure(name, stretches, codecs);
      return {std::move(along), shares_figure(name, *image.container, codecs)};
    }
  }
  const std::vector<Density> along = density_along(image, kStretches, context);
  if (along.size() < 2) return {};
  return {entropy_figure(name, along)};
}

}  // namespace opifex::report
