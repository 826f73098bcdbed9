/// Whether lists of whole dumps can say anything of an image.
#pragma once

#include <string>

#include "opifex/core/image/image.hpp"

namespace opifex {
struct Identity;
}

namespace opifex::jobs {

/// Why the disc's own hash cannot come out, whatever the image holds: "scrubbed: ...", "trimmed: ..."; empty: it can.
/// `known`: what was identified already; null: it is done here.
std::string why_not_comparable(const Image& image, const Identity* known = nullptr);

}  // namespace opifex::jobs
