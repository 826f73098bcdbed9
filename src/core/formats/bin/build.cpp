// The tracks of a bare image: every sector's first bytes are looked at, in order.
#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/formats/bin/detect.hpp"

namespace opifex::bin {
namespace {

using cd::Lba;
using cd::TrackMode;

enum class Kind { no_sync, mode1, mode2 };

/// Neighbouring sectors of one kind.
struct Run {
  Kind kind = Kind::no_sync;
  std::uint32_t first = 0, sectors = 0;
  std::uint32_t leading_zero = 0;  // all-zero sectors at its start, for runs without sync
  std::optional<Lba> first_address = {}, last_address = {};
};

class Walker {
 public:
  Walker(const ByteSource& source, const Detected& d) : source_(source), d_(d) {
    cd::Sector zero{};
    cd::scramble(zero);
    std::copy_n(zero.begin() + 12, 4, scramble_mask_.begin());
  }

  std::vector<Run> walk(std::uint32_t sectors) {
    constexpr std::uint32_t kBatch = 512;
    Bytes batch;
    for (std::uint32_t first = 0; first < sectors; first += kBatch) {
      const std::uint32_t n = std::min(kBatch, sectors - first);
      if (goes_on(first, n)) continue;
      batch.resize(n * d_.sector_bytes);
      source_.read_at(std::uint64_t{first} * d_.sector_bytes, batch);
      for (std::uint32_t i = 0; i < n; ++i) add(first + i, ByteView(batch).subspan(i * d_.sector_bytes, cd::kRawBytes));
    }
    return joined();
  }

 private:
  struct Head {
    std::optional<int> mode;  // nothing: no data sector
    std::optional<Lba> address;
  };

  Head head_of(ByteView sector) const {
    cd::Sector s{};
    std::copy_n(sector.begin(), 16, s.begin());
    if (d_.swapped) cd::swap_words(std::span(s).first(16));
    if (!cd::has_sync(s)) return {};
    if (d_.scrambled)
      for (std::size_t i = 0; i < 4; ++i) s[12 + i] ^= scramble_mask_.at(i);
    if (!cd::has_valid_header(s)) return {};
    return {cd::header_mode(s), cd::header_lba(s)};
  }

  /// True if the last of the next `n` sectors continues the current data run in mode and address: what lies between is
  /// then data too, sound or damaged (see joined()), and need not be read.
  bool goes_on(std::uint32_t first, std::uint32_t n) {
    if (runs_.empty() || runs_.back().kind == Kind::no_sync || !runs_.back().last_address) return false;
    Run& run = runs_.back();
    const Head head = head_of(read_up_to(source_, std::uint64_t{first + n - 1} * d_.sector_bytes, 16));
    const bool same = head.mode && head.address && *head.mode == (run.kind == Kind::mode1 ? 1 : 2);
    if (!same || *head.address - *run.last_address != static_cast<Lba>(n)) return false;
    run.sectors += n;
    run.last_address = head.address;
    return true;
  }

  void add(std::uint32_t at, ByteView sector) {
    const Head head = head_of(sector);
    Kind kind = Kind::no_sync;
    if (head.mode) kind = *head.mode == 1 ? Kind::mode1 : Kind::mode2;
    // Mode 0 belongs to the run before it.
    if (head.mode && *head.mode == 0 && !runs_.empty() && runs_.back().kind != Kind::no_sync) kind = runs_.back().kind;
    if (runs_.empty() || runs_.back().kind != kind)
      runs_.push_back({.kind = kind, .first = at, .first_address = head.address});
    Run& run = runs_.back();
    ++run.sectors;
    if (head.address) run.last_address = head.address;
    if (kind == Kind::no_sync && run.leading_zero + 1 == run.sectors && all_zero(sector)) ++run.leading_zero;
  }

  /// A run without sync across which the addresses keep counting is damaged data.
  std::vector<Run> joined() {
    std::vector<Run> out;
    for (std::size_t i = 0; i < runs_.size(); ++i) {
      const bool between = i > 0 && i + 1 < runs_.size() && runs_[i].kind == Kind::no_sync && !out.empty();
      if (between && out.back().last_address && runs_[i + 1].first_address && out.back().kind == runs_[i + 1].kind &&
          *runs_[i + 1].first_address - *out.back().last_address == static_cast<Lba>(runs_[i].sectors) + 1) {
        out.back().sectors += runs_[i].sectors + runs_[i + 1].sectors;
        out.back().last_address = runs_[i + 1].last_address;
        ++i;
      } else {
        out.push_back(runs_[i]);
      }
    }
    return out;
  }

  const ByteSource& source_;
  const Detected& d_;
  std::array<std::byte, 4> scramble_mask_{};
  std::vector<Run> runs_;
};

StoredForm stored_form(const Detected& d, TrackMode mode) {
  switch (d.sector_bytes) {
    case 2448:
      return StoredForm::raw_with_pw;
    case 2368:
      return StoredForm::raw_with_q;
    case 2336:
      return StoredForm::mode2;
    case 2048:
      return mode.kind == TrackMode::Kind::mode1 ? StoredForm::mode1_user : StoredForm::form1_user;
    default:
      return StoredForm::raw;
  }
}

std::vector<Run> runs_of(const ByteSource& source, const Detected& d, std::uint32_t sectors) {
  if (d.arrangement == Arrangement::audio) return {{.kind = Kind::no_sync, .sectors = sectors}};
  if (d.arrangement == Arrangement::raw && !d.sync_lost) return Walker(source, d).walk(sectors);
  if (d.arrangement == Arrangement::mode2_2336) return {{.kind = Kind::mode2, .sectors = sectors}};
  if (d.mode) return {{.kind = *d.mode == 1 ? Kind::mode1 : Kind::mode2, .sectors = sectors}};
  // "CD-XA001" in the volume descriptor: the disc is of Mode 2 (iso9660, section 2).
  const std::size_t data_at = d.arrangement == Arrangement::raw ? 24 : 0;
  const bool xa = as_text(read_up_to(source, kIsoDescriptorSector * d.sector_bytes + data_at + kXaMarkAt,
                                     kXaMark.size())) == kXaMark;
  return {{.kind = xa ? Kind::mode2 : Kind::mode1, .sectors = sectors}};
}

TrackMode mode_of(Kind kind, std::size_t sector_bytes) {
  const auto bytes = static_cast<std::uint16_t>(sector_bytes > cd::kRawBytes ? cd::kRawBytes : sector_bytes);
  if (kind == Kind::no_sync) return {TrackMode::Kind::audio, cd::kRawBytes};
  return {kind == Kind::mode1 ? TrackMode::Kind::mode1 : TrackMode::Kind::mode2, bytes};
}

void check_volume_size(const CdImagePtr& disc, std::vector<Warning>& warnings) {
  const cd::Track* track = disc->layout().first_data_track();
  if (!track) return;
  const SourcePtr user = user_data_source(disc, track->number);
  const Bytes descriptor = read_up_to(*user, kIsoDescriptorSector * cd::kUserBytes, cd::kUserBytes);
  if (descriptor.size() < cd::kUserBytes || as_text(descriptor).substr(1, kIsoMark.size()) != kIsoMark) return;
  const std::uint32_t claimed = load_le32(descriptor, kIsoSpaceAt);
  const std::uint64_t there = user->size() / cd::kUserBytes;
  if (claimed > there)
    warnings.push_back(
        {"volume_truncated",
         fmt::format("the file system has {} sectors, the data track only {}: the image is cut short", claimed, there),
         {},
         Cause::truncated});
}

/// `base` is the LBA of the file's first sector: 0, or that of a pregap that is stored.
cd::Track track_of(const Run& run, const Detected& d, Lba base, int number) {
  cd::Track track;
  track.number = number;
  track.mode = mode_of(run.kind, d.sector_bytes);
  track.pregap_lba = base + static_cast<Lba>(run.first);
  const auto gap = static_cast<std::uint32_t>(cd::kFirstPregap);
  const bool silent_start = run.kind == Kind::no_sync && run.first > 0 && run.leading_zero >= gap && run.sectors > gap;
  const bool has_gap = silent_start || (run.first == 0 && base < 0);
  track.start_lba = track.pregap_lba + (has_gap ? cd::kFirstPregap : 0);
  track.end_lba = track.pregap_lba + static_cast<Lba>(run.sectors);
  if (has_gap) track.indexes[0] = track.pregap_lba;
  track.indexes[1] = track.start_lba;
  return track;
}

Extent extent_of(const Run& run, const cd::Track& track, const Detected& d, const SourcePtr& source) {
  return {.track = track.number,
          .lba = track.pregap_lba,
          .sectors = run.sectors,
          .form = stored_form(d, track.mode),
          .swapped = d.swapped,
          .scrambled = d.scrambled && run.kind != Kind::no_sync,
          .source = source,
          .offset = std::uint64_t{run.first} * d.sector_bytes};
}

}  // namespace

CdImagePtr build_disc(const SourcePtr& source, const Detected& d, std::vector<Warning>& warnings) {
  const std::uint64_t count = source->size() / d.sector_bytes;
  if (count == 0 || count > static_cast<std::uint64_t>(cd::kMaxDiscSectors))
    throw Error({.code = count == 0 ? "too_small" : "disc_too_long",
                 .what = count == 0 ? "there is no whole sector in the file" : "the image is longer than a CD can be",
                 .file = source->name(),
                 .found = fmt::format("{} sectors of {} bytes", count, d.sector_bytes),
                 .expected = fmt::format("1 to {}", cd::kMaxDiscSectors)});
  if (const std::uint64_t over = source->size() % d.sector_bytes; over != 0)
    warnings.push_back(
        {"partial_sector",
         fmt::format("the file ends with {} bytes of a sector of {}: the rest is missing, the part is not used", over,
                     d.sector_bytes),
         {},
         Cause::incomplete});

  const bool pregap_stored = d.first_lba == -cd::kFirstPregap && count > static_cast<std::uint64_t>(cd::kFirstPregap);
  const Lba base = pregap_stored ? -cd::kFirstPregap : 0;
  if (!pregap_stored && d.first_lba != 0)
    warnings.push_back({"starts_elsewhere", fmt::format("the first sector says {}: this is a part of a disc",
                                                        cd::to_string(cd::msf_of_lba(d.first_lba)))});

  cd::Layout layout;
  std::vector<Extent> extents;
  const std::vector<Run> runs = runs_of(*source, d, static_cast<std::uint32_t>(count));
  constexpr std::size_t kMaxTracks = 99;
  if (runs.size() > kMaxTracks)
    throw Error({.code = "unknown_layout",
                 .cause = Cause::unknown_layout,
                 .what = "data and audio alternate too often for a disc",
                 .file = source->name(),
                 .found = fmt::format("{} changes", runs.size() - 1),
                 .expected = "at most 99 tracks",
                 .hint = "the image is badly damaged, or no disc image"});
  for (const Run& run : runs) {
    layout.tracks.push_back(track_of(run, d, base, static_cast<int>(layout.tracks.size()) + 1));
    extents.push_back(extent_of(run, layout.tracks.back(), d, source));
  }
  layout.lead_out = layout.tracks.back().end_lba;
  layout.sessions.push_back(
      {.number = 1, .first_track = 1, .last_track = layout.tracks.back().number, .lead_out = layout.lead_out});
  if (runs.size() > 1)
    warnings.push_back({"track_boundaries_guessed",
                        "without a sheet the borders between audio tracks cannot be seen: games that play music by "
                        "track number may play the wrong piece"});
  auto disc = std::make_shared<CdImage>(std::move(layout), std::move(extents), d.subchannel);
  check_volume_size(disc, warnings);
  return disc;
}

}  // namespace opifex::bin
