/// The map of a compressed file of version 5, written (README, section 2.2).
#pragma once

#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

inline constexpr int kStored = 4, kSame = 5, kParent = 6;

struct MapEntry {
  int kind = kStored;        ///< slot of a codec, or one of the above
  std::uint32_t length = 0;  ///< bytes in the file
  std::uint16_t crc = 0;     ///< of the hunk
  std::uint64_t place = 0;   ///< offset in the file; the hunk copied; the parent's unit
};

/// Header and bit stream: the types with runs under a prefix code, then the fields. `first_offset` is the first stored
/// hunk's place, 0 if there is none; a parent's unit moves on by `units_in_hunk`.
Bytes make_map(const std::vector<MapEntry>& entries, std::uint64_t first_offset, std::uint64_t units_in_hunk);

void put_be(Bytes& out, std::uint64_t v, int bytes);

}  // namespace opifex::chd
