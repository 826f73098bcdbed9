// CD sectors through a drive: data as they are, audio with its offset corrected and its stream joined.
#include <algorithm>
#include <cstdlib>
#include <cstring>

#include "opifex/core/dump/reader.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

constexpr std::int64_t kSampleBytes = 4, kSamples = 588;  // of a sector
constexpr std::uint32_t kOverlap = 3;                     // sectors
constexpr std::size_t kReach = 1200 * kSampleBytes;       // of jitter
constexpr std::size_t kMostTransfer = 64 << 10;           // every Linux queue takes that much

/// Runs of set bits of the C2 pointers of one sector.
std::vector<cd::Erasure> flagged_bytes(ByteView c2) {
  std::vector<cd::Erasure> runs;
  if (all_zero(c2)) return runs;
  for (std::size_t i = 0; i < c2.size() * 8; ++i) {
    if ((c2[i / 8] & static_cast<std::byte>(0x80 >> i % 8)) == std::byte{0}) continue;
    if (!runs.empty() && runs.back().last + 1 == i)
      runs.back().last = i;
    else
      runs.push_back({i, i});
  }
  return runs;
}

/// Flags of sectors that are cut from a stream `bytes` further on.
std::vector<std::vector<cd::Erasure>> shifted_flags(const std::vector<std::vector<cd::Erasure>>& from,
                                                    std::ptrdiff_t bytes, std::size_t sectors) {
  std::vector<std::vector<cd::Erasure>> to(sectors);
  constexpr auto kRaw = static_cast<std::ptrdiff_t>(cd::kRawBytes);
  for (std::size_t s = 0; s < from.size(); ++s)
    for (const cd::Erasure& e : from[s])
      for (std::size_t i = e.first; i <= e.last; ++i) {
        const std::ptrdiff_t at = static_cast<std::ptrdiff_t>(s) * kRaw + static_cast<std::ptrdiff_t>(i) - bytes;
        if (at < 0 || at >= static_cast<std::ptrdiff_t>(sectors) * kRaw) continue;
        auto& runs = to[static_cast<std::size_t>(at / kRaw)];
        const auto inside = static_cast<std::size_t>(at % kRaw);
        if (!runs.empty() && runs.back().last + 1 == inside)
          runs.back().last = inside;
        else
          runs.push_back({inside, inside});
      }
  return to;
}

/// The same of sectors that are not all there.
std::vector<bool> shifted_lacks(const std::vector<bool>& from, std::ptrdiff_t bytes, std::size_t sectors) {
  if (std::find(from.begin(), from.end(), true) == from.end()) return {};
  constexpr auto kRaw = static_cast<std::ptrdiff_t>(cd::kRawBytes);
  std::vector<bool> to(sectors);
  for (std::size_t i = 0; i < sectors; ++i) {
    const std::ptrdiff_t at = static_cast<std::ptrdiff_t>(i) * kRaw + bytes;
    const auto lacks = [&](std::ptrdiff_t sector) {
      return sector >= 0 && static_cast<std::size_t>(sector) < from.size() && from[static_cast<std::size_t>(sector)];
    };
    to[i] = lacks(at / kRaw) || lacks((at + kRaw - 1) / kRaw);
  }
  return to;
}

}  // namespace

bool tells_its_place(ByteView samples) {
  if (samples.size() <= kReach) return false;
  // Moved by any jitter it is another: nothing in it repeats itself so soon.
  for (std::size_t by = kSampleBytes; by <= 2 * kReach && by < samples.size(); by += kSampleBytes)
    if (std::memcmp(samples.data(), samples.data() + by, samples.size() - by) == 0) return false;
  return true;
}

std::optional<std::ptrdiff_t> find_join(ByteView stream, ByteView reference, std::size_t expected, std::size_t reach) {
  const bool flat = std::equal(reference.begin() + kSampleBytes, reference.end(), reference.begin());
  if (flat) return std::nullopt;
  std::optional<std::ptrdiff_t> found;
  for (std::size_t at = expected - std::min(reach, expected); at <= expected + reach; at += kSampleBytes) {
    if (at + reference.size() > stream.size()) break;
    if (std::memcmp(stream.data() + at, reference.data(), reference.size()) != 0) continue;
    if (found) return std::nullopt;  // music that repeats itself tells no place
    found = static_cast<std::ptrdiff_t>(at) - static_cast<std::ptrdiff_t>(expected);
  }
  return found;
}

CdReader::CdReader(Drive& drive, CdReadOptions options, std::vector<Region> audio, Lba disc_end)
    : drive_(drive),
      options_(options),
      audio_(std::move(audio)),
      disc_end_(disc_end),
      subchannel_(options.subchannel) {}

bool CdReader::in_audio(Lba lba) const {
  return std::any_of(audio_.begin(), audio_.end(), [&](const Region& r) { return lba >= r.first && lba < r.end; });
}

unsigned CdReader::slowest() const { return 3; }

void CdReader::set_slowness(unsigned step) {
  // 24, 8, 4, 1x for data; 8, 8, 4, 1x for audio.
  constexpr std::array<unsigned, 4> kData = {24, 8, 4, 1}, kAudio = {8, 8, 4, 1};
  step_ = std::min(step, slowest());
  unsigned kbs = cd_speed((audio_speed_ ? kAudio : kData)[step_]);
  if (options_.top_kbs != 0) kbs = std::min(kbs, options_.top_kbs);
  drive_.set_speed(kbs);
}

std::uint32_t CdReader::skim(Lba lba, std::uint32_t count) {
  return read_over(lba, count, chunk_, [this](Lba at, std::uint32_t n, std::span<std::byte> out) {
    return drive_.read_cd(at, n, {}, out);
  });
}

/// False if the drive refuses to deliver these parts even of one sector.
bool CdReader::takes(Lba lba, CdParts parts) {
  Bytes sector(parts.bytes());
  return drive_.read_cd(lba, 1, parts, sector).trouble != Trouble::bad_field;
}

/// Commands of at most `chunk_` sectors; options the drive does not have are dropped one by one.
ReadResult CdReader::read_raw(Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras, bool audio,
                              bool for_subchannel) {
  Bytes buffer;
  for (std::uint32_t done = 0; done < count;) {
    CdParts parts;
    parts.c2 = extras && extras->want_flags && c2_;
    // Music that is shifted has its subchannel read for its own sake.
    const bool with_subchannel = extras && subchannel_ && (!audio || options_.offset == 0 || for_subchannel);
    parts.subchannel = with_subchannel ? SubchannelPart::raw : SubchannelPart::none;
    const auto fits = static_cast<std::uint32_t>(kMostTransfer / parts.bytes());
    const std::uint32_t n = std::min({count - done, chunk_, fits});
    const bool plain = parts.bytes() == cd::kRawBytes;
    if (!plain) buffer.resize(n * parts.bytes());
    const auto target = plain ? out.subspan(done * cd::kRawBytes, n * cd::kRawBytes) : std::span(buffer);
    const Outcome outcome = drive_.read_cd(lba + static_cast<Lba>(done), n, parts, target);
    if (outcome.trouble == Trouble::bad_field) {
      // Too many sectors at once, or something the drive does not have: one sector tells which.
      if (n > 1 && takes(lba + static_cast<Lba>(done), parts))
        chunk_ = std::max(1u, n / 2);
      else if (with_subchannel)
        subchannel_ = false;
      else if (parts.c2)
        c2_ = false;
      else if (n > 1)
        chunk_ = std::max(1u, n / 2);
      else
        return {done, outcome.trouble};
      continue;
    }
    const auto whole = static_cast<std::uint32_t>(std::min<std::size_t>(n, outcome.bytes / parts.bytes()));
    for (std::uint32_t i = 0; !plain && i < whole; ++i) {
      const ByteView sector = ByteView(buffer).subspan(i * parts.bytes(), parts.bytes());
      std::copy_n(sector.begin(), cd::kRawBytes, out.begin() + static_cast<std::ptrdiff_t>((done + i) * cd::kRawBytes));
      std::size_t at = cd::kRawBytes;
      if (parts.c2) extras->flagged.push_back(flagged_bytes(sector.subspan(at, kC2Bytes)));
      if (parts.c2) at += kC2Bytes;
      if (with_subchannel)
        extras->subchannel.insert(extras->subchannel.end(), sector.begin() + static_cast<std::ptrdiff_t>(at),
                                  sector.end());
    }
    if (parts.c2) extras->flags_known = true;
    done += whole;
    if (!outcome.ok()) return {done, outcome.trouble};
    if (whole < n) return {done, Trouble::read_error};  // a short reply: the rest was not read
  }
  return {count, Trouble::none};
}

/// Sectors of the audio stream as the drive places it. Beyond the disc's ends zeros stand where it cannot go.
ReadResult CdReader::read_stream(Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras) {
  std::uint32_t done = 0;
  const auto silence = [&] {
    const auto target = out.subspan(done * cd::kRawBytes, cd::kRawBytes);
    std::fill(target.begin(), target.end(), std::byte{0});
    if (extras) {
      // Those of the sectors before may be absent: of a drive without C2, or where nothing is lacking.
      if (extras->want_flags) extras->flagged.resize(done + 1);
      extras->lacking.resize(done + 1);
      extras->lacking[done] = true;
    }
    ++done;
  };
  while (done < count) {
    const Lba at = lba + static_cast<Lba>(done);
    if (!in_audio(at)) {
      const bool beyond = at < 0 || at >= disc_end_;
      const bool reached =
          beyond && read_raw(at, 1, out.subspan(done * cd::kRawBytes, cd::kRawBytes), extras, true).delivered == 1;
      if (reached) {
        ++done;
        continue;
      }
      if (beyond) unreached_.insert(at);
      silence();
      continue;
    }
    std::uint32_t run = 1;
    while (done + run < count && in_audio(at + static_cast<Lba>(run))) ++run;
    const auto sectors = out.subspan(done * cd::kRawBytes, run * cd::kRawBytes);
    const ReadResult r = read_raw(at, run, sectors, extras, true);
    for (std::uint32_t i = 0; i < r.delivered && extras && moves_music(); ++i) {
      // A sector of data in what was taken for music: no sample of it belongs to the stream.
      const cd::SectorView s(ByteView(sectors).subspan(i * cd::kRawBytes, cd::kRawBytes));
      if (!cd::has_valid_header(s) || cd::header_lba(s) != at + static_cast<Lba>(i)) continue;
      extras->lacking.resize(std::max<std::size_t>(extras->lacking.size(), done + i + 1));
      extras->lacking[done + i] = true;
    }
    done += r.delivered;
    if (r.trouble != Trouble::none) return {done, r.trouble};
  }
  return {done, Trouble::none};
}

/// The stream with the offset taken out: one sector more is read, and cut.
ReadResult CdReader::read_shifted(Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras) {
  if (options_.offset == 0) return read_stream(lba, count, out, extras);
  const std::int64_t sectors =
      options_.offset >= 0 ? options_.offset / kSamples : -((-options_.offset + kSamples - 1) / kSamples);
  const std::int64_t rest = (options_.offset - sectors * kSamples) * kSampleBytes;
  const std::uint32_t wanted = count + (rest == 0 ? 0 : 1);
  const Lba from = lba + static_cast<Lba>(sectors);
  Bytes stream(wanted * cd::kRawBytes);
  Extras own;
  if (extras) own.want_flags = extras->want_flags;
  const ReadResult r = read_stream(from, wanted, stream, extras ? &own : nullptr);
  const std::uint32_t whole = std::min(count, rest == 0 ? r.delivered : r.delivered - std::min(1u, r.delivered));
  std::copy_n(stream.begin() + static_cast<std::ptrdiff_t>(rest), whole * cd::kRawBytes, out.begin());
  if (extras) {
    extras->flags_known = own.flags_known;
    extras->flagged = shifted_flags(own.flagged, rest, whole);
    extras->lacking = shifted_lacks(own.lacking, rest, whole);
  }
  return {whole, r.trouble};
}

/// A drive that jitters: known sectors before or behind are read again, and tell where the stream really is.
ReadResult CdReader::read_joined(Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras) {
  const bool ahead = !extras->before.empty();
  const ByteView reference = ahead ? extras->before : extras->after;
  const auto known = static_cast<std::uint32_t>(reference.size() / cd::kRawBytes);
  // Room for the jitter on both sides of the reference.
  const std::uint32_t lead = ahead ? known + kOverlap : 0, tail = ahead ? kOverlap : known + kOverlap;
  const std::uint32_t wanted = lead + count + tail;
  Bytes stream(wanted * cd::kRawBytes);
  Extras own;
  own.want_flags = extras->want_flags;
  const ReadResult r = read_shifted(lba - static_cast<Lba>(lead), wanted, stream, &own);
  const std::size_t there = r.delivered * cd::kRawBytes;
  const std::size_t expected = (ahead ? lead - kOverlap : count) * cd::kRawBytes;
  const auto join = find_join(ByteView(stream).first(there), reference, expected, kReach);
  extras->misplaced = !join;
  // What lies before the first byte read is not there: another seek may bring it.
  const std::ptrdiff_t from = static_cast<std::ptrdiff_t>(lead * cd::kRawBytes) + join.value_or(0);
  const std::size_t left =
      from >= 0 && static_cast<std::size_t>(from) < there ? there - static_cast<std::size_t>(from) : 0;
  const auto usable = static_cast<std::uint32_t>(std::min<std::size_t>(count, left / cd::kRawBytes));
  if (usable == 0) return {0, r.trouble == Trouble::none ? Trouble::read_error : r.trouble};
  std::copy_n(stream.begin() + from, usable * cd::kRawBytes, out.begin());
  extras->flags_known = own.flags_known;
  extras->flagged = shifted_flags(own.flagged, from, usable);
  extras->lacking = shifted_lacks(own.lacking, from, usable);
  return {usable, usable == count ? Trouble::none : r.trouble};
}

ReadResult CdReader::read(const Region& region, Lba lba, std::uint32_t count, std::span<std::byte> out,
                          Extras* extras) {
  const bool audio = region.kind == RegionKind::audio;
  if (audio != audio_speed_) {
    audio_speed_ = audio;
    set_slowness(step_);
  }
  if (extras) {
    extras->flagged.clear();
    extras->subchannel.clear();
    extras->lacking.clear();
    extras->flags_known = extras->misplaced = false;
  }
  if (!audio) return read_raw(lba, count, out, extras, false);
  const ReadResult result = read_audio(lba, count, out, extras);
  if (extras && subchannel_ && extras->subchannel.empty()) read_subchannel(lba, result.delivered, *extras);
  return result;
}

/// Of sectors whose audio is cut from others: read for its own sake.
void CdReader::read_subchannel(Lba lba, std::uint32_t count, Extras& extras) {
  Extras own;
  Bytes sectors(count * cd::kRawBytes);
  own.want_flags = false;
  read_raw(lba, count, sectors, &own, true, true);
  extras.subchannel = std::move(own.subchannel);
  extras.subchannel.resize(count * cd::kSubchannelBytes);
}

std::uint64_t CdReader::unreachable_samples() const {
  // The stream of a run of music is cut from `offset` samples further on: what lies beyond its end is data, the gap
  // between sessions, or out of the drive's reach.
  const Lba sectors = static_cast<Lba>((std::abs(options_.offset) + kSamples - 1) / kSamples);
  std::uint64_t lost = 0;
  for (const Region& r : audio_) {
    std::int64_t reached = std::abs(options_.offset);
    const auto is_lost = [&](Lba lba) {
      const bool beyond = lba < 0 || lba >= disc_end_;
      return beyond ? unreached_.contains(lba) : !in_audio(lba);
    };
    for (Lba i = 0; i < sectors; ++i) {
      if (!is_lost(options_.offset > 0 ? r.end + i : r.first - 1 - i)) continue;
      reached = i * kSamples;
      break;
    }
    lost += static_cast<std::uint64_t>(std::max<std::int64_t>(0, std::abs(options_.offset) - reached));
  }
  return lost;
}

ReadResult CdReader::read_audio(Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras) {
  if (extras && jitters()) {
    if (!extras->before.empty() || !extras->after.empty()) return read_joined(lba, count, out, extras);
    extras->misplaced = true;
  }
  return read_shifted(lba, count, out, extras);
}

}  // namespace opifex::dump
