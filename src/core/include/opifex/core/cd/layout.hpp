/// What a disc's table of contents says: sessions, tracks, indexes, and the texts that go with them (IEC 60908).
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "opifex/core/cd/address.hpp"

namespace opifex::cd {

/// A track's kind and the bytes its sectors have where they are stored; the words of cue sheets ("MODE2/2352").
struct TrackMode {
  enum class Kind { audio, cdg, mode1, mode2, cdi };
  Kind kind = Kind::audio;
  std::uint16_t sector_bytes = 2352;

  bool is_audio() const { return kind == Kind::audio || kind == Kind::cdg; }
  friend bool operator==(const TrackMode&, const TrackMode&) = default;
};
std::string to_string(TrackMode mode);
/// Any case; nothing if the word names no mode.
std::optional<TrackMode> parse_track_mode(std::string_view word);

/// FLAGS of a track, as in Q's CONTROL where it has them.
struct TrackFlags {
  bool copy_permitted = false, four_channels = false, pre_emphasis = false, serial_copy = false;
  bool any() const { return copy_permitted || four_channels || pre_emphasis || serial_copy; }
};

/// Texts in the order they were found: ("TITLE", "Moth & Lantern").
using Texts = std::vector<std::pair<std::string, std::string>>;
std::optional<std::string> find_text(const Texts& texts, std::string_view key);

/// GD-ROM discs have two areas; all others have none.
enum class Area { none, single_density, high_density };

struct Track {
  int number = 1;  ///< 1 to 99
  TrackMode mode = {};
  int session = 1;
  Area area = Area::none;
  Lba pregap_lba = 0;                                       ///< start of the pause; equals start_lba if there is none
  Lba start_lba = 0;                                        ///< index 01
  Lba end_lba = 0;                                          ///< the next track's pregap_lba, or the lead-out
  std::uint32_t pregap_unstored = 0, postgap_unstored = 0;  ///< sectors of the gaps that no file holds
  std::map<int, Lba> indexes = {};                          ///< 00 only if stored; 01 always
  TrackFlags flags = {};
  std::string isrc = {};
  Texts texts = {};
  std::vector<std::string> remarks = {};
  bool incomplete = false;  ///< its file is missing: the length is unknown

  int control() const;  ///< Q's CONTROL nibble
  std::int32_t length() const { return end_lba - start_lba; }
};

struct Session {
  int number = 1, first_track = 1, last_track = 1;
  Lba lead_out = 0;
  /// Sectors up to index 01 of the next session's first track, by parts; used where a sheet gives them.
  std::uint32_t lead_out_sectors = 0, lead_in_sectors = 0, pregap_sectors = 0;
};

/// Sectors between sessions (Orange Book): lead-out of the first and of later sessions, lead-in, pregap.
inline constexpr std::uint32_t kFirstLeadOut = 6750, kLaterLeadOut = 2250, kLeadIn = 4500;
inline constexpr Lba kHighDensityStart = 45000;  ///< GD-ROM: index 01 of the high-density area's first track

struct Layout {
  std::vector<Track> tracks;  ///< in disc order, never empty in an opened image
  std::vector<Session> sessions;
  Lba lead_out = 0;
  std::string catalogue = {};  ///< 13 digits, or empty
  std::string cd_text_file = {};
  Texts texts = {};
  std::vector<std::string> remarks = {};

  const Track* track(int number) const;
  /// The track whose pregap or program holds the address; null between sessions and outside the disc.
  const Track* track_at(Lba lba) const;
  const Track* first_data_track() const;
  std::size_t audio_track_count() const;
  std::size_t data_track_count() const { return tracks.size() - audio_track_count(); }
};

}  // namespace opifex::cd
