/// Several dumps of one disc, sector by sector: which of them is believed, and what they give together.
#pragma once

#include <memory>
#include <vector>

#include "opifex/core/check/combine.hpp"
#include "opifex/core/check/rescue.hpp"

namespace opifex {

/// What becomes of a sector that was never read; audio gets zeros.
inline constexpr std::byte kRescueFill{0x55};

/// How a sector came to be, and the inputs that gave it.
struct SectorOrigin {
  RescueHow how = RescueHow::lost;
  std::vector<std::size_t> inputs = {};
};

/// The inputs, and what is decided about each sector. Immutable once aligned: read from many threads.
class Joiner {
 public:
  explicit Joiner(std::vector<RescueInput> inputs);

  /// True for images of blocks of 2048 bytes, false for CDs.
  bool blocks() const { return blocks_; }
  std::size_t sector_bytes() const { return size_; }
  const std::vector<RescueInput>& inputs() const { return inputs_; }
  /// Samples by which the music of each input lies behind that of the surest one.
  const std::vector<int>& shifts() const { return shifts_; }
  /// What the input's own dump knew of the sector; `outside` if it left no map. Of music that is shifted: of all
  /// sectors it is cut from.
  SectorState state(std::size_t input, cd::Lba lba) const;
  /// The input that has the most of the disc: dumps that were cut off are held against it.
  const RescueInput& whole() const { return inputs_[whole_]; }
  const cd::Layout& layout() const { return whole().image.cd()->layout(); }
  bool is_audio(cd::Lba lba) const;

  /// Sectors of one kind from one input, its music shifted into place.
  void read(std::size_t input, cd::Lba lba, std::uint32_t count, std::span<std::byte> out) const;

  /// `sectors` holds the sector of every input, one behind the other.
  SectorOrigin decide(cd::Lba lba, std::span<const ByteView> sectors, cd::Sector& out) const;

  /// Finds the shifts.
  void align();
  std::size_t reference() const { return reference_; }

 private:
  bool has(std::size_t input, cd::Lba lba, ByteView bytes) const;
  bool reaches(std::size_t input, cd::Lba lba) const;
  bool vouches(std::size_t input, cd::Lba lba) const;
  bool has_checksum(cd::Lba lba, std::span<const Reading> readings) const;
  std::vector<cd::Erasure> suspects(std::size_t input, cd::Lba lba) const;
  CombinedSector combine_blocks(std::span<const Reading> readings) const;
  CombinedSector combine_music(std::span<const Reading> readings, const std::vector<std::size_t>& owners,
                               cd::Lba lba) const;
  RescueHow how_of(const CombinedSector& joined, std::size_t readings) const;
  int shift_of(std::size_t input) const;
  std::optional<int> shift_at(std::size_t input, cd::Lba lba) const;

  std::vector<RescueInput> inputs_;
  std::vector<int> shifts_;
  std::size_t whole_ = 0;
  std::size_t reference_ = 0;  // the input whose music lies where it should
  bool blocks_ = false;
  std::size_t size_ = 0;
};

}  // namespace opifex
