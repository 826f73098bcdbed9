/// Images in which nothing is recognised: any file of 2048-byte pieces looks like one.
#pragma once

#include <optional>
#include <string>

#include "opifex/core/image/image.hpp"

namespace opifex {

/// What to say of an image that only its size makes one: no sheet, no sector headers, no file system, no console's
/// marks. Names the format whose mark it nearly has. Nothing if there is something to go by, or a container's
/// checksums.
std::optional<std::string> why_unrecognised(const Image& image);

}  // namespace opifex
