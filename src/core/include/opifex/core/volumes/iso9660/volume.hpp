/// ISO 9660 (ECMA-119) with Joliet, Rock Ridge names and CD-ROM XA, read whole.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Which tree of directories to list.
enum class IsoTree { best, primary };

/// `disc` has 2048 bytes a sector; the descriptors begin 16 sectors behind `start`. Nothing if there is no primary
/// volume descriptor. Error (refused) with code bad_block_size, outside_image, dir_too_big or not_a_directory if the
/// root cannot be read.
std::optional<Volume> read_iso9660(SourcePtr disc, std::uint64_t start, IsoTree tree = IsoTree::best);

}  // namespace opifex
