/// Whether lists of whole dumps can say anything of an image.
#pragma once

#include <string>

#include "opifex/core/image/image.hpp"

namespace opifex::jobs {

/// Why the disc's own hash cannot come out, whatever the image holds: "scrubbed: ...", "trimmed: ..."; empty: it can.
std::string why_not_comparable(const Image& image);

}  // namespace opifex::jobs
