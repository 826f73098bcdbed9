/// What of a damaged volume can be mended without a guess about the contents of a file.
#pragma once

#include "opifex/core/volumes/amiga/disk.hpp"

namespace opifex::amiga {

struct Repaired {
  Bytes image = {};
  std::vector<std::string> done = {};  ///< for people; empty: nothing could be mended
};

/// Directories are chained anew by the names of what is in them; files that nothing leads to any more, and that the
/// bitmap says are in use, come back into their folder, or into the folder "Lost files"; the bitmap and the caches are
/// made anew. No byte of a file's data is changed, and no wrong checksum is made right: what is left is told by
/// read_disk().
Repaired repair_disk(ByteView image, std::int64_t now);

}  // namespace opifex::amiga
