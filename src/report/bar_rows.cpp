#include "bar_rows.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

#include "gnuplot.hpp"

namespace opifex::report {
namespace {

constexpr std::size_t kMostName = 40;  // that fits to the left of a bar

}  // namespace

Figure bar_rows(const BarChart& chart) {
  const bool legend = chart.series.size() > 1;
  Figure figure{.name = chart.name,
                .title = chart.title,
                .words = chart.title + ".",
                .height = 150 + (legend ? 40 : 0) + 30 * static_cast<int>(chart.rows.size())};
  figure.data = "# row from to colour name series\n";
  double most = 0;
  std::size_t longest = 4, longest_label = 0;
  std::string names;
  for (std::size_t r = 0; r < chart.rows.size(); ++r) {
    const BarRow& row = chart.rows[r];
    double at = 0;
    for (const BarPiece& piece : row.pieces) {
      const BarSeries& series = chart.series.at(piece.series);
      if (piece.value > 0)
        figure.data += fmt::format("{} {} {} {} {} {}\n", r, at, at + piece.value, series.rgb, field(row.name),
                                   field(series.name));
      at += piece.value;
    }
    most = std::max(most, at);
    const std::string name = short_text(row.name, kMostName);
    longest = std::max(longest, name.size());
    longest_label = std::max(longest_label, row.label.size());
    names += fmt::format("{}{} {}", r > 0 ? ", " : "", in_quotes(name), r);
    figure.body +=
        fmt::format("set label {} {} at {},{} left offset 0.6,0 font \",10\"\n", r + 1, in_quotes(row.label), at, r);
    if (row.name.empty() && !figure.words.empty()) figure.words.back() = ',';
    figure.words +=
        fmt::format(" {}{}.", row.name.empty() ? "then " : printable(row.name) + ": ", printable(row.label));
  }
  if (chart.rows.empty() || most <= 0) figure.data += "0 0 0 0 none none\n";
  // The label of the longest bar needs room, too.
  const double room = 1.0 + 0.0095 * static_cast<double>(longest_label);
  figure.body +=
      fmt::format("set xrange [0:{}]\nset yrange [{}:-0.7]\nset lmargin {}\nset bmargin {}\nset border 3\n",
                  std::max(most, 1e-9) * room, static_cast<double>(std::max<std::size_t>(1, chart.rows.size())) - 0.3,
                  longest + 3, legend ? 6 : 4);
  figure.body +=
      fmt::format("set xlabel {}\nset xtics nomirror\nset grid xtics lc rgb \"#d0d0d0\"\n", in_quotes(chart.unit));
  figure.body +=
      legend ? "set key at screen 0.5, screen 0.05 center horizontal Left reverse samplen 1 width 2\n" : "unset key\n";
  figure.body += "set ytics scale 0 (" + names + ")\n";
  figure.body +=
      "plot data using (($2+$3)/2):1:2:3:($1-0.36):($1+0.36):4 with boxxyerror fillstyle solid noborder lc rgb "
      "variable notitle";
  if (legend)
    for (const BarSeries& s : chart.series)
      figure.body += fmt::format(", NaN with points pt 5 ps 1.6 lc rgb \"#{:06X}\" title {}", s.rgb, in_quotes(s.name));
  return figure;
}

}  // namespace opifex::report
