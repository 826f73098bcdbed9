/// Finding hunks in a parent (README, section 8).
#pragma once

#include "opifex/core/base/progress.hpp"
#include "opifex/core/formats/chd/chd.hpp"

namespace opifex::chd {

/// Every window of a hunk's length that begins at a unit of the parent, by its hash. Safe from many threads.
class ParentWindows {
 public:
  /// Reads the whole parent, on all threads.
  ParentWindows(std::shared_ptr<const Chd> parent, std::uint32_t hunk_bytes, JobContext& context);
  /// The unit from which on the parent holds the same bytes: that of the same place if it does, else the lowest.
  std::optional<std::uint64_t> find(std::uint64_t hunk_number, ByteView hunk) const;

 private:
  struct Window {
    std::uint64_t hash;
    std::uint32_t unit;
  };
  void collect(JobContext& context);
  bool holds(std::uint64_t unit, ByteView hunk) const;
  std::uint64_t hash_of(ByteView hunk) const;

  std::shared_ptr<const Chd> parent_;
  SourcePtr logical_;
  std::uint32_t hunk_bytes_, unit_bytes_;
  std::vector<Window> windows_;  // by hash, then by unit
};

}  // namespace opifex::chd
