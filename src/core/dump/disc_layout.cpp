#include "opifex/core/dump/disc_layout.hpp"

#include <algorithm>

#include "opifex/core/cd/subchannel.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

/// A position the Q channel tells of, by its own address: so it does not matter if the drive returns it late.
struct Position {
  Lba lba;
  int track, index;
};

std::vector<Position> read_positions(Drive& drive, Lba first, std::uint32_t count) {
  const CdParts parts{false, true};
  Bytes sectors(count * parts.bytes());
  const Outcome outcome = drive.read_cd(first, count, parts, sectors);
  std::vector<Position> positions;
  for (std::size_t i = 0; i < outcome.bytes / parts.bytes(); ++i) {
    const auto block = ByteView(sectors).subspan(i * parts.bytes() + cd::kRawBytes, cd::kSubchannelBytes);
    const cd::Q q = cd::parse_q(cd::q_of(cd::SubchannelView(block), cd::SubchannelForm::interleaved));
    if (!q.crc_fits || q.adr != 1 || q.area != cd::QArea::program || !q.absolute) continue;
    const Lba lba = cd::lba_of(*q.absolute);
    constexpr Lba kMostLag = 8;
    if (std::abs(lba - (first + static_cast<Lba>(i))) <= kMostLag) positions.push_back({lba, q.track, q.index});
  }
  return positions;
}

/// Goes back from the start of `track` until the track before speaks.
std::optional<Lba> find_pregap(Drive& drive, const TocTrack& track, Lba lowest) {
  constexpr std::uint32_t kChunk = 24;
  constexpr Lba kFarthest = 99 * 60 * cd::kFramesPerSecond, kAtLeast = 2 * static_cast<Lba>(kChunk);
  std::optional<Lba> first;  // lowest sector that calls itself pregap
  Lba before = lowest - 1;   // highest sector that belongs to the track before
  bool heard = false;
  for (Lba end = track.start; end > lowest && track.start - end < kFarthest;) {
    const Lba from = std::max(lowest, end - static_cast<Lba>(kChunk));
    for (const Position& p : read_positions(drive, from, static_cast<std::uint32_t>(end - from))) {
      if (p.track == track.number && p.index == 0 && p.lba < track.start)
        first = std::min(first.value_or(p.lba), p.lba);
      if (p.track >= track.number || p.lba >= track.start) continue;
      before = heard ? std::max(before, p.lba) : p.lba;
      heard = true;
    }
    // Several chunks are looked at even if nothing is found: single frames may be unreadable.
    if (heard && track.start - from >= kAtLeast) break;
    end = from;
  }
  if (!first || !heard || before + 1 >= *first) return first;
  // Between the two stand frames that tell something else (a catalogue number) or nothing. Whole seconds are likely.
  for (Lba lba = before + 1; lba < *first; ++lba)
    if ((track.start - lba) % cd::kFramesPerSecond == 0) return lba;
  return (track.start - *first) % cd::kFramesPerSecond == 0 ? *first : before + 1;
}

bool can_read_subchannel(Drive& drive, const Toc& toc) {
  const CdParts parts{false, true};
  Bytes sector(parts.bytes());
  return drive.read_cd(toc.tracks.front().start, 1, parts, sector).trouble != Trouble::bad_field;
}

/// Mode 1 or 2 by the sectors; the CONTROL bits are wrong on some discs.
cd::TrackMode mode_of(Drive& drive, const TocTrack& track, Lba end, std::vector<Warning>& warnings) {
  using Kind = cd::TrackMode::Kind;
  const std::array<Lba, 3> places = {track.start, track.start + (end - track.start) / 2,
                                     std::max(track.start, end - 4)};
  bool read_any = false;
  for (const Lba lba : places) {
    cd::Sector s{};
    if (!drive.read_cd(lba, 1, {}, s).ok()) continue;
    read_any = true;
    const auto mode = cd::has_valid_header(s) && cd::header_lba(s) == lba ? cd::header_mode(s) : std::nullopt;
    if (!mode || *mode == 0) continue;
    if (!track.is_data())
      warnings.push_back(
          {"data_called_audio",
           fmt::format("the table of contents calls track {} audio, but its sectors are data", track.number)});
    return {*mode == 1 ? Kind::mode1 : Kind::mode2, cd::kRawBytes};
  }
  if (track.is_data() && read_any)
    warnings.push_back(
        {"audio_called_data", fmt::format("track {} is called data, but its sectors have no sync", track.number)});
  return {track.is_data() ? Kind::mode1 : Kind::audio, cd::kRawBytes};
}

}  // namespace

std::map<int, Lba> find_pregaps(Drive& drive, const Toc& toc, std::vector<Warning>& warnings) {
  std::map<int, Lba> pregaps;
  if (toc.tracks.size() < 2) return pregaps;
  if (!can_read_subchannel(drive, toc)) {
    warnings.push_back({"no_subchannel",
                        "this drive does not return the subchannel: where pregaps begin stays unknown, "
                        "and their sectors are counted to the track before"});
    return pregaps;
  }
  for (std::size_t i = 1; i < toc.tracks.size(); ++i) {
    const TocTrack& track = toc.tracks[i];
    if (toc.tracks[i - 1].session != track.session) continue;  // the gap between sessions is no pregap
    if (const auto lba = find_pregap(drive, track, toc.tracks[i - 1].start + 1)) pregaps[track.number] = *lba;
  }
  return pregaps;
}

cd::Layout make_layout(Drive& drive, Medium& medium, const std::map<int, Lba>& pregaps) {
  const Toc& toc = medium.toc;
  cd::Layout layout;
  for (std::size_t i = 0; i < toc.tracks.size(); ++i) {
    const TocTrack& from = toc.tracks[i];
    const bool opens_session = i == 0 || toc.tracks[i - 1].session != from.session;
    cd::Track track;
    track.number = from.number;
    track.session = from.session;
    track.mode = mode_of(drive, from, toc.end_of(i), medium.warnings);
    track.flags.copy_permitted = (from.control & 2) != 0;
    track.flags.pre_emphasis = track.mode.is_audio() && (from.control & 1) != 0;
    track.flags.four_channels = track.mode.is_audio() && (from.control & 8) != 0;
    track.start_lba = from.start;
    const auto gap = pregaps.find(from.number);
    // Music hidden before track 1 is its pregap.
    track.pregap_lba = i == 0 ? 0 : gap != pregaps.end() ? gap->second : from.start;
    if (track.pregap_lba < track.start_lba) track.indexes[0] = track.pregap_lba;
    track.indexes[1] = track.start_lba;
    if (const auto isrc = medium.isrcs.find(from.number); isrc != medium.isrcs.end()) track.isrc = isrc->second;
    if (const auto texts = medium.texts.find(from.number); texts != medium.texts.end()) track.texts = texts->second;
    if (!opens_session) layout.tracks.back().end_lba = track.pregap_lba;
    track.end_lba = toc.end_of(i);
    if (opens_session) {
      if (!layout.sessions.empty()) {
        cd::Session& ended = layout.sessions.back();
        ended.lead_out_sectors = layout.sessions.size() == 1 ? cd::kFirstLeadOut : cd::kLaterLeadOut;
        ended.lead_in_sectors = cd::kLeadIn;
        const Lba between = from.start - ended.lead_out - static_cast<Lba>(ended.lead_out_sectors + cd::kLeadIn);
        ended.pregap_sectors = static_cast<std::uint32_t>(std::max(0, between));
        if (between < 0)
          medium.warnings.push_back({"short_session_gap", "the sessions lie closer together than they should"});
      }
      layout.sessions.push_back({.number = from.session, .first_track = from.number, .last_track = from.number});
    }
    layout.sessions.back().last_track = from.number;
    layout.sessions.back().lead_out = toc.lead_outs[static_cast<std::size_t>(from.session) - 1];
    layout.tracks.push_back(std::move(track));
  }
  layout.lead_out = toc.end();
  layout.catalogue = medium.catalogue;
  if (const auto texts = medium.texts.find(0); texts != medium.texts.end()) layout.texts = texts->second;
  return layout;
}

std::vector<Region> regions_of(const cd::Layout& layout) {
  std::vector<Region> regions;
  for (const cd::Track& t : layout.tracks) {
    const RegionKind kind = t.mode.is_audio() ? RegionKind::audio : RegionKind::data;
    // Music that goes on from track to track is one run.
    if (kind == RegionKind::audio && !regions.empty() && regions.back().kind == kind &&
        regions.back().end == t.pregap_lba)
      regions.back().end = t.end_lba;
    else
      regions.push_back({t.pregap_lba, t.end_lba, kind, t.number, t.start_lba});
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
