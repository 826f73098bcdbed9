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

/// What to do with sectors that a file should hold and does not.
enum class Absent { refuse, allow };

/// `files` in the sheet's order. Adds what was found odd to `warnings`. With a file that is missing or too short the
/// lengths of its tracks are unknown (Track::incomplete), if `absent` allows it. Error with the breach's name and line;
/// `file` is for messages.
CdImagePtr build_disc(const Sheet& sheet, const std::vector<TrackFile>& files, const std::string& file,
                      std::vector<Warning>& warnings, Absent absent = Absent::refuse);

}  // namespace opifex::cue
