#include "plain_text.hpp"

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {

namespace {

/// Length of the character that `s` begins with; 0: it begins with none.
std::size_t character_at(std::string_view s) {
  const auto first = static_cast<unsigned char>(s.front());
  if (first == 0) return 0;
  const std::size_t size = first < 0x80 ? 1 : first < 0xE0 ? 2 : first < 0xF0 ? 3 : 4;
  return size <= s.size() && is_utf8(s.substr(0, size)) ? size : 0;
}

int hex_digit(char c) { return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1; }

}  // namespace

std::string to_plain(std::string_view bytes) {
  if (bytes.find('\\') == std::string_view::npos && bytes.find('\0') == std::string_view::npos && is_utf8(bytes))
    return std::string(bytes);
  std::string text;
  while (!bytes.empty()) {
    const std::size_t size = character_at(bytes);
    if (bytes.front() == '\\')
      text += "\\\\";
    else if (size > 0)
      text += bytes.substr(0, size);
    else
      text += fmt::format("\\x{:02x}", static_cast<unsigned char>(bytes.front()));
    bytes.remove_prefix(std::max<std::size_t>(size, 1));
  }
  return text;
}

std::string from_plain(std::string_view text) {
  if (text.find('\\') == std::string_view::npos) return std::string(text);
  std::string bytes;
  for (std::size_t at = 0; at < text.size();) {
    const std::string_view rest = text.substr(at);
    if (rest.starts_with("\\\\")) {
      bytes += '\\';
      at += 2;
    } else if (rest.size() >= 4 && rest.starts_with("\\x") && hex_digit(rest[2]) >= 0 && hex_digit(rest[3]) >= 0) {
      bytes += static_cast<char>(hex_digit(rest[2]) * 16 + hex_digit(rest[3]));
      at += 4;
    } else {
      bytes += rest.front();
      ++at;
    }
  }
  return bytes;
}

}  // namespace opifex
