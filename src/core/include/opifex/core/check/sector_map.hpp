/// What is known of each sector of a dump, and the text file that keeps it: the resume state while a dump runs, the map
/// of damaged sectors beside one that is done.
#pragma once

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "opifex/core/cd/examine.hpp"

namespace opifex {

enum class SectorState : std::uint8_t {
  outside,          ///< no data of the disc: the gap between two sessions
  untried,          ///< not read yet
  good,             ///< read and, where the medium has a checksum, verified
  retried,          ///< good after more than one reading
  repaired,         ///< mended by its own error correction
  combined,         ///< put together from several readings, and proved by its checksum
  audio_confirmed,  ///< two readings are the same
  audio_unsure,     ///< readings differ: the most frequent samples were taken
  bad_edc,          ///< delivered, but its checksum is wrong
  unreadable,
  hang,   ///< the drive stopped answering here
  runout  ///< link block behind a track written at once: no data
};
std::string_view to_string(SectorState state);
std::optional<SectorState> parse_sector_state(std::string_view word);
/// True if nothing is left to try for this sector.
bool is_settled(SectorState state);
/// True if the sector's bytes are not what the disc holds: bad_edc, unreadable, hang, untried.
bool is_lost(SectorState state);

/// Sectors [first, end).
struct DiscRange {
  std::int64_t first = 0, end = 0;
  friend bool operator==(const DiscRange&, const DiscRange&) = default;
};

/// What damage did to one file or folder.
struct FileHit {
  std::string path;
  std::uint64_t sectors = 0, hit = 0;  ///< of it
  std::int64_t first = 0;              ///< its first sector that is hit
};

struct StateRange {
  cd::Lba first = 0, end = 0;  ///< [first, end)
  SectorState state = SectorState::untried;
  friend bool operator==(const StateRange&, const StateRange&) = default;
};

/// States of the sectors [first, end), kept as ranges: a whole disc costs a few bytes, each damaged spot a few more.
class SectorMap {
 public:
  SectorMap(cd::Lba first, cd::Lba end);

  cd::Lba first() const { return first_; }
  cd::Lba end() const { return end_; }
  SectorState at(cd::Lba lba) const;
  /// What lies outside the map is ignored.
  void set(cd::Lba first, cd::Lba end, SectorState state);
  std::vector<StateRange> ranges() const;
  std::uint64_t count(SectorState state) const;
  /// Of those that satisfy `wanted`.
  template <typename Wanted>
  std::uint64_t count_if(Wanted wanted) const {
    std::uint64_t n = 0;
    for (const StateRange& r : ranges())
      if (wanted(r.state)) n += static_cast<std::uint64_t>(r.end - r.first);
    return n;
  }

 private:
  cd::Lba first_, end_;
  std::map<cd::Lba, SectorState> from_;  // the state from this address on; neighbours differ
};

/// A sector map as it is kept in a file.
struct SectorMapFile {
  std::vector<std::pair<std::string, std::string>> facts = {};  ///< what the dump was: names and values, one line each
  SectorMap map{0, 0};
  std::map<cd::Lba, std::vector<cd::Erasure>> suspect_bytes = {};  ///< flagged by the drive in the reading kept

  std::string fact(std::string_view name) const;
};

/// Text, UTF-8, ends with a line of its own CRC-32.
std::string print(const SectorMapFile& file);
inline constexpr std::size_t kMaxSectorMapBytes = 64 << 20;
/// Error "bad_sector_map" with the line. `name` is for messages.
SectorMapFile parse_sector_map(std::string_view text, const std::string& name);

/// A map beside a dump that was replaced by a whole one would make its good sectors bad. Only what is a map is removed.
void remove_old_map(const std::filesystem::path& path);

}  // namespace opifex
