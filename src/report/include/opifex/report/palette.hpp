/// The colours of states, the same in every figure, page and table; told apart by people who see red and green alike,
/// too: tests/unit/report/palette_test.cpp computes it.
#pragma once

#include <cstdint>
#include <span>
#include <string_view>

#include "opifex/core/check/sector_map.hpp"

namespace opifex::report {

/// What a colour stands for. Of a cell that stands for many sectors the last of this order is shown.
enum class Tone : std::uint8_t {
  blank,       ///< nothing, or nothing is known
  gap,         ///< of a layout: a pause; of a dump: run-out blocks
  session,     ///< of a layout
  unproved,    ///< read, but under no checksum
  data,        ///< a data track, a partition
  music,       ///< a music track; music that was read twice alike
  files,       ///< sectors that hold files
  tables,      ///< sectors that describe files
  good,        ///< verified
  retried,     ///< good after several readings
  repairable,  ///< its error correction suffices
  taken,       ///< of a rescue: from some of the dumps
  mended,      ///< it did suffice
  combined,    ///< put together from several readings or dumps
  unsure,      ///< there is no proof
  authored,    ///< odd, but made so by the maker
  wrong,       ///< its checksum is wrong
  lost,        ///< cannot be read, is not there
  other,       ///< of one dump of several: not there, or different
  hang,        ///< the drive hung
  untried,     ///< not read, not looked at
};

struct Shade {
  Tone tone;
  std::string_view name;  ///< in a legend
  std::uint32_t rgb;
};
/// In the order of Tone.
std::span<const Shade> shades();
const Shade& shade(Tone tone);
Tone tone_of(SectorState state);
/// By the words of verdicts and states in results ("intact", "damaged", "known"): blank for any other word.
Tone tone_of(std::string_view word);

/// Of a row of things that have no order: codecs, platforms. Those beyond the last get its colour again.
std::uint32_t series_rgb(std::size_t number);
inline constexpr std::size_t kSeries = 8;

}  // namespace opifex::report
