// Rows of bars, one below the other, each of one or several pieces.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "opifex/report/figure.hpp"

namespace opifex::report {

struct BarPiece {
  double value = 0;
  std::size_t series = 0;  ///< in BarChart::series
};
struct BarRow {
  std::string name, label;  ///< the label stands behind the bar
  std::vector<BarPiece> pieces;
};
struct BarSeries {
  std::string name;
  std::uint32_t rgb = 0;
};
struct BarChart {
  std::string name, title, unit;  ///< the unit is the axis's label
  std::vector<BarSeries> series;
  std::vector<BarRow> rows;
};

Figure bar_rows(const BarChart& chart);

}  // namespace opifex::report
