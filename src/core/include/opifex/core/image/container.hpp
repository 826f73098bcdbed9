/// What a compressed container tells of itself, beside the image it holds.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/cd_image.hpp"

namespace opifex {

struct ContainerFact {
  std::string key, label, value;             ///< "raw_sha1", "Raw SHA-1", "d647..."
  std::optional<std::uint64_t> number = {};  ///< what programs read where `value` is for people
};
/// How much of it is stored in which way.
struct ContainerShare {
  std::string codec;
  std::uint64_t hunks = 0, bytes = 0;  ///< bytes in the file
};
/// The same of one stretch of what it holds.
struct ContainerStretch {
  std::uint64_t first = 0, end = 0;  ///< bytes of what it holds
  std::vector<ContainerShare> shares = {};
};
struct ContainerTag {
  std::string name;
  unsigned flags = 0;
  std::uint64_t offset = 0, size_bytes = 0;
  std::string text;  ///< printable; empty for binary data
};
struct ContainerProblem {
  std::string code, message;
  std::optional<std::uint64_t> offset = {};  ///< in the file
  std::optional<std::int32_t> lba = {};      ///< first sector hit, on CDs
  std::uint64_t sectors = 0;
  std::vector<std::string> files = {};  ///< that it hits, where the container knows
};

/// Sectors of one extent as they come out of a container, in places of equal size.
struct DecodedRun {
  const Extent* extent = nullptr;
  cd::Lba lba = 0;              ///< of the first
  ByteView places = {};         ///< each begins with a stored sector; more may follow it
  std::size_t place_bytes = 0;  ///< of one
  bool swapped = false;         ///< music in big-endian words
  ByteView parity_made = {};  ///< not zero: P and Q were computed of the data just now. A byte a sector, or none at all
};

/// Whole stored sectors of one extent, in the form `stored` of CdImage::read().
struct StoredRun {
  const Extent* extent = nullptr;
  cd::Lba lba = 0;
  ByteView sectors = {};
};

/// Who looks at the sectors while a container is verified, so that nothing is decoded twice.
class DecodedSectors {
 public:
  virtual ~DecodedSectors() = default;
  virtual void judge(const DecodedRun& run) = 0;                  ///< from many threads at once, in any order
  virtual std::size_t lanes() const = 0;                          ///< hashes that run side by side
  virtual void hash(std::size_t lane, const StoredRun& run) = 0;  ///< in disc order, a lane by one thread at a time
  /// The same for discs of blocks: all bytes from `at` of the disc, in order.
  virtual void hash_blocks(std::size_t lane, std::uint64_t at, ByteView bytes) = 0;
};

class Container {
 public:
  virtual ~Container() = default;
  virtual std::vector<ContainerFact> facts() const = 0;
  virtual std::vector<ContainerShare> shares() const = 0;
  virtual std::vector<ContainerTag> tags() const = 0;
  /// What it holds in at most `most` stretches of about equal length; empty if it is not stored in hunks.
  virtual std::vector<ContainerStretch> along(std::size_t /*most*/) const { return {}; }
  /// Every byte it holds is under a hash of its own, so that a sound one is proved to be what was written.
  virtual bool hashes_everything() const { return false; }
  /// No byte of it is under any checksum: nobody can tell whether it is what was written.
  virtual bool hashes_nothing() const { return false; }
  /// verify() passes the bytes of a disc of blocks on: nobody has to decode them again for their hashes.
  virtual bool decodes_blocks() const { return false; }
  /// From now on what is read is held against the checksums of the whole, too, as far as it is read in order.
  virtual void watch() const {}
  /// What the reading since watch() has shown to be wrong; nothing if it was not all read, or not in order, so that
  /// nobody can say.
  virtual std::optional<std::vector<ContainerProblem>> seen() const { return std::nullopt; }
  /// Decodes everything once and compares it with every checksum there is; lists all that is wrong. `sectors` may be
  /// null; it sees every sector of a CD but those of damaged hunks.
  virtual std::vector<ContainerProblem> verify(JobContext& context, DecodedSectors* sectors) const = 0;
};

}  // namespace opifex
