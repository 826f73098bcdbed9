/// What identify shows of a CHD and how check proves it.
#pragma once

#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/image/image.hpp"

#include "tracks.hpp"

namespace opifex::chd {

/// `cd` is null where the CHD holds no CD.
std::shared_ptr<const Container> make_container(std::shared_ptr<const Chd> file, Contents contents, CdImagePtr cd);

/// The CHD an image came out of, and what it holds; null for images from elsewhere. Both live as long as the image.
struct Origin {
  std::shared_ptr<const Chd> file = {};
  Kind kind = Kind::raw;
};
Origin origin_of(const Image& image);

}  // namespace opifex::chd
