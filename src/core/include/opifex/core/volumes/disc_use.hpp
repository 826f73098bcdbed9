/// Which bytes of a GameCube or Wii disc anything needs: what may be left out, and where an image may end.
#pragma once

#include "opifex/core/volumes/wii/disc.hpp"

namespace opifex {

struct DiscUse {
  std::vector<ByteRange> ranges = {};  ///< joined, in bytes of the disc, whole clusters on a Wii disc
  bool known = true;                   ///< every table of files was read: the rest is used by nothing
  std::uint64_t end() const { return ranges.empty() ? 0 : ranges.back().end; }
  std::uint64_t bytes() const;
  bool touches(std::uint64_t first, std::uint64_t end) const;
};

enum class WiiKeep { all, game };  ///< game: partitions of type data only

DiscUse use_of_gamecube(const ConsoleVolume& console);
/// All data of a partition that cannot be listed counts as used.
DiscUse use_of_wii(const SourcePtr& disc, const WiiDisc& wii, WiiKeep keep = WiiKeep::all);

/// Looks at up to 512 clusters of each partition, all of a small one: is any blank?
bool looks_scrubbed(const ByteSource& disc, const WiiDisc& wii);

}  // namespace opifex
