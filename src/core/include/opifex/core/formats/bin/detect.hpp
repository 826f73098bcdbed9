/// Finding out what a bare image is: sector size, byte order, mode and tracks, from its bytes alone.
#pragma once

#include <optional>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/cd_image.hpp"

namespace opifex::bin {

enum class Arrangement { raw, mode2_2336, cooked, audio };

struct Detected {
  Arrangement arrangement = Arrangement::raw;
  std::size_t sector_bytes = 2352;
  bool swapped = false, scrambled = false;
  bool sync_lost = false;  ///< raw by its volume descriptor, though the first sector has no sync
  std::optional<cd::SubchannelForm> subchannel = {};
  cd::Lba first_lba = 0;         ///< by the first header; 0 if there is none
  std::optional<int> mode = {};  ///< of sectors without a header, if the user said so
};

/// Looks at a few sectors. Error: unknown_layout, misaligned, ambiguous_layout. Nothing is allocated by a size in the
/// file.
Detected detect(const ByteSource& source);

/// The arrangement for a sector size the user named. Error (usage) if there is no such size.
Detected detect_with_size(const ByteSource& source, std::size_t sector_bytes);

/// Walks all sectors and makes the disc. Adds track_boundaries_guessed, partial_sector, starts_elsewhere,
/// volume_truncated to `warnings`.
CdImagePtr build_disc(const SourcePtr& source, const Detected& detected, std::vector<Warning>& warnings);

/// True if 16-bit little-endian samples sound less like noise when their bytes are swapped; nothing if silence or noise
/// decides nothing.
std::optional<bool> audio_is_big_endian(ByteView samples);

}  // namespace opifex::bin
