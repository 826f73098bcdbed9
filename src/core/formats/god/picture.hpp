/// The pictures of a container's header.
#pragma once

#include "opifex/core/base/bytes.hpp"

namespace opifex::god {

/// True for a PNG from its signature to IEND, every chunk whole and true to its CRC (ISO/IEC 15948, 5).
bool is_png(ByteView bytes);

}  // namespace opifex::god
