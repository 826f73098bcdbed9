/// The map of a compressed file of version 5, written (README, section 2.2).
#pragma once

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/formats/chd/hunk_map.hpp"

namespace opifex::chd {

inline constexpr int kStored = 4, kSame = 5, kParent = 6;

/// Header and bit stream: the types with runs under a prefix code, then the fields. `first_offset` is the first stored
/// hunk's place, 0 if there is none; a parent's unit moves on by `units_in_hunk`.
Bytes make_map(const HunkMap& hunks, std::uint64_t first_offset, std::uint64_t units_in_hunk);

void put_be(Bytes& out, std::uint64_t v, std::size_t bytes);

}  // namespace opifex::chd
