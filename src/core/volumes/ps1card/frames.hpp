/// Frames of a card's directory.
#pragma once

#include <algorithm>

#include "opifex/core/volumes/ps1card/card.hpp"

namespace opifex::ps1card {

namespace at {
constexpr std::size_t kState = 0, kSize = 4, kNext = 8, kName = 10, kNameEnd = 30, kRest = 31, kXor = 127;
}
constexpr std::uint32_t kFirst = 0x51, kMiddle = 0x52, kLast = 0x53;
constexpr std::uint32_t kFree = 0xA0, kDeletedFirst = 0xA1, kDeletedMiddle = 0xA2, kDeletedLast = 0xA3;
constexpr std::uint32_t kDeletedBy = kDeletedFirst - kFirst;
constexpr unsigned kNoNext = 0xFFFF, kTestFrame = 63;
constexpr unsigned kBrokenList = 16, kReplacements = 36, kBrokenCount = 20, kFramesABlock = 64;

inline ByteView frame_of(ByteView card, unsigned number) { return card.subspan(number * kFrameBytes, kFrameBytes); }
inline std::byte xor_of(ByteView frame) {
  std::byte sum{};
  for (const std::byte b : frame.first(at::kXor)) sum ^= b;
  return sum;
}
inline bool is_sealed(ByteView frame) { return xor_of(frame) == frame[at::kXor]; }
inline void seal(std::span<std::byte> frame) { frame[at::kXor] = xor_of(frame); }
inline std::uint32_t state_of(ByteView frame) { return load_le32(frame, at::kState); }
inline unsigned next_of(ByteView frame) { return load_le16(frame, at::kNext); }
inline bool is_known_state(std::uint32_t s) { return (s >= kFirst && s <= kLast) || (s >= kFree && s <= kDeletedLast); }
inline std::string name_in(ByteView frame) {
  const std::string_view field = as_text(frame.subspan(at::kName, at::kRest - at::kName));
  return std::string(field.substr(0, field.find('\0')));
}
inline bool is_plain(char c) { return c >= 0x21 && c <= 0x7E; }

/// The frame that stands for another one that is broken; the same one if it is not.
unsigned replaced(ByteView card, unsigned number);
bool has_broken_frame(ByteView card, unsigned block);

}  // namespace opifex::ps1card
