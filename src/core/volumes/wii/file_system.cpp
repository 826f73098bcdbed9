#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/volumes/disc_use.hpp"
#include "opifex/core/volumes/wii/disc.hpp"

namespace opifex {
namespace {

std::optional<Volume> read_partitions(const VolumePlace& place) {
  const auto wii = read_wii_disc(place.disc, place.keys);
  if (!wii) return std::nullopt;
  return read_wii_volume(place.disc, *wii);
}

std::optional<std::vector<ByteRange>> used_ranges(const VolumePlace& place) {
  const auto wii = read_wii_disc(place.disc, place.keys);
  if (!wii) return std::nullopt;
  DiscUse use = use_of_wii(place.disc, *wii);
  if (!use.known) return std::nullopt;
  return std::move(use.ranges);
}

}  // namespace

extern const FileSystem kWii = {.id = "wii",
                                .title = "Wii partitions",
                                .short_id = "wii",
                                .company = Company::none,
                                .often_trimmed = true,
                                .read = &read_partitions,
                                .used = &used_ranges};

}  // namespace opifex
