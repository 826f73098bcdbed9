/// What the fuzz targets share. An Error is right; any other exception, a hang, a crash or unbounded memory is a
/// finding.
#pragma once

#include <cstdint>
#include <span>

#include "opifex/core/image/cd_image.hpp"

namespace opifex::fuzz {

inline Bytes bytes_of(const std::uint8_t* data, std::size_t size) {
  const auto view = std::as_bytes(std::span(data, size));
  return {view.begin(), view.end()};
}

/// Reads some sectors in every form: parsing must not promise what reading cannot keep.
inline void read_some(const CdImage& disc) {
  constexpr std::size_t kExtents = 16;
  std::size_t looked = 0;
  for (const Extent& e : disc.extents()) {
    if (++looked > kExtents) return;
    cd::Sector s;
    disc.read_sector(e.lba, s);
    disc.read_sector(e.end() - 1, s);
    disc.read(SectorForm::user, e.lba, 1, std::span(s).first(cd::kUserBytes));
    Bytes stored(stored_bytes(e.form));
    disc.read(SectorForm::stored, e.lba, 1, stored);
  }
}

template <typename Run>
void tolerate(Run run) {
  try {
    run();
  } catch (const Error&) {
  }
}

}  // namespace opifex::fuzz
