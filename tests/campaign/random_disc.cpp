#include "random_disc.hpp"

#include <algorithm>
#include <fstream>

#include "sim/medium.hpp"

namespace opifex::campaign {
namespace {

using namespace dump;
using cd::Lba;
namespace fs = std::filesystem;

bool chance(Random& r, unsigned percent) { return r.below(100) < percent; }
template <typename T>
T one_of(Random& r, std::initializer_list<T> values) {
  return *(values.begin() + static_cast<std::ptrdiff_t>(r.below(values.size())));
}

void write(const fs::path& path, ByteView bytes) {
  std::ofstream out(path, std::ios::binary);
  out.write(as_text(bytes).data(), static_cast<std::streamsize>(bytes.size()));
  if (!out) throw std::runtime_error("cannot write " + path.string());
}

/// Noise with silence and passages that repeat themselves.
Bytes music(Random& r, std::uint32_t sectors) {
  Bytes bytes = r.bytes(sectors * cd::kRawBytes);
  for (std::uint64_t n = r.below(4); n > 0; --n) {
    const std::size_t length = (1 + r.below(sectors)) * cd::kRawBytes / 2, at = r.below(bytes.size());
    const std::size_t period = one_of<std::size_t>(r, {0, 4, 64, 2352, 9408});
    for (std::size_t i = at; i < std::min(bytes.size(), at + length); ++i)
      bytes[i] = period == 0 ? std::byte{0} : i >= at + period ? bytes[i - period] : bytes[i];
  }
  return bytes;
}

enum class DataKind { mode0, mode1, form1, form2, form2_without_edc, formless };

/// One of the kinds a track of that mode may hold; most are those with a checksum.
DataKind random_kind(Random& r, cd::TrackMode::Kind mode) {
  using enum DataKind;
  if (mode == cd::TrackMode::Kind::mode1) return mode1;
  return one_of(r, {form1, form1, form1, form2, form2_without_edc, formless});
}

void make_data(Random& r, DataKind kind, Lba lba, cd::SectorSpan s) {
  const Bytes noise = r.bytes(cd::kRawBytes);
  const auto user = std::span<const std::byte, cd::kUserBytes>(noise.data(), cd::kUserBytes);
  const auto long_user = std::span<const std::byte, cd::kForm2Bytes>(noise.data(), cd::kForm2Bytes);
  const cd::Subheader video{1, 0, 0x62, 15};
  switch (kind) {
    case DataKind::mode0:
      std::fill(s.begin(), s.end(), std::byte{0});
      return cd::put_header(s, lba, 0);
    case DataKind::mode1:
      return cd::make_mode1(s, lba, user);
    case DataKind::form1:
      return cd::make_form1(s, lba, cd::kForm1Data, user);
    case DataKind::form2:
    case DataKind::form2_without_edc:
      cd::make_form2(s, lba, video, long_user);
      if (kind == DataKind::form2_without_edc) std::fill(s.begin() + cd::kForm2EdcAt, s.end(), std::byte{0});
      return;
    case DataKind::formless:
      std::copy(noise.begin(), noise.end(), s.begin());
      return cd::put_header(s, lba, 2);
  }
}

/// Data of all kinds the mode has, in runs, with their pause in front; that begins as music, and now and then goes on
/// as sectors of nothing.
Bytes data_track(Random& r, const SimTrack& t, Lba at, std::uint32_t sectors, std::uint32_t music_sectors) {
  Bytes bytes = music(r, sectors);
  DataKind kind = random_kind(r, t.mode);
  const bool empty_pause = chance(r, 30);
  for (std::uint32_t i = music_sectors; i < sectors; ++i) {
    if (chance(r, 4)) kind = random_kind(r, t.mode);
    const DataKind own = i < t.pregap && empty_pause ? DataKind::mode0 : kind;
    make_data(r, own, at + static_cast<Lba>(i),
              cd::SectorSpan(std::span(bytes).subspan(i * cd::kRawBytes, cd::kRawBytes)));
  }
  return bytes;
}

SimDisc random_cd(Random& r, const fs::path& folder) {
  SimDisc disc;
  disc.profile = one_of(r, {8, 8, 9});
  if (chance(r, 20)) disc.mcn = "0000000000017";
  if (chance(r, 15)) disc.write_offset = static_cast<int>(r.below(60)) - 30;
  if (chance(r, 5)) disc.toc_excess = static_cast<std::uint32_t>(1 + r.below(400));
  int number = 1;
  Lba at = 0;
  const std::uint64_t sessions = chance(r, 75) ? 1 : 2;
  const bool audio_only = chance(r, 25);
  for (std::uint64_t s = 0; s < sessions; ++s) {
    std::vector<SimTrack> tracks;
    for (std::uint64_t n = 1 + r.below(4); n > 0; --n) {
      SimTrack t;
      t.number = number++;
      const bool is_music = audio_only || chance(r, 55);
      t.mode =
          is_music ? cd::TrackMode::Kind::audio : one_of(r, {cd::TrackMode::Kind::mode1, cd::TrackMode::Kind::mode2});
      t.control = is_music ? static_cast<int>(r.below(2)) : 4;
      if (chance(r, 4)) t.control ^= 4;
      t.sectors = static_cast<std::uint32_t>(260 + r.below(600));
      const bool first = tracks.empty();
      if (!first && chance(r, 70)) t.pregap = chance(r, 60) ? 150 : static_cast<std::uint32_t>(1 + r.below(220));
      if (first && s == 0 && chance(r, 5)) t.pregap = static_cast<std::uint32_t>(10 + r.below(200));
      const fs::path file = folder / ("track" + std::to_string(t.number) + ".raw");
      const std::uint32_t sectors = t.sectors;
      if (is_music && chance(r, 40)) {
        write(file, music(r, sectors));
        t.file = file;
      } else if (!is_music && chance(r, 40)) {
        // Between two tracks of data no pause is music.
        const bool behind_music = tracks.empty() || tracks.back().mode == cd::TrackMode::Kind::audio;
        const bool begins_as_music = behind_music && t.pregap > 20;
        write(file, data_track(r, t, at, sectors, begins_as_music ? static_cast<std::uint32_t>(r.below(t.pregap)) : 0));
        t.file = file;
      }
      if (!t.file.empty()) t.sectors = 0;
      at += static_cast<Lba>(sectors);
      tracks.push_back(std::move(t));
    }
    at += static_cast<Lba>((s == 0 ? cd::kFirstLeadOut : cd::kLaterLeadOut) + cd::kLeadIn + cd::kFirstPregap);
    disc.sessions.push_back(std::move(tracks));
  }
  return disc;
}

SimFeatures random_drive(Random& r, SimKind kind) {
  SimFeatures d;
  d.kind = kind;
  // A drive that says nothing of its buffer is supposed to have 2 MiB: few of these discs are much larger.
  d.cache_kib = one_of(r, {64u, 64u, 256u, 256u, 256u, 512u, 512u, 1024u, 0u, 2048u});
  if (d.cache_kib == 0 || d.cache_kib == 2048) d.cache_kib = chance(r, 30) ? d.cache_kib : 128;
  d.readahead = one_of(r, {0u, 8u, 32u, 75u});
  d.c2 = chance(r, 70);
  d.c2_reports = one_of(r, {1.0, 1.0, 0.66, 0.2});
  d.subchannel = one_of(r, {SimSubchannel::raw, SimSubchannel::raw, SimSubchannel::q, SimSubchannel::none});
  d.subchannel_lag = chance(r, 20) ? static_cast<int>(r.below(5)) - 2 : 0;
  d.get_configuration = chance(r, 90);
  d.overread = chance(r, 40);
  d.cdda_on_data = chance(r, 35);
  d.strict_type = chance(r, 80);
  d.max_blocks = one_of(r, {1u, 2u, 8u, 16u, 27u, 32u, 64u});
  d.full_toc = chance(r, 85);
  d.sense_lba = chance(r, 80);
  d.fua = chance(r, 30);
  if (kind == SimKind::cd && chance(r, 50)) d.read_offset = static_cast<int>(r.below(1400)) - 700;
  if (kind == SimKind::cd) d.accurate_stream = chance(r, 85);
  return d;
}

SimDefect random_defect(Random& r, Lba end, bool is_cd) {
  SimDefect d;
  d.first = static_cast<Lba>(r.below(static_cast<std::uint64_t>(end)));
  d.last = d.first + static_cast<Lba>(chance(r, 60) ? r.below(4) : r.below(200));
  using enum DefectKind;
  d.kind = is_cd ? one_of(r, {unreadable, weak, after, slow_only, c2, c2, silent, silent, hang, brief, retry_sense,
                              edge, q_bad, slow})
                 : one_of(r, {unreadable, weak, after, slow_only, hang, brief, retry_sense});
  d.p = 0.2 + 0.6 * static_cast<double>(r.below(1000)) / 1000.0;
  d.n = static_cast<unsigned>(1 + r.below(d.kind == brief ? 3 : 5));
  d.kbs = 706;
  d.bytes = static_cast<unsigned>(6 + r.below(60));
  d.ms = d.kind == hang ? 70'000 : 300;
  d.count = static_cast<unsigned>(1 + r.below(2));
  if (d.kind == retry_sense) d.sense = one_of(r, {0x0B0800u, 0x062900u, 0x020401u, 0x030200u});
  if (d.kind == hang || d.kind == brief) d.last = d.first;
  return d;
}

/// Some drives have more of a buffer than they say.
void maybe_understate(Random& r, SimFeatures& d) {
  const unsigned told = one_of(r, {0u, 64u, d.cache_kib / 4, d.cache_kib * 2});
  if (chance(r, 40)) d.cache_told_kib = told;
}

void add_defects(Random& r, SimDescription& d, Lba end, bool is_cd) {
  for (std::uint64_t n = r.below(6); n > 0; --n) d.defects.push_back(random_defect(r, end, is_cd));
  if (d.drive.accurate_stream) return;
  SimDefect jitter;
  jitter.kind = DefectKind::jitter;
  jitter.last = 0x7FFFFFF;
  jitter.max = static_cast<unsigned>(1 + r.below(900));
  jitter.p = 0.2 + 0.4 * static_cast<double>(r.below(100)) / 100.0;
  d.defects.push_back(jitter);
}

bool has_mode(const SimDisc& disc, bool music) {
  return std::any_of(disc.sessions.begin(), disc.sessions.end(), [&](const std::vector<SimTrack>& tracks) {
    return std::any_of(tracks.begin(), tracks.end(),
                       [&](const SimTrack& t) { return (t.mode == cd::TrackMode::Kind::audio) == music; });
  });
}

Lba end_of(const SimDescription& d) { return SimMedium(d.discs.front(), d.seed).end(); }

}  // namespace

Scenario random_scenario(Random& r, const fs::path& folder) {
  Scenario s;
  SimDescription& d = s.description;
  d.seed = r.below(1 << 30);
  d.timing.error_ms = 400;
  const SimKind kind = one_of(r, {SimKind::cd, SimKind::cd, SimKind::cd, SimKind::dvd, SimKind::bd});
  d.drive = random_drive(r, kind);
  if (kind == SimKind::cd) {
    d.discs.push_back(random_cd(r, folder));
  } else {
    SimDisc disc;
    disc.profile = kind == SimKind::dvd ? 16 : 64;
    disc.image = folder / "blocks.iso";
    write(disc.image, r.bytes((200 + r.below(3000)) * cd::kUserBytes));
    d.discs.push_back(std::move(disc));
  }
  if (kind == SimKind::cd) maybe_understate(r, d.drive);
  add_defects(r, d, end_of(d), kind == SimKind::cd);
  if (chance(r, 10)) d.unit_attention.push_back(one_of(r, {0x062800u, 0x062900u, 0x020401u}));
  if (chance(r, 5)) d.becoming_ready_ms = static_cast<unsigned>(r.below(20'000));
  const int own = d.drive.read_offset + d.discs.front().write_offset;
  s.offset_told = chance(r, 70);
  s.offset = s.offset_told ? own : 0;
  s.subchannel = chance(r, 20);
  s.passes = static_cast<unsigned>(2 + r.below(8));
  return s;
}

Scenario another_drive(const Scenario& scenario, Random& r) {
  Scenario s = scenario;
  SimDescription& d = s.description;
  d.drive = random_drive(r, scenario.description.drive.kind);
  d.defects.clear();
  if (s.is_cd()) maybe_understate(r, d.drive);
  add_defects(r, d, end_of(d), s.is_cd());
  const int own = d.drive.read_offset + d.discs.front().write_offset;
  s.offset = scenario.offset_told ? own : 0;
  return s;
}

SimDisc other_disc(const SimDisc& disc, Random& r, const fs::path& folder) {
  SimDisc other = disc;
  if (!disc.image.empty()) {
    other.image = folder / "other.iso";
    write(other.image, r.bytes(static_cast<std::size_t>(fs::file_size(disc.image))));
  }
  if (disc.sessions.empty()) return other;
  // Only the music, only the data, or both.
  const std::uint64_t what = r.below(3);
  const bool any_music = has_mode(disc, true), any_data = has_mode(disc, false);
  const SimMedium medium(disc, 1);
  for (auto& session : other.sessions)
    for (SimTrack& t : session) {
      const bool is_music = t.mode == cd::TrackMode::Kind::audio;
      if ((what == 0 && is_music && any_data) || (what == 1 && !is_music && any_music)) continue;
      const cd::Track& track = *medium.layout().track(t.number);
      const auto sectors = static_cast<std::uint32_t>(track.end_lba - track.pregap_lba);
      std::uint32_t music_sectors = 0;  // in front of data: as on the disc it is taken for
      while (!is_music && medium.is_audio(track.pregap_lba + static_cast<Lba>(music_sectors))) ++music_sectors;
      const Bytes bytes =
          is_music ? r.bytes(sectors * cd::kRawBytes) : data_track(r, t, track.pregap_lba, sectors, music_sectors);
      t.file = folder / ("other" + std::to_string(t.number) + ".raw");
      write(t.file, bytes);
      t.sectors = 0;
    }
  return other;
}

std::string describe(const Scenario& s) {
  constexpr std::array kNames = {"unreadable", "weak",  "after",   "slow_only", "c2",         "silent",
                                 "jitter",     "slow",  "hang",    "dead",      "eject",      "swap",
                                 "edge",       "q_bad", "q_fixed", "brief",     "retry_sense"};
  const SimFeatures& d = s.description.drive;
  std::string text = fmt::format(
      "  drive cache {} told {} ahead {} c2 {} {} sub {} lag {} accurate {} overread {} offset {} max {} fua {}; given "
      "offset "
      "{} "
      "({}), passes {}\n",
      d.cache_kib, d.cache_told_kib.value_or(d.cache_kib), d.readahead, d.c2, d.c2_reports,
      static_cast<int>(d.subchannel), d.subchannel_lag, d.accurate_stream, d.overread, d.read_offset, d.max_blocks,
      d.fua, s.offset, s.offset_told, s.passes);
  for (const SimDisc& disc : s.description.discs) {
    text += fmt::format("  disc profile {} write offset {} excess {} {}\n", disc.profile, disc.write_offset,
                        disc.toc_excess, disc.image.string());
    for (const auto& session : disc.sessions)
      for (const SimTrack& t : session)
        text += fmt::format("    track {} mode {} control {} sectors {} pregap {} {}\n", t.number,
                            static_cast<int>(t.mode), t.control, t.sectors, t.pregap, t.file.string());
  }
  for (const SimDefect& x : s.description.defects)
    text += fmt::format("  {} {} to {} p {:.2f} n {} bytes {} max {} count {} sense {:06X}\n",
                        kNames[static_cast<std::size_t>(x.kind)], x.first, x.last, x.p, x.n, x.bytes, x.max, x.count,
                        x.sense);
  return text;
}

struct Oracle::Disc {
  SimMedium medium;
};

Oracle::Oracle(const SimDescription& d, int shift)
    : disc_(std::make_unique<Disc>(Disc{SimMedium(d.discs.front(), d.seed)})), shift_(shift) {}
Oracle::~Oracle() = default;

const cd::Layout& Oracle::layout() const { return disc_->medium.layout(); }
Lba Oracle::end() const { return disc_->medium.end(); }

Bytes Oracle::sector(Lba lba) const {
  const SimMedium& m = disc_->medium;
  if (!m.is_cd()) {
    Bytes block(cd::kUserBytes);
    m.read(lba, 1, block);
    return block;
  }
  cd::Sector s{};
  if (m.is_audio(lba) || !m.in_program(lba))  // behind the end: what a drive that goes there delivers
    m.read_shifted(lba, shift_, s);
  else
    m.read(lba, 1, s);
  return {s.begin(), s.end()};
}

bool is_clean(const SimDescription& d, Lba lba) {
  const Lba group = d.drive.kind == SimKind::cd ? 1 : d.drive.kind == SimKind::dvd ? 16 : 32;
  const Lba first = lba / group * group, last = first + group - 1;
  // A shifted sector of music is made of its neighbours.
  const Lba around = d.drive.kind == SimKind::cd ? 3 : 0;
  return std::none_of(d.defects.begin(), d.defects.end(), [&](const SimDefect& defect) {
    return defect.kind != DefectKind::jitter && defect.first <= last + around && defect.last >= first - around;
  });
}

}  // namespace opifex::campaign
