/// From a parsed sheet and its files to a disc: the absolute layout of every track.
#pragma once

#include <vector>

#include "opifex/core/formats/cue/sheet.hpp"
#include "opifex/core/image/cd_image.hpp"

namespace opifex::cue {

/// A file of the sheet as a run of sectors.
struct TrackFile {
  SourcePtr data;           ///< null: missing
  bool big_endian = false;  ///< audio in it is
};

/// `files` in the sheet's order. Adds what was found odd to `warnings`. With a missing file the lengths of its tracks
/// are unknown (Track::incomplete). Error with the breach's name and line; `file` is for messages.
CdImagePtr build_disc(const Sheet& sheet, const std::vector<TrackFile>& files, const std::string& file,
                      std::vector<Warning>& warnings);

}  // namespace opifex::cue
