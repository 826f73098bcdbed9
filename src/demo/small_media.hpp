/// A floppy and a memory card of the museum.
#pragma once

#include "opifex/core/base/bytes.hpp"

namespace opifex::demo {

/// A floppy with files in folders of which a directory's chain leads in a circle and the bitmap is wrong.
Bytes worn_floppy();
/// Saves of three games, with titles and icons.
Bytes card_of_three_saves();

}  // namespace opifex::demo
