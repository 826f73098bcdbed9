/// Texts for people before they are laid out, and what becomes of them where they are shown: a file, a page, a terminal
/// of so many columns, with colours or without.
#pragma once

#include <iosfwd>
#include <string>
#include <string_view>

#include "opifex/report/palette.hpp"

namespace opifex::report {

/// Marks in a text that is not yet laid out. Nothing that comes from outside has them: they are not printable.
inline constexpr char kTable = '\x1D', kRow = '\x1E', kCell = '\x1F', kStateBegin = '\x02', kStateEnd = '\x03';

/// Text in the colour of a state; blanks are added up to `width` columns.
std::string tone_text(Tone tone, std::string_view text, std::size_t width = 0);
/// A word of the palette in its own.
std::string state_text(std::string_view word, std::size_t width = 0);

struct TextStyle {
  std::size_t width = 0;  ///< columns that tables are fitted to; 0: as wide as they are
  bool colour = false;
};

/// Lays out and prints; whatever steers a terminal is made printable on the way.
void show(std::string_view text, const TextStyle& style, std::ostream& out);
/// For files.
std::string plain_text(std::string_view text);

/// At most so many columns: the middle is left out. What fits stays as it is.
std::string shortened_middle(std::string_view text, std::size_t columns);

}  // namespace opifex::report
