/// The header and the block tables of a WBFS container (README). All numbers big-endian.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex::wbfs {

/// A Wii disc as the container counts it: two layers and a little more, in clusters of 32 KiB.
inline constexpr std::uint64_t kClusterBytes = 0x8000, kClustersPerDisc = 286'864;
inline constexpr std::size_t kInfoHead = 0x100;

struct Geometry {
  std::uint64_t sectors = 0;  ///< of the device, as the header says
  unsigned sector_shift = 9, block_shift = 21;
  unsigned version = 0;

  std::uint64_t sector_bytes() const { return std::uint64_t{1} << sector_shift; }
  std::uint64_t block_bytes() const { return std::uint64_t{1} << block_shift; }
  std::uint64_t told_bytes() const { return sectors << sector_shift; }
  std::uint64_t blocks_per_disc() const { return kClustersPerDisc >> (block_shift - 15); }
  std::uint64_t info_bytes() const;
  std::uint64_t most_discs() const;
};

/// One disc: for each of its blocks the block of the container, 0 for zeros.
struct Disc {
  std::size_t slot = 0;
  std::string id, title;  ///< of the disc itself
  std::vector<std::uint16_t> blocks;
  std::uint64_t size_bytes = 0;  ///< of the disc; the container does not store it
  std::uint64_t stored = 0;      ///< blocks
};

struct Table {
  Geometry geometry;
  std::vector<Disc> discs;
  std::vector<Warning> warnings;
};

/// Error: no_magic, bad_geometry, no_disc, bad_slot, block_outside, block_shared, first_block, truncated.
Table read_table(const SourcePtr& file);

/// The bytes of a disc; absent blocks are zeros.
SourcePtr open_disc(SourcePtr file, const Geometry& geometry, const Disc& disc);

}  // namespace opifex::wbfs
