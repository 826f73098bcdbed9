/// The file system of GameCube discs and of the partitions of Wii discs, reading. Big-endian; files lie at byte
/// offsets, not at sectors.
#pragma once

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Where each part of the boot area is, in bytes. A table and files follow wherever the header says.
inline constexpr std::size_t kBootHeaderBytes = 0x440, kBootInfoBytes = 0x2000, kBootLoaderAt = 0x2440;

/// A volume with what only these consoles need.
struct ConsoleVolume {
  Volume volume;
  std::string id, title;             ///< of its own header
  std::vector<ByteRange> used = {};  ///< joined: what the console's structures and the files take
  bool listed = false;               ///< the table of files was read whole: nothing but `used` is used
  std::uint64_t end() const { return used.empty() ? 0 : used.back().end; }
};
struct ConsolePlace {
  unsigned shift = 0;  ///< offsets count in units of 2^shift bytes
  std::uint64_t limit = kGameCubeDiscBytes;
};

/// Nothing if there is no mark of the console (of Wii if `shift` is not 0). The files that the console's own structures
/// are appear in a folder `system`, which has as many ~ behind its name as tell it from the disc's own. Broken tables
/// are problems of the volume; what they still name is listed.
std::optional<ConsoleVolume> read_console_volume(SourcePtr disc, ConsolePlace place = {});
/// Of a GameCube disc.
std::optional<Volume> read_gamecube(SourcePtr disc);

/// Bytes of a DOL executable by its header: the header's own and all sections.
std::uint64_t dol_bytes(ByteView header);

}  // namespace opifex
