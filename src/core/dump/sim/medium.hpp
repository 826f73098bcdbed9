/// The disc in the simulated drive.
#pragma once

#include <map>

#include "opifex/core/dump/sim.hpp"
#include "opifex/core/image/cd_image.hpp"

namespace opifex::dump {

class SimMedium {
 public:
  SimMedium(const SimDisc& disc, std::uint64_t seed);

  bool is_cd() const { return cd_ != nullptr; }
  int profile() const { return disc_.profile; }
  const SimDisc& disc() const { return disc_; }
  const cd::Layout& layout() const { return cd_->layout(); }
  /// Sectors there are: to the last lead-out, or blocks.
  cd::Lba end() const { return end_; }
  /// What the table of contents and READ CAPACITY claim.
  cd::Lba claimed_end() const { return end_ + static_cast<cd::Lba>(disc_.toc_excess); }
  bool in_program(cd::Lba lba) const;
  bool is_audio(cd::Lba lba) const;
  /// Bytes as stored, true; 2352 a sector on a CD (sectors of one kind), 2048 else.
  void read(cd::Lba lba, std::uint32_t count, std::span<std::byte> out) const;
  /// Audio as a drive delivers it whose reading lies `samples` behind: byte j is byte j - 4 * samples of the disc's
  /// own.
  void read_shifted(cd::Lba lba, std::int64_t samples, cd::SectorSpan out) const;
  /// The same with sectors of data in their places, scrambled.
  void read_as_audio(cd::Lba lba, std::int64_t samples, cd::SectorSpan out) const;
  cd::QBytes q_at(cd::Lba lba) const;
  std::string isrc(int track) const;
  /// CONTROL as the table of contents has it (MMC-6, table 13): not always what the sectors are.
  int control(const cd::Track& track) const;
  Bytes cd_text() const;

 private:
  void read_stream(cd::Lba lba, std::int64_t samples, bool with_data, cd::SectorSpan out) const;

  SimDisc disc_;
  CdImagePtr cd_;
  SourcePtr blocks_;
  cd::Lba end_ = 0;
  std::map<int, std::string> isrcs_;
  std::map<int, int> controls_;
};

}  // namespace opifex::dump
