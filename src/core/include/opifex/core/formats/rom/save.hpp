/// Save memory in files: is it of the right size, is there anything in it, and its usual forms (shared facts:
/// cartridge dumps, section 13).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/formats/rom/rom.hpp"

namespace opifex::rom {

struct SaveFacts {
  std::uint64_t size_bytes = 0;
  std::uint64_t clock_bytes = 0;              ///< of a clock's registers behind the memory; 0: none
  std::uint64_t memory_bytes = 0;             ///< without them
  std::optional<std::uint64_t> wanted_bytes;  ///< by the game; nothing: it does not tell
  bool blank = false;                         ///< every byte of the memory alike
  unsigned blank_value = 0;
  std::uint64_t reduced_bytes = 0;  ///< of what is not only a repetition
  std::vector<Problem> problems;    ///< what speaks against it
};
/// `game`: what the ROM says of it; null: unknown.
SaveFacts examine_save(ByteView save, const Header* game);

struct SaveForm {
  std::optional<std::uint64_t> size_bytes = {};  ///< of the memory
  unsigned fill = 0xFF;                          ///< of what is added
  unsigned swap_bytes = 0;                       ///< reverse the bytes of each group of 2, 4 or 8; 0: as they are
  bool drop_clock = false;
};
/// Error (refused): "save_data" if what would be cut off is neither a repetition nor filler, "odd_size" if the groups
/// do not come out even.
Bytes convert_save(ByteView save, const SaveForm& form);

/// Bytes that differ, neighbours together.
struct SaveRange {
  std::uint64_t at = 0, bytes = 0;
};
std::vector<SaveRange> differing_ranges(ByteView a, ByteView b);

}  // namespace opifex::rom
