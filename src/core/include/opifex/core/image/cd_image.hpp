/// A CD in whatever files it is stored: its layout, and every sector as the 2352 bytes it has on the disc.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/cd/layout.hpp"
#include "opifex/core/cd/sector.hpp"
#include "opifex/core/cd/subchannel.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex {

/// How a sector lies in its file.
enum class StoredForm {
  raw,          ///< 2352
  raw_with_pw,  ///< 2448: 2352 + 96 of subchannel
  raw_with_q,   ///< 2368: 2352 + 16
  mode2,        ///< 2336: Mode 2 from offset 16
  form2_user,   ///< 2324
  mode1_user,   ///< 2048
  form1_user    ///< 2048
};
std::size_t stored_bytes(StoredForm form);

/// A run of sectors of one track that follow each other on the disc and in their file.
struct Extent {
  int track = 1;
  cd::Lba lba = 0;
  std::uint32_t sectors = 0;
  StoredForm form = StoredForm::raw;
  bool swapped = false;    ///< big-endian words
  bool scrambled = false;  ///< data sectors as on the disc surface
  SourcePtr source = {};
  std::size_t file = 0;      ///< index into the image's list of files
  std::uint64_t offset = 0;  ///< bytes from the start of `source`

  cd::Lba end() const { return lba + static_cast<cd::Lba>(sectors); }
  std::uint64_t size_bytes() const { return std::uint64_t{sectors} * stored_bytes(form); }
};

/// In which form a reader of the image wants its sectors.
enum class SectorForm {
  stored,  ///< as they lie, but audio little-endian and data descrambled
  raw,     ///< 2352
  user     ///< 2048 bytes of a data track; sectors that hold none (Form 2, Mode 0) give zeros
};

class SectorWatch;

/// Immutable once made, but for watch(); safe to read from many threads.
class CdImage {
 public:
  /// `extents` in disc order. Error if they overlap, exceed their sources or leave the layout.
  CdImage(cd::Layout layout, std::vector<Extent> extents, std::optional<cd::SubchannelForm> subchannel = {});

  const cd::Layout& layout() const { return layout_; }
  const std::vector<Extent>& extents() const { return extents_; }
  std::optional<cd::SubchannelForm> subchannel() const { return subchannel_; }
  std::uint64_t stored_sectors() const;

  /// The extent that stores the sector; null if no file holds it.
  const Extent* extent_at(cd::Lba lba) const;

  /// Sectors [lba, lba + count) in the given form, into exactly `count * size` bytes. Gaps that no file holds are made:
  /// zeros for audio, empty sectors with true addresses for data; in the form `stored` they do not exist (Error).
  void read(SectorForm form, cd::Lba lba, std::uint32_t count, std::span<std::byte> out) const;
  void read_sector(cd::Lba lba, cd::SectorSpan out) const { read(SectorForm::raw, lba, 1, out); }

  /// From now on each data sector that is read raw, or as it is stored, is examined on the way.
  void watch() const;
  /// Data sectors whose checksums are wrong, in order; those that nobody has read since watch() are read now.
  std::vector<cd::Lba> watched_damage(JobContext& context) const;

  /// The 96 bytes behind a sector as packed P to W; nothing if none are stored there.
  std::optional<cd::Subchannel> subchannel_at(cd::Lba lba) const;

  /// True if the subchannel stored behind every sector is what the layout regenerates (or all zero): dropping it loses
  /// nothing.
  bool subchannel_is_regenerable() const;

 private:
  void read_extent(const Extent& e, SectorForm form, cd::Lba lba, std::uint32_t count, std::span<std::byte> out) const;
  void make_gap(SectorForm form, cd::Lba lba, std::span<std::byte> out) const;

  bool is_watched(const Extent& e, cd::Lba lba) const;
  void look(const Extent& e, SectorForm form, cd::Lba lba, std::uint32_t count, ByteView bytes) const;

  cd::Layout layout_;
  std::vector<Extent> extents_;
  std::optional<cd::SubchannelForm> subchannel_;
  mutable std::shared_ptr<SectorWatch> watch_;
};

using CdImagePtr = std::shared_ptr<const CdImage>;

/// Bytes one sector has in `form`, where `stored` means that of `extent`.
std::size_t sector_bytes(SectorForm form, const Extent& extent);

/// The user data of a data track as bytes at 2048 * LBA, for file systems: they address sectors by their place on the
/// disc. What lies before the track reads as zeros.
SourcePtr user_data_source(CdImagePtr image, int track);

/// The subchannel position of a sector as the layout has it: track, index, times.
cd::QPosition q_position(const cd::Layout& layout, cd::Lba lba);

}  // namespace opifex
