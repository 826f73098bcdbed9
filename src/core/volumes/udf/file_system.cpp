#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/volumes/udf/volume.hpp"

namespace opifex {
namespace {

std::optional<VolumeProblem> lost_mark(const ByteSource& disc) {
  if (!has_udf_anchor(disc)) return std::nullopt;
  return VolumeProblem{"udf_unmarked", "a UDF file system beside it lost its mark: players will not find it",
                       Weight::damage};
}

std::string variant(std::string_view system) {
  return system.starts_with("udf-") ? "UDF " + std::string(system.substr(4)) : std::string(system);
}

}  // namespace

extern const FileSystem kUdf = {.id = "udf",
                                .title = "UDF",
                                .short_id = "udf",
                                .read = [](const VolumePlace& place) { return read_udf(place.disc); },
                                .name_of = &variant,
                                .lost_mark = &lost_mark};

}  // namespace opifex
