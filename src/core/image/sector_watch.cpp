#include "sector_watch.hpp"

#include <algorithm>

#include "opifex/core/cd/examine.hpp"

namespace opifex {

SectorWatch::SectorWatch(cd::Lba first, cd::Lba end)
    : first_(first), seen_(static_cast<std::size_t>(std::max(0, end - first)) / kBits + 1) {}

void SectorWatch::look(cd::Lba lba, cd::SectorView sector) {
  const auto at = static_cast<std::size_t>(lba - first_);
  const std::uint64_t bit = std::uint64_t{1} << (at % kBits);
  if ((seen_[at / kBits].fetch_or(bit, std::memory_order_relaxed) & bit) != 0) return;
  // The EDC proves the data; whether parity is right is for check to say.
  if (!cd::examine(sector, {.lba = lba, .in_data_track = true, .parity_made = true}).bad()) return;
  const std::lock_guard lock(mutex_);
  bad_.push_back(lba);
}

bool SectorWatch::seen(cd::Lba lba) const {
  const auto at = static_cast<std::size_t>(lba - first_);
  return (seen_[at / kBits].load(std::memory_order_relaxed) >> (at % kBits) & 1) != 0;
}

std::vector<cd::Lba> SectorWatch::bad() {
  const std::lock_guard lock(mutex_);
  std::sort(bad_.begin(), bad_.end());
  return bad_;
}

}  // namespace opifex
