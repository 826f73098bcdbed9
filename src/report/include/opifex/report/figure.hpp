/// A picture of a result, before it is drawn.
#pragma once

#include <string>
#include <vector>

namespace opifex::report {

/// Data and the gnuplot commands that draw it. In `body` the variable `data` is the name of the data's file.
struct Figure {
  std::string name = {};   ///< of its files, without an ending: "sector-map"
  std::string title = {};  ///< stands in the picture, too
  std::string words = {};  ///< what there is to see, for whoever does not see it
  std::string data = {}, body = {};
  int width = 1280, height = 480;  ///< pixels
  bool if_alone = false;           ///< of interest only if it is of the only result
};

using Figures = std::vector<Figure>;

}  // namespace opifex::report
