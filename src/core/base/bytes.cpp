#include "opifex/core/base/bytes.hpp"

#include <cstring>

namespace opifex {

bool all_zero(ByteView v) {
  if (v.empty()) return true;
  return v[0] == std::byte{0} && std::memcmp(v.data(), v.data() + 1, v.size() - 1) == 0;
}

std::string hex(ByteView v) {
  std::string s;
  s.reserve(v.size() * 2);
  for (std::byte b : v) s += fmt::format("{:02x}", std::to_integer<unsigned>(b));
  return s;
}

}  // namespace opifex
