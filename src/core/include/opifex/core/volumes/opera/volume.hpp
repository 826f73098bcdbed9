/// The file system of 3DO discs, reading.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Nothing if sector 0 has no such label. Broken folders are problems of the volume.
std::optional<Volume> read_opera(SourcePtr disc);

}  // namespace opifex
