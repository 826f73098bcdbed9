#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/volumes/opera/volume.hpp"

namespace opifex {

extern const FileSystem kOpera = {.id = "opera",
                                  .title = "Opera (3DO)",
                                  .short_id = "opera",
                                  .company = Company::last,
                                  .read = [](const VolumePlace& place) { return read_opera(place.disc); }};

}  // namespace opifex
