/// Save memory in files: is it of the right size, is there anything in it, and its usual forms (shared facts:
/// cartridge dumps, section 13).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/formats/rom/rom.hpp"

namespace opifex::rom {

/// Where the memory's bytes stand in words of 16 bits: Mega Drive cartridges have 8 of the lines, and some programs
/// write both lanes. The other one is filler, or a copy.
enum class SaveLane { alone, odd, even };
std::string_view to_string(SaveLane lane);

struct SaveFacts {
  std::uint64_t size_bytes = 0;
  std::uint64_t clock_bytes = 0;              ///< of a clock's registers behind the memory; 0: none
  SaveLane lane = SaveLane::alone;            ///< odd and even: only of a Mega Drive
  std::uint64_t memory_bytes = 0;             ///< without them, and without the other lane
  std::optional<std::uint64_t> wanted_bytes;  ///< by the game; nothing: it does not tell
  bool blank = false;                         ///< every byte of the memory alike
  unsigned blank_value = 0;
  std::uint64_t reduced_bytes = 0;  ///< of what is not only a repetition
  std::vector<Problem> problems;    ///< what speaks against it
};
/// `game`: what the ROM says of it, `machine`: what it is for; null: unknown. `extension`: of its name, upper case.
SaveFacts examine_save(ByteView save, const Header* game, const Machine* machine = nullptr,
                       std::string_view extension = {});
/// What cartridges of this machine keep; where the ending of the name tells the kind of memory only that.
std::vector<std::uint64_t> usual_save_sizes(const Machine& machine, std::string_view extension = {});

/// Where the ending of the name, in upper case, tells it; else null.
const Machine* machine_of_save(std::string_view extension);

struct SaveForm {
  std::optional<std::uint64_t> size_bytes = {};  ///< of the memory
  unsigned fill = 0xFF;                          ///< of what is added
  unsigned swap_bytes = 0;                       ///< reverse the bytes of each group of 2, 4 or 8; 0: as they are
  bool drop_clock = false;
  std::optional<SaveLane> lane = {};  ///< where its bytes go; nothing: they stay where they are
};
/// Error (refused): "save_data" if a lane that would be left out is neither filler nor a copy, or what would be cut off
/// is neither a repetition nor filler, "odd_size" if the groups do not come out even.
Bytes convert_save(ByteView save, const SaveForm& form);

/// Bytes that differ, neighbours together.
struct SaveRange {
  std::uint64_t at = 0, bytes = 0;
};
std::vector<SaveRange> differing_ranges(ByteView a, ByteView b);

}  // namespace opifex::rom
