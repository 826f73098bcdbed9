/// All discs of a container; the format itself opens one.
#pragma once

#include "opifex/core/image/format.hpp"

namespace opifex::wbfs {

/// Error (refused) as for opening it.
ImageListing list(const SourcePtr& file);

}  // namespace opifex::wbfs
