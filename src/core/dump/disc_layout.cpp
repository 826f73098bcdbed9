#include "opifex/core/dump/disc_layout.hpp"

#include <algorithm>

#include "opifex/core/cd/subchannel.hpp"
#include "opifex/core/check/combine.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

/// What a sector is by itself; nothing if it cannot be read.
struct Seen {
  std::optional<int> mode = {};  // nothing: no header of its own, so music or damaged
  bool data_like = false;        // most of a header of its own
};

/// A damaged sector of data still has most of its sync and address; music that is nearly silent has of the first only.
bool is_data_like(cd::SectorView s, Lba lba) {
  cd::Sector right{};
  cd::put_header(right, lba, 1);
  constexpr std::size_t kSync = 12, kAddress = 3, kEnough = 8;
  std::size_t same = 0, of_address = 0;
  for (std::size_t i = 0; i < kSync + kAddress; ++i) {
    same += s[i] == right[i] ? 1u : 0u;
    of_address += i >= kSync && s[i] == right[i] ? 1u : 0u;
  }
  return same >= kEnough && of_address > 0;
}

/// Looks at single sectors, and remembers those that prove which disc this is.
class Looker {
 public:
  Looker(Drive& drive, Medium& medium) : drive_(drive), medium_(medium) {}

  std::optional<Seen> look(Lba lba) {
    cd::Sector s{};
    if (!drive_.read_cd(lba, 1, {}, s).ok()) return std::nullopt;
    if (!cd::has_valid_header(s) || cd::header_lba(s) != lba) return Seen{{}, is_data_like(s, lba)};
    constexpr std::size_t kEnough = 16;
    if (medium_.seen.size() < kEnough && proves_itself(s, lba))
      medium_.seen.emplace_back(lba, Bytes(s.begin(), s.end()));
    return Seen{cd::header_mode(s), true};
  }
  /// With those beside it in place of one that cannot be read.
  std::optional<bool> is_data(Lba lba, Lba first, Lba end) {
    constexpr Lba kAround = 3;
    for (Lba off = 0; off <= kAround; ++off)
      for (const Lba at : {lba + off, lba - off}) {
        if (at < first || at >= end) continue;
        if (const auto seen = look(at)) return seen->data_like;
      }
    return std::nullopt;
  }
  /// The border in [first, end) from which on the sectors are data (or are not); `end` if none is. Looked for from the
  /// end backwards. What cannot be read is taken for data: those prove themselves, while music that is moved into place
  /// would be found where none is.
  Lba border(Lba first, Lba end, bool data) {
    const auto is_own = [&](Lba lba) { return is_data(lba, first, end).value_or(true) == data; };
    Lba low = first, high = end;
    for (Lba step = 1; low < high; step *= 2) {
      const Lba at = std::max(first, end - step);
      const std::optional<bool> seen = is_data(at, first, end);
      if (seen == std::optional(!data)) {
        low = at + 1;
        break;
      }
      if (seen || data) high = at;
      if (at == first) break;
    }
    while (low < high) {
      const Lba middle = low + (high - low) / 2;
      if (is_own(middle))
        high = middle;
      else
        low = middle + 1;
    }
    return high;
  }

 private:
  Drive& drive_;
  Medium& medium_;
};

/// Places of a track to look at, far from each other and from its end, where the pause of the next may begin.
std::vector<Lba> places_of(Lba start, Lba end) {
  constexpr Lba kMostPlaces = 16;
  std::vector<Lba> places = {start};
  for (Lba parts = 2; parts <= kMostPlaces; parts *= 2)
    for (Lba k = 1; k < parts; k += 2)
      if (const Lba at = start + static_cast<Lba>(std::int64_t{end - start} * k / parts); at != places.back())
        places.push_back(at);
  return places;
}

/// Music, Mode 1 or 2 by the sectors; the CONTROL bits are wrong on some discs. `end`: of what is surely the track's.
cd::TrackMode mode_of(Looker& looker, const TocTrack& track, Lba end, std::vector<Warning>& warnings) {
  using Kind = cd::TrackMode::Kind;
  constexpr std::size_t kEnoughOfMusic = 2, kEnoughOfData = 4;
  std::size_t without_header = 0;
  for (const Lba lba : places_of(track.start, std::max(track.start + 1, end))) {
    const auto seen = looker.look(lba);
    if (!seen) continue;
    if (seen->mode.value_or(0) != 0) {
      if (!track.is_data())
        warnings.push_back(
            {"data_called_audio",
             fmt::format("the table of contents calls track {} audio, but its sectors are data", track.number)});
      return {*seen->mode == 1 ? Kind::mode1 : Kind::mode2, cd::kRawBytes};
    }
    if (seen->data_like) continue;  // damaged, or of mode 0: empty sectors are in tracks of both kinds
    if (++without_header == (track.is_data() ? kEnoughOfData : kEnoughOfMusic)) break;
  }
  // A short track has fewer places; one that says it is music needs no proof of it.
  const bool music = without_header >= kEnoughOfData || (without_header > 0 && end - track.start <= Lba{kEnoughOfData});
  if (track.is_data() && music)
    warnings.push_back({"audio_called_data",
                        fmt::format("the table of contents calls track {} data, but its sectors are music: it is read "
                                    "as music",
                                    track.number)});
  else if (track.is_data())
    warnings.push_back(
        {"mode_unknown", fmt::format("no sector of track {} tells its mode: Mode 1 is supposed", track.number)});
  return {track.is_data() && !music ? Kind::mode1 : Kind::audio, cd::kRawBytes};
}

/// The last sectors of a track that may be the next one's pause, if nobody says where that begins.
constexpr Lba kUsualPause = 225, kLongestPause = 60 * cd::kFramesPerSecond;

/// Between data and music, in either order: where the sectors of the track's own kind begin.
void find_own(Looker& looker, const cd::Track& before, cd::Track& track, bool told, DiscLayout& disc,
              std::vector<Warning>& warnings) {
  const bool data = !track.mode.is_audio();
  // Between two tracks of data a pause may be music, too; of music that follows music nothing can be told.
  if (before.mode.is_audio() != data &&
      !(data && told && !looker.is_data(track.pregap_lba, track.pregap_lba, track.start_lba).value_or(true)))
    return;
  const Lba lowest = told ? track.pregap_lba : std::max(before.start_lba + 1, track.start_lba - kLongestPause);
  const Lba own = looker.border(lowest, track.start_lba, data);
  if (told) {
    if (own > track.pregap_lba) disc.own_from[track.number] = own;
    return;
  }
  track.pregap_lba = own;
  if (own < track.start_lba)
    warnings.push_back({"gap_judged", fmt::format("where the pause before track {} begins is not known: {} sectors of "
                                                  "{} in front of it were counted to it",
                                                  track.number, track.start_lba - own, data ? "data" : "music")});
}

/// The numbers of the gap between two sessions follow from their distance.
void open_session(cd::Layout& layout, const TocTrack& from, std::vector<Warning>& warnings) {
  if (!layout.sessions.empty()) {
    cd::Session& ended = layout.sessions.back();
    ended.lead_out_sectors = layout.sessions.size() == 1 ? cd::kFirstLeadOut : cd::kLaterLeadOut;
    ended.lead_in_sectors = cd::kLeadIn;
    const Lba between = from.start - ended.lead_out - static_cast<Lba>(ended.lead_out_sectors + cd::kLeadIn);
    ended.pregap_sectors = static_cast<std::uint32_t>(std::max(0, between));
    if (between < 0) warnings.push_back({"short_session_gap", "the sessions lie closer together than they should"});
  }
  layout.sessions.push_back({.number = from.session, .first_track = from.number, .last_track = from.number});
}

}  // namespace

DiscLayout make_layout(Drive& drive, Medium& medium, const std::map<int, cd::Lba>& pregaps, SubchannelPart subchannel) {
  const Toc& toc = medium.toc;
  DiscLayout disc;
  cd::Layout& layout = disc.layout;
  Looker looker(drive, medium);
  for (std::size_t i = 0; i < toc.tracks.size(); ++i) {
    const TocTrack& from = toc.tracks[i];
    const bool opens_session = i == 0 || toc.tracks[i - 1].session != from.session;
    const bool next_follows = i + 1 < toc.tracks.size() && toc.tracks[i + 1].session == from.session;
    Lba own_end = toc.end_of(i);
    if (next_follows) {
      const auto gap = pregaps.find(toc.tracks[i + 1].number);
      const Lba quarter = from.start + (own_end - from.start) / 4;
      own_end = gap != pregaps.end() ? gap->second : std::max(quarter, own_end - kUsualPause);
    }
    cd::Track track;
    track.number = from.number;
    track.session = from.session;
    track.mode = mode_of(looker, from, own_end, medium.warnings);
    track.flags.copy_permitted = (from.control & 2) != 0;
    track.flags.pre_emphasis = track.mode.is_audio() && (from.control & 1) != 0;
    track.flags.four_channels = track.mode.is_audio() && (from.control & 8) != 0;
    track.start_lba = from.start;
    const auto gap = pregaps.find(from.number);
    // Music hidden before track 1 is its pregap.
    track.pregap_lba = i == 0 ? 0 : gap != pregaps.end() ? gap->second : from.start;
    const bool told = subchannel != SubchannelPart::none && gap != pregaps.end();
    if (!opens_session) find_own(looker, layout.tracks.back(), track, told, disc, medium.warnings);
    if (i == 0 && track.pregap_lba < track.start_lba && !track.mode.is_audio())
      disc.own_from[track.number] = looker.border(0, track.start_lba, true);
    if (track.pregap_lba < track.start_lba) track.indexes[0] = track.pregap_lba;
    track.indexes[1] = track.start_lba;
    if (const auto isrc = medium.isrcs.find(from.number); isrc != medium.isrcs.end()) track.isrc = isrc->second;
    if (const auto texts = medium.texts.find(from.number); texts != medium.texts.end()) track.texts = texts->second;
    if (!opens_session) layout.tracks.back().end_lba = track.pregap_lba;
    track.end_lba = toc.end_of(i);
    if (opens_session) open_session(layout, from, medium.warnings);
    layout.sessions.back().last_track = from.number;
    layout.sessions.back().lead_out = toc.lead_outs[static_cast<std::size_t>(from.session) - 1];
    layout.tracks.push_back(std::move(track));
  }
  layout.lead_out = toc.end();
  layout.catalogue = medium.catalogue;
  if (const auto texts = medium.texts.find(0); texts != medium.texts.end()) layout.texts = texts->second;
  return disc;
}

namespace {

int mode_number(const cd::TrackMode& mode) { return mode.kind == cd::TrackMode::Kind::mode1 ? 1 : 2; }

/// Music that goes on from track to track is one run.
void add_region(std::vector<Region>& regions, const Region& region) {
  if (region.first >= region.end) return;
  const bool music = region.kind == RegionKind::audio;
  if (music && !regions.empty() && regions.back().kind == RegionKind::audio && regions.back().end == region.first)
    regions.back().end = region.end;
  else
    regions.push_back(region);
}

}  // namespace

std::vector<Region> regions_of(const cd::Layout& layout, const std::map<int, Lba>& own_from) {
  std::vector<Region> regions;
  for (std::size_t i = 0; i < layout.tracks.size(); ++i) {
    const cd::Track& t = layout.tracks[i];
    const bool music = t.mode.is_audio();
    const auto border = own_from.find(t.number);
    const Lba own = border != own_from.end() ? std::clamp(border->second, t.pregap_lba, t.start_lba) : t.pregap_lba;
    const int before = i > 0 && !layout.tracks[i - 1].mode.is_audio() ? mode_number(layout.tracks[i - 1].mode) : 1;
    add_region(regions, {t.pregap_lba, own, music ? RegionKind::data : RegionKind::audio, t.number, own, before});
    add_region(regions, {own, t.end_lba, music ? RegionKind::audio : RegionKind::data, t.number, t.start_lba,
                         music ? 1 : mode_number(t.mode)});
  }
  return regions;
}

void cut_layout(cd::Layout& layout, Lba end) {
  while (layout.tracks.size() > 1 && layout.tracks.back().start_lba >= end) {
    if (layout.tracks.back().session != layout.tracks[layout.tracks.size() - 2].session) layout.sessions.pop_back();
    layout.tracks.pop_back();
    layout.sessions.back().last_track = layout.tracks.back().number;
  }
  layout.tracks.back().end_lba = std::min(layout.tracks.back().end_lba, end);
  layout.sessions.back().lead_out = layout.lead_out = layout.tracks.back().end_lba;
}

void add_indexes(cd::Layout& layout, const std::function<cd::Subchannel(Lba)>& at) {
  for (cd::Track& t : layout.tracks)
    for (Lba lba = t.start_lba; lba < t.end_lba; ++lba) {
      const cd::Q q = cd::parse_q(cd::q_of(at(lba), cd::SubchannelForm::packed));
      if (!q.crc_fits || q.adr != 1 || q.track != t.number || q.index < 2 || !q.absolute) continue;
      const Lba place = cd::lba_of(*q.absolute);
      constexpr Lba kMostLag = 2;
      if (std::abs(place - lba) <= kMostLag && place < t.end_lba && !t.indexes.contains(q.index))
        t.indexes[q.index] = place;
    }
}

}  // namespace opifex::dump
