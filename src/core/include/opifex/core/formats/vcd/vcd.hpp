/// The virtual CD container: a header with the table of contents, then raw sectors.
#pragma once

#include <vector>

#include "opifex/core/image/cd_image.hpp"

namespace opifex::vcd {

/// Error with the breach's name (see formats/vcd/README.md); oddities go to `warnings`.
CdImagePtr read_disc(const SourcePtr& source, std::vector<Warning>& warnings);

}  // namespace opifex::vcd
