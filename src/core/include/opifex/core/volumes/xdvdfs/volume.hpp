/// The file system of Xbox and Xbox 360 discs (XDVDFS), reading. Little-endian; sectors count from the start of the
/// game partition.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Where the game partition begins, in bytes: of a bare image 0, else behind the part for video players. Found by
/// content. Nothing if there is none.
std::optional<std::uint64_t> find_game_partition(const ByteSource& disc);

/// Nothing if there is no game partition. Broken tables are problems of the volume; what they still name is listed.
std::optional<Volume> read_xdvdfs(SourcePtr disc);

/// Bytes of the game partition at `place` that a copy has to hold: up to its last used sector; all there are if some of
/// its files lie behind the image's end, for then what is missing must stay visible.
std::uint64_t game_bytes(const Volume& volume, const ByteSource& disc, std::uint64_t place);

/// The order of names in a table: by upper-case ASCII, bytes otherwise as they are.
bool xdvdfs_less(std::string_view a, std::string_view b);

}  // namespace opifex
