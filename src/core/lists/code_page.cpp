#include "code_page.hpp"

#include <array>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

/// Made once: to open a converter for every line would take longer than to read the list.
const std::array<std::string, 256>& table() {
  static const std::array<std::string, 256> characters = [] {
    std::array<std::string, 256> all;
    for (std::size_t i = 0; i < all.size(); ++i)
      all[i] = decode(std::string(1, static_cast<char>(i)), "windows-1252").value_or("\xEF\xBF\xBD");
    return all;
  }();
  return characters;
}

}  // namespace

const std::string& windows_1252(unsigned char byte) { return table()[byte]; }

int windows_1252_code(unsigned char byte) {
  const std::string& utf8 = table()[byte];
  const auto at = [&](std::size_t i) { return static_cast<unsigned char>(utf8[i]); };
  if (utf8.size() == 1) return at(0);
  if (utf8.size() == 2) return (at(0) & 0x1F) << 6 | (at(1) & 0x3F);
  return (at(0) & 0x0F) << 12 | (at(1) & 0x3F) << 6 | (at(2) & 0x3F);
}

}  // namespace opifex
