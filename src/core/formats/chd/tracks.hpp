/// What a CHD holds, by its metadata (README, sections 6 and 7).
#pragma once

#include "opifex/core/cd/layout.hpp"
#include "opifex/core/formats/chd/chd.hpp"

namespace opifex::chd {

enum class Kind { cd, gdrom, dvd, hd, raw };
std::string_view to_string(Kind kind);

struct ChdTrack {
  int number = 1;
  std::string type = {}, subtype = {};
  std::uint32_t frames = 0, pad = 0;  ///< stored, with `pad` empty ones of a GD-ROM at the end
  std::uint32_t pregap = 0, postgap = 0;
  bool pregap_stored = false, swapped = false;
  std::uint64_t first_frame = 0;
  cd::TrackMode mode = {};
  bool has_subcode() const { return subtype != "NONE"; }
};

struct Contents {
  Kind kind = Kind::raw;
  std::vector<ChdTrack> tracks = {};
  std::vector<Warning> warnings = {};
};
/// Error "tracks" if the metadata contradicts itself or the size; "codec" for audio/video.
Contents read_contents(const Chd& chd);

/// Addresses of all tracks; LBA 0 is the first stored frame unless track 1 has a gap that is not stored.
cd::Layout make_layout(const Contents& contents, std::vector<Warning>& warnings);

}  // namespace opifex::chd
