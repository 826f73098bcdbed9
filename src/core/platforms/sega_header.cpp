#include "sega_header.hpp"

#include "opifex/core/platforms/identity.hpp"

namespace opifex {

std::string areas_text(std::string_view letters, std::string_view known, std::span<const std::string_view> names) {
  std::string text;
  for (const char c : letters) {
    const std::size_t at = known.find(c);
    if (c == ' ' || at == std::string_view::npos) continue;
    text += (text.empty() ? "" : ", ") + std::string(names[at]);
  }
  return text;
}

std::string disc_of_device(const std::string& device) {
  const std::size_t slash = device.find('/');
  if (slash == std::string::npos || slash == 0 || slash + 1 >= device.size()) return {};
  const auto digit = [&](std::size_t at) {
    return device[at] >= '0' && device[at] <= '9' ? static_cast<unsigned>(device[at] - '0') : 0;
  };
  const unsigned disc = digit(slash - 1), discs = digit(slash + 1);
  return disc == 1 && discs == 1 ? "1 of 1" : disc_text(disc, discs);
}

}  // namespace opifex
