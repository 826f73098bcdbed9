/// A disc as the frames of a CHD (README, section 7).
#pragma once

#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/cd_image.hpp"

namespace opifex::chd {

/// The frames of one track, for whoever wants its sectors as they lie in a bin.
struct FrameRun {
  std::uint64_t first_frame = 0;
  std::uint32_t frames = 0;      ///< without padding
  std::size_t sector_bytes = 0;  ///< of a frame, without subcode
  bool subcode = false, swapped = false;
};

/// The frames of a CD as a CHD has them: 2448 bytes each, tracks padded to four, audio big-endian.
struct CdFrames {
  SourcePtr logical;
  std::vector<Tag> tags;  ///< CHT2 or CHGD, one a track
  std::vector<FrameRun> runs;
};
/// Error (refused) if the disc has no sectors.
CdFrames make_frames(CdImagePtr disc);

}  // namespace opifex::chd
