/// What reading the names of a file system may cost: an image of N bytes cannot make its reader take more than a fixed
/// sum and a few times N, whatever its tables claim, for overlapping folders and shared names multiply what is there.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

class ListingBudget {
 public:
  explicit ListingBudget(const ByteSource& disc) : disc_(disc), left_(kFixed + kEach * disc.size()) {}

  /// Error (refused, "too_many_entries") once it is used up.
  void take(std::uint64_t bytes) {
    if (bytes <= left_) {
      left_ -= bytes;
      return;
    }
    throw Error({.code = "too_many_entries",
                 .what = "the tables of this file system list more than an image of this size can hold",
                 .file = disc_.name(),
                 .expected = "folders and names that do not overlap",
                 .hint = "the tables are broken, or made to harm: nothing of it is read"});
  }
  /// An entry with all that hangs on it.
  void take(const VolumeEntry& e) {
    take(sizeof e + e.path.size() + e.link.size() + e.attributes.size() + e.extents.size() * sizeof(VolumeExtent) +
         (e.inside ? e.inside->size() : 0));
  }

 private:
  static constexpr std::uint64_t kFixed = 40 << 20, kEach = 5;
  const ByteSource& disc_;
  std::uint64_t left_;
};

}  // namespace opifex
