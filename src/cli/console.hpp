/// Where a command speaks: the terminal, or whoever runs it.
#pragma once

#include <cstddef>
#include <ostream>

namespace opifex::cli {

/// What a stream's terminal can show; a file or a pipe has no width and no colours.
struct TerminalFacts {
  std::size_t width = 0;  ///< columns; 0: no terminal
  bool colours = false;
};

struct Console {
  std::ostream& out;      ///< results
  std::ostream& err;      ///< progress and messages
  bool terminal = false;  ///< `err` is one: progress is drawn
  TerminalFacts out_terminal = {}, err_terminal = {};
};

}  // namespace opifex::cli
