#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/volumes/stfs/volume.hpp"

namespace opifex {

extern const FileSystem kStfs = {
    .id = "stfs",
    .title = "STFS (Xbox 360 package)",
    .short_id = "stfs",
    .host = VolumeHost::package,
    .read = [](const VolumePlace& place) { return std::optional<Volume>(read_stfs(place.disc).volume); }};

}  // namespace opifex
