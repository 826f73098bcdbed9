/// How dense the data of an image is, from its beginning to its end: what can be compressed, and what cannot.
#pragma once

#include <cstdint>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/image.hpp"

namespace opifex {

struct Density {
  std::uint64_t at = 0;  ///< bytes of what the image holds (of a CD 2352 a sector, from its first sector)
  std::uint32_t bytes = 0;
  double bits = 0;  ///< Shannon's entropy of the bytes there: 0 (one value) to 8 (as if random)
};

/// At most `most` samples of 37,632 bytes, at even distances; a small image is looked at whole. What cannot be read is
/// left out. Empty for a package.
std::vector<Density> density_along(const Image& image, std::size_t most, JobContext& context);

}  // namespace opifex
