/// The file system of GameCube discs, reading. Big-endian; files lie at byte offsets, not at sectors.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

inline constexpr std::uint64_t kGameCubeDiscBytes = 1'459'978'240;

/// Nothing if the disc has no GameCube mark. The files that the console's own structures are appear below `system/`.
/// Broken tables are problems of the volume; what they still name is listed.
std::optional<Volume> read_gamecube(SourcePtr disc);

}  // namespace opifex
