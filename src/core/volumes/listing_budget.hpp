/// What reading the names of a file system may cost: an image of N bytes cannot make its reader take more than a fixed
/// sum and a few times N, whatever its tables claim, for overlapping folders and shared names multiply what is there.
#pragma once

#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

class ListingBudget : public ReadBudget {
 public:
  static constexpr int kDeepest = 64;                          ///< folders in each other
  static constexpr std::uint64_t kMostFolderBytes = 64 << 20;  ///< of one folder's table
  static constexpr std::size_t kMostExtents = 100'000;         ///< of one file

  explicit ListingBudget(const ByteSource& disc) : ReadBudget(disc.name(), disc.size()) {}

  using ReadBudget::take;
  /// An entry with all that hangs on it.
  void take(const VolumeEntry& e) {
    entry();
    take(sizeof e + e.path.size() + e.link.size() + e.attributes.size() + e.extents.size() * sizeof(VolumeExtent) +
         (e.inside ? e.inside->size() : 0));
  }
};

}  // namespace opifex
