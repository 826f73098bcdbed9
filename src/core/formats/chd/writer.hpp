/// Writing version 5 (README, sections 1, 2 and 10).
#pragma once

#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex::chd {

struct WriteRequest {
  SourcePtr logical;  ///< everything the CHD holds; padded to whole units already
  std::uint32_t hunk_bytes = 0, unit_bytes = 0;
  std::vector<std::string> codecs;  ///< at most four; empty: uncompressed hunks in a compressed map
  std::vector<Tag> tags;            ///< in the order they are listed
};
/// The output as a piece that makes its own bytes. Identical hunks are stored once; the same bytes on any number of
/// threads.
PackerPtr make_packer(WriteRequest request);

/// The frames of a CD as a CHD has them: 2448 bytes each, tracks padded to four, audio big-endian.
struct CdFrames {
  SourcePtr logical;
  std::vector<Tag> tags;  ///< CHT2, one a track
};
/// Error (refused) if the disc has no sectors.
CdFrames make_frames(CdImagePtr disc);

}  // namespace opifex::chd
