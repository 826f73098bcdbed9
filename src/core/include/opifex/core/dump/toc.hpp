/// The table of contents as a drive reports it (MMC-6, 6.26), checked before use.
#pragma once

#include <optional>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/cd/layout.hpp"

namespace opifex::dump {

struct TocTrack {
  int number = 1, session = 1, control = 0;
  cd::Lba start = 0;  ///< index 01
  bool is_data() const { return (control & 4) != 0; }
};

struct Toc {
  std::vector<TocTrack> tracks;    ///< ascending
  std::vector<cd::Lba> lead_outs;  ///< of each session, from session 1
  std::vector<Warning> warnings = {};
  cd::Lba end() const { return lead_outs.back(); }
  /// Where the track's data end: the next track of its session, or that session's lead-out.
  cd::Lba end_of(std::size_t track) const;
};

/// Full TOC (format 2). Numbers in BCD, as a few drives answer, are recognised. Error "bad_toc" with the bytes in hex.
Toc parse_full_toc(ByteView reply);
/// Plain TOC (format 0), and the sessions (format 1) if the drive has them.
Toc parse_plain_toc(ByteView reply, const std::optional<Bytes>& sessions);

/// CD-TEXT packs (format 5): names of the disc (number 0) and of its tracks, first language only.
std::map<int, cd::Texts> parse_cd_text(ByteView reply);

}  // namespace opifex::dump
