// Where pregaps begin: only the Q channel tells.
#include <algorithm>

#include "opifex/core/cd/subchannel.hpp"
#include "opifex/core/dump/disc_layout.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

/// A position the Q channel tells of, by its own address: so it does not matter if the drive returns it late.
struct Position {
  Lba lba;
  int track, index;
};

/// Reads Q, in whichever form the drive has it.
class QReader {
 public:
  QReader(Drive& drive, const Toc& toc, SubchannelPart how) : drive_(drive), toc_(toc), parts_{false, how} {}

  std::vector<Position> positions(Lba first, std::uint32_t count) {
    std::vector<Position> found;
    for (std::uint32_t done = 0; done < count;) {
      const std::uint32_t n = std::min(chunk_, count - done);
      Bytes sectors(n * parts_.bytes());
      const Outcome outcome = drive_.read_cd(first + static_cast<Lba>(done), n, parts_, sectors);
      if (outcome.trouble == Trouble::bad_field && n > 1) {
        chunk_ = std::max(1u, n / 2);
        continue;
      }
      const auto whole = static_cast<std::uint32_t>(outcome.bytes / parts_.bytes());
      for (std::uint32_t i = 0; i < std::min(n, whole); ++i)
        take(ByteView(sectors).subspan(i * parts_.bytes() + cd::kRawBytes, parts_.subchannel_bytes()),
             first + static_cast<Lba>(done + i), found);
      done += std::max(1u, std::min(n, whole));  // a sector that cannot be read is passed over
    }
    return found;
  }

  /// So that the next reading of `lba` comes from the disc.
  void push_out(Lba lba) {
    constexpr std::uint32_t kTogether = 16;
    const auto wanted = static_cast<Lba>(drive_.buffer_bytes() / cd::kRawBytes + 1);
    const Lba from = lba > toc_.end() / 2 ? 0 : std::max(lba + wanted, toc_.end() - wanted);
    Bytes sectors(kTogether * cd::kRawBytes);
    for (Lba at = from; at < std::min(from + wanted, toc_.end());) {
      const std::uint32_t n = std::min({kTogether, chunk_, static_cast<std::uint32_t>(toc_.end() - at)});
      if (drive_.read_cd(at, n, {}, std::span(sectors).first(n * cd::kRawBytes)).trouble == Trouble::bad_field && n > 1)
        chunk_ = n / 2;
      else
        at += static_cast<Lba>(n);
    }
  }

 private:
  void take(ByteView block, Lba at, std::vector<Position>& found) const {
    cd::QBytes bytes{};
    if (parts_.subchannel == SubchannelPart::raw)
      bytes = cd::q_of(cd::SubchannelView(block), cd::SubchannelForm::interleaved);
    else
      std::copy_n(block.begin(), bytes.size(), bytes.begin());
    const cd::Q q = cd::parse_q(bytes);
    if (!q.crc_fits || q.adr != 1 || q.area != cd::QArea::program || !q.absolute) return;
    const Lba lba = cd::lba_of(*q.absolute);
    constexpr Lba kMostLag = 8;
    if (std::abs(lba - at) <= kMostLag) found.push_back({lba, q.track, q.index});
  }

  Drive& drive_;
  const Toc& toc_;
  CdParts parts_;
  std::uint32_t chunk_ = 24;
};

/// What is known of one pregap: it begins behind `before`, and at `first` at the latest.
struct Search {
  std::optional<Lba> first = {};  // lowest sector that calls itself pregap
  Lba before = 0;                 // highest sector that is known to belong to the track before
  bool heard = false;             // of the track before, by the Q channel

  void take(const Position& p, const TocTrack& track) {
    if (p.track == track.number && p.index == 0 && p.lba < track.start) first = std::min(first.value_or(p.lba), p.lba);
    if (p.track >= track.number || p.lba >= track.start) return;
    before = std::max(before, p.lba);
    heard = true;
  }
  /// Sectors between the two that told nothing; without a pause those in front of the track's start.
  Lba silent(Lba start) const { return heard || first ? first.value_or(start) - before - 1 : 0; }
};

/// Goes back from the start of `track` until the track before speaks.
Search look_back(QReader& reader, const TocTrack& track, Lba lowest) {
  constexpr std::uint32_t kChunk = 24;
  constexpr Lba kFarthest = 99 * 60 * cd::kFramesPerSecond, kAtLeast = 2 * static_cast<Lba>(kChunk);
  Search search{.before = lowest - 1};  // by the table of contents
  for (Lba end = track.start; end > lowest && track.start - end < kFarthest;) {
    const Lba from = std::max(lowest, end - static_cast<Lba>(kChunk));
    for (const Position& p : reader.positions(from, static_cast<std::uint32_t>(end - from))) search.take(p, track);
    // Several chunks are looked at even if nothing is found: single frames may be unreadable.
    if (search.heard && track.start - from >= kAtLeast) break;
    end = from;
  }
  return search;
}

std::optional<Lba> find_pregap(QReader& reader, const TocTrack& track, Lba lowest, std::vector<Warning>& warnings) {
  constexpr int kTries = 6;
  Search search = look_back(reader, track, lowest);
  // Frames at the border may be unreadable this time, or tell something else (a catalogue number) for ever.
  for (int i = 0; i < kTries && search.silent(track.start) > 0; ++i) {
    const Lba from = search.before + 1, count = search.silent(track.start);
    reader.push_out(from);
    for (const Position& p : reader.positions(from, static_cast<std::uint32_t>(count))) search.take(p, track);
  }
  if (!search.first && !search.heard)
    warnings.push_back({"gap_unknown", fmt::format("the subchannel before track {} cannot be read: whether it has a "
                                                   "pause is not known",
                                                   track.number)});
  if (search.silent(track.start) <= 0) return search.first;
  // Whole seconds are likely, but only likely.
  const Lba latest = search.first.value_or(track.start);
  Lba chosen = (track.start - latest) % cd::kFramesPerSecond == 0 ? latest : search.before + 1;
  for (Lba lba = search.before + 1; lba < latest; ++lba)
    if ((track.start - lba) % cd::kFramesPerSecond == 0) chosen = lba;
  warnings.push_back({"gap_uncertain", fmt::format("the pause before track {} begins somewhere from LBA {} to {}: the "
                                                   "frames there tell nothing, {} was taken",
                                                   track.number, search.before + 1, latest, chosen)});
  return chosen < track.start ? std::optional(chosen) : std::nullopt;
}

}  // namespace

SubchannelPart subchannel_of(Drive& drive, const Toc& toc) {
  for (const SubchannelPart part : {SubchannelPart::raw, SubchannelPart::q}) {
    const CdParts parts{false, part};
    Bytes sector(parts.bytes());
    if (drive.read_cd(toc.tracks.front().start, 1, parts, sector).trouble != Trouble::bad_field) return part;
  }
  return SubchannelPart::none;
}

std::map<int, Lba> find_pregaps(Drive& drive, const Toc& toc, SubchannelPart subchannel,
                                std::vector<Warning>& warnings) {
  std::map<int, Lba> pregaps;
  if (toc.tracks.size() < 2) return pregaps;
  if (subchannel == SubchannelPart::none) {
    warnings.push_back({"gaps_unknown",
                        "this drive does not return the subchannel: where pauses between tracks of music begin stays "
                        "unknown, and their sectors are counted to the track before"});
    return pregaps;
  }
  QReader reader(drive, toc, subchannel);
  for (std::size_t i = 1; i < toc.tracks.size(); ++i) {
    const TocTrack& track = toc.tracks[i];
    if (toc.tracks[i - 1].session != track.session) continue;  // the gap between sessions is no pregap
    if (const auto lba = find_pregap(reader, track, toc.tracks[i - 1].start + 1, warnings))
      pregaps[track.number] = *lba;
  }
  return pregaps;
}

}  // namespace opifex::dump
