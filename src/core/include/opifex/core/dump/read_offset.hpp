/// By how many samples a drive delivers the music of a disc too late: the drive's read offset and the pressing's own.
#pragma once

#include <optional>

#include "opifex/core/dump/reader.hpp"

namespace opifex::dump {

/// In samples; less than none: too early. Found by reading data at the borders to music as if they were music, since a
/// sector of data tells its place. Nothing if the disc has no such border, the drive refuses, its stream jitters, or
/// two places do not agree.
std::optional<int> find_read_offset(Drive& drive, const std::vector<Region>& regions);

}  // namespace opifex::dump
