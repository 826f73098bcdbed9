#include "opifex/report/table.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

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
    cells_ += printable(cells[c]);
    ends_.push_back(cells_.size());
  }
}

std::string_view Table::cell(std::size_t row, std::size_t column) const {
  const std::size_t n = row * columns_.size() + column, begin = n == 0 ? 0 : ends_[n - 1];
  return std::string_view(cells_).substr(begin, ends_[n] - begin);
}

std::string Table::text(const std::string& indent) const {
  const std::size_t rows = columns_.empty() ? 0 : ends_.size() / columns_.size();
  std::vector<std::size_t> widths(columns_.size(), 0);
  for (std::size_t c = 0; c < columns_.size(); ++c)
    for (std::size_t r = 0; r < rows; ++r) widths[c] = std::max(widths[c], shown_width(cell(r, c)));
  for (std::size_t c = 0; c < columns_.size(); ++c)
    if (widths[c] > 0) widths[c] = std::max(widths[c], shown_width(columns_[c].title));

  std::string out;
  const auto line = [&](const auto& cell_of) {
    std::string text = indent;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      if (widths[c] == 0) continue;
      const std::string_view shown = cell_of(c);
      const std::string pad(widths[c] - shown_width(shown), ' ');
      if (columns_[c].align == Align::right) text += pad;
      text += shown;
      if (columns_[c].align == Align::left) text += pad;
      text += "  ";
    }
    text.erase(text.find_last_not_of(' ') + 1);
    out += text + "\n";
  };
  line([&](std::size_t c) { return std::string_view(columns_[c].title); });
  for (std::size_t r = 0; r < rows; ++r) line([&](std::size_t c) { return cell(r, c); });
  return out;
}

void Facts::add(std::string_view label, const std::string& value) {
  if (!value.empty()) text_ += fmt::format("  {:<11} {}\n", label, printable(value));
}

}  // namespace opifex::report
