#include "opifex/core/volumes/disc_use.hpp"

#include <algorithm>

namespace opifex {
namespace {

/// The clusters of a partition that hold any of the bytes of its volume.
void add_clusters(const WiiPartition& p, const std::vector<ByteRange>& used, std::vector<ByteRange>& ranges) {
  for (const ByteRange& r : used)
    ranges.push_back({p.data + r.first / kWiiDataBytes * kWiiClusterBytes,
                      p.data + ((r.end - 1) / kWiiDataBytes + 1) * kWiiClusterBytes});
}

/// What of a partition is needed; false if it is not known, and all of it is.
bool add_partition(const SourcePtr& disc, const WiiPartition& p, std::vector<ByteRange>& ranges) {
  ranges.push_back({p.offset, p.data});
  if (p.blank) return true;
  if (p.readable()) {
    try {
      const ConsoleVolume console = read_wii_partition(disc, p);
      if (console.listed) {
        add_clusters(p, console.used, ranges);
        return true;
      }
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
    }
  }
  ranges.push_back({p.data, p.end()});
  return false;
}

}  // namespace

std::uint64_t DiscUse::bytes() const {
  std::uint64_t sum = 0;
  for (const ByteRange& r : ranges) sum += r.end - r.first;
  return sum;
}

bool DiscUse::touches(std::uint64_t first, std::uint64_t end) const {
  const auto after = std::upper_bound(ranges.begin(), ranges.end(), first,
                                      [](std::uint64_t at, const ByteRange& r) { return at < r.end; });
  return after != ranges.end() && after->first < end;
}

DiscUse use_of_gamecube(const ConsoleVolume& console) {
  DiscUse use;
  use.ranges = console.used;
  use.known = console.listed;
  return use;
}

DiscUse use_of_wii(const SourcePtr& disc, const WiiDisc& wii, WiiKeep keep) {
  DiscUse use;
  std::vector<ByteRange> ranges = {{0, kWiiFirstPartition}};
  for (std::size_t i = 0; i < wii.partitions.size(); ++i) {
    const WiiPartition& p = wii.partitions[i];
    if (keep == WiiKeep::game && p.type != 0) continue;
    if (!p.listed_only) {
      use.known = add_partition(disc, p, ranges) && use.known;
    } else if (!p.blank) {
      // Where it ends nobody knows: at the latest where the next one begins.
      ranges.push_back({p.offset, i + 1 < wii.partitions.size() ? wii.partitions[i + 1].offset : disc->size()});
      use.known = false;
    }
  }
  use.ranges = joined(std::move(ranges));
  return use;
}

bool looks_scrubbed(const ByteSource& disc, const WiiDisc& wii) {
  constexpr std::uint64_t kLooks = 512;
  for (const WiiPartition& p : wii.partitions) {
    if (p.listed_only || wii.plain) continue;
    if (p.blank) return true;
    const std::uint64_t step = std::max<std::uint64_t>(1, p.clusters() / kLooks);
    for (std::uint64_t c = 0; c < p.clusters(); c += step) {
      const std::uint64_t at = p.data + c * kWiiClusterBytes;
      if (at + kWiiClusterBytes > disc.size()) break;
      if (disc.next_data(at) >= at + kWiiClusterBytes || is_blank_cluster(read_up_to(disc, at, kWiiHashBytes)))
        return true;
    }
  }
  return false;
}

}  // namespace opifex
