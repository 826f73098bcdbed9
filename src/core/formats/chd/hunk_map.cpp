#include "opifex/core/formats/chd/hunk_map.hpp"

#include <algorithm>

namespace opifex::chd {

void HunkMap::push_back(const Hunk& hunk) {
  if (!grow(hunk)) {
    Run run;
    run.place = hunk.place;
    run.first = size_;
    run.length = hunk.length;
    run.crc = hunk.crc;
    run.kind = hunk.kind;
    run.crc_known = hunk.crc_known;
    runs_.push_back(run);
  }
  ++size_;
}

/// True if the last run goes on with this hunk. Hunks with a CRC are data of their own: they never make runs.
bool HunkMap::grow(const Hunk& hunk) {
  if (runs_.empty() || hunk.crc_known) return false;
  Run& run = runs_.back();
  if (run.kind != hunk.kind || run.crc_known || run.length != hunk.length || run.crc != hunk.crc) return false;
  const std::uint32_t count = size_ - run.first;
  if (count > 1) return hunk.place == run.place + std::uint64_t{count} * run.step;
  if (hunk.place < run.place || hunk.place - run.place > kMostStep) return false;
  run.step = static_cast<std::uint32_t>(hunk.place - run.place) & static_cast<std::uint32_t>(kMostStep);
  return true;
}

const HunkMap::Run& HunkMap::run_of(std::uint64_t number) const {
  return *std::prev(std::upper_bound(runs_.begin(), runs_.end(), number,
                                     [](std::uint64_t n, const Run& run) { return n < run.first; }));
}

}  // namespace opifex::chd
