/// What identify shows of a CHD and how check proves it.
#pragma once

#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/container.hpp"

#include "tracks.hpp"

namespace opifex::chd {

/// `cd` is null where the CHD holds no CD.
std::shared_ptr<const Container> make_container(std::shared_ptr<const Chd> file, Contents contents, CdImagePtr cd);

}  // namespace opifex::chd
