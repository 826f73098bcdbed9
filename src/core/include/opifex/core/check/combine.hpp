/// One sector from several imperfect readings of it: by one drive, or by several dumps.
#pragma once

#include <span>
#include <vector>

#include "opifex/core/cd/examine.hpp"

namespace opifex {

/// A reading, as delivered.
struct Reading {
  cd::Sector bytes;
  bool flags_known = false;               ///< the drive told which bytes it could not correct
  std::vector<cd::Erasure> flagged = {};  ///< these (C2)
};

enum class Combining {
  none,      ///< nothing came of it
  as_read,   ///< a reading that proves itself, or that enough others agree with
  repaired,  ///< a reading mended by its own error correction
  combined,  ///< put together from several
  unsure,    ///< audio: the most frequent samples, without proof
  conflict   ///< data: two different sectors that both prove themselves; the more frequent was taken
};

struct CombinedSector {
  Combining how = Combining::none;
  cd::Sector bytes = {};
  std::vector<std::size_t> givers = {};  ///< readings equal to `bytes`
};

/// True if the sector has its own address and right EDC and parity. Form 2 without EDC proves nothing, nor do zeros,
/// which Mode 0 and Mode 2 may hold alike: false.
bool proves_itself(cd::SectorView s, cd::Lba lba);

/// A data sector. In this order: readings that prove themselves; each mended; a vote byte by byte where C2 counts; for
/// two readings that differ in few places, every mix of them. What is not proved by EDC and parity is not taken: then
/// `how` is none. Sectors without EDC are judged as audio is. The order of the readings does not matter.
CombinedSector combine_data(std::span<const Reading> readings, cd::Lba lba);

/// An audio sector: two equal readings without a flagged byte are taken; else a vote sample by sample, unflagged ones
/// first. What the drive flagged is not confirmed by agreement, however often it comes.
CombinedSector combine_audio(std::span<const Reading> readings);

}  // namespace opifex
