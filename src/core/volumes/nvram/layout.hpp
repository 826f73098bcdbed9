/// Where blocks and label of 3DO save memory have their fields.
#pragma once

#include <algorithm>

#include "opifex/core/volumes/nvram/nvram.hpp"

namespace opifex::nvram {

namespace at {
constexpr std::size_t kForward = 4, kBackward = 8, kSize = 12, kHeader = 16, kByteCount = 20, kId = 24, kType = 28,
                      kName = 32;
constexpr std::size_t kLabel = 0x28, kBlockSize = 0x4C, kBlockCount = 0x50, kAvatar = 0x64;
}  // namespace at
constexpr std::uint32_t kAnchorMark = 0x855A02B6, kFreeMark = 0x7AA565BD, kFileMark = 0xBE4F32A6;
constexpr std::uint32_t kAnchor = 0x84, kFirstBlock = 0x98, kFreeHeader = 0x14, kFileHeader = 0x40, kLastLink = 0x7FEC;
constexpr std::size_t kNameBytes = 32;

inline bool is_plain(char c) { return c >= 0x20 && c <= 0x7E; }
inline std::string folded(std::string name) {
  std::transform(name.begin(), name.end(), name.begin(),
                 [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; });
  return name;
}

}  // namespace opifex::nvram
