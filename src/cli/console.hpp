/// Where a command speaks: the terminal, or whoever runs it.
#pragma once

#include <ostream>

namespace opifex::cli {

struct Console {
  std::ostream& out;      ///< results
  std::ostream& err;      ///< progress and messages
  bool terminal = false;  ///< `err` is one: progress is drawn
};

}  // namespace opifex::cli
