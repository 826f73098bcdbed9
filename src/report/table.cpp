#include "opifex/report/table.hpp"

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/report/terminal.hpp"

namespace opifex::report {
namespace {

/// One code point of well-formed UTF-8; anything else counts byte by byte.
char32_t next_code_point(std::string_view s, std::size_t& at) {
  const auto byte = static_cast<unsigned char>(s[at++]);
  if (byte < 0xC2) return byte;
  const int more = byte >= 0xF0 ? 3 : byte >= 0xE0 ? 2 : 1;
  char32_t c = static_cast<char32_t>(byte & (0x3F >> more));
  for (int i = 0; i < more && at < s.size(); ++i) c = c << 6 | (static_cast<unsigned char>(s[at++]) & 0x3F);
  return c;
}

bool is_wide(char32_t c) {
  return (c >= 0x1100 && c <= 0x115F) || (c >= 0x2E80 && c <= 0xA4CF) || (c >= 0xAC00 && c <= 0xD7A3) ||
         (c >= 0xF900 && c <= 0xFAFF) || (c >= 0xFE30 && c <= 0xFE6F) || (c >= 0xFF00 && c <= 0xFF60) || c >= 0x1F300;
}
bool is_mark(char32_t c) { return (c >= 0x0300 && c <= 0x036F) || (c >= 0x200B && c <= 0x200F); }

}  // namespace

std::size_t shown_width(std::string_view text) {
  std::size_t width = 0;
  for (std::size_t at = 0; at < text.size();) {
    const char32_t c = next_code_point(text, at);
    width += is_mark(c) ? 0u : is_wide(c) ? 2u : 1u;
  }
  return width;
}

void Table::add(const std::vector<std::string>& cells) {
  for (std::size_t c = 0; c < columns_.size(); ++c) {
    rows_ += printable(cells[c]);
    rows_ += c + 1 < columns_.size() ? kCell : kRow;
  }
}

std::string Table::text(const std::string& indent) const {
  if (columns_.empty()) return {};
  std::string text = kTable + indent + kRow;
  for (const Column& column : columns_) {
    text += column.align == Align::right     ? 'r'
            : column.fit == CellFit::shorten ? 's'
            : column.fit == CellFit::state   ? 'c'
                                             : 'l';
    text += column.title;
    text += &column == &columns_.back() ? kRow : kCell;
  }
  return text + rows_ + kTable;
}

void Facts::add(std::string_view label, const std::string& value) {
  if (!value.empty()) text_ += fmt::format("  {:<11} {}\n", label, printable(value));
}

void Facts::add_state(std::string_view label, std::string_view word, const std::string& rest) {
  text_ += fmt::format("  {:<11} {}{}\n", label, state_text(word), printable(rest));
}

}  // namespace opifex::report
