#include "joiner.hpp"

#include <algorithm>
#include <cstring>
#include <map>

#include "opifex/core/check/sample_votes.hpp"

namespace opifex {

using cd::Lba;

namespace {

constexpr int kMostShift = 5000;  // samples
constexpr std::int64_t kSampleSize = 4;

bool filled(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](std::byte b) { return b == kRescueFill; });
}

/// The sectors that one of the stream is cut from, if that lies `shift` samples behind.
std::pair<Lba, Lba> cut_from(Lba lba, int shift) {
  constexpr std::int64_t kRaw = static_cast<std::int64_t>(cd::kRawBytes);
  const std::int64_t from = std::int64_t{lba} * kRaw + shift * kSampleSize, to = from + kRaw - 1;
  const auto sector = [](std::int64_t at) {
    return static_cast<Lba>(at >= 0 ? at / kRaw : -((-at + kRaw - 1) / kRaw));
  };
  return {sector(from), sector(to)};
}

}  // namespace

Joiner::Joiner(std::vector<RescueInput> inputs) : inputs_(std::move(inputs)), shifts_(inputs_.size(), 0) {
  blocks_ = inputs_[0].image.blocks() != nullptr;
  size_ = blocks_ ? cd::kUserBytes : cd::kRawBytes;
  const auto length = [&](const RescueInput& i) -> std::uint64_t {
    if (blocks_) return i.image.blocks() ? i.image.blocks()->size() : 0;
    return i.image.cd() ? static_cast<std::uint64_t>(std::max(0, i.image.cd()->layout().lead_out)) : 0;
  };
  for (std::size_t i = 1; i < inputs_.size(); ++i)
    if (length(inputs_[i]) > length(inputs_[whole_])) whole_ = i;
}

SectorState Joiner::state(std::size_t input, Lba lba) const {
  if (!inputs_[input].map) return SectorState::outside;
  const SectorMap& map = inputs_[input].map->map;
  if (shifts_[input] == 0 || !is_audio(lba)) return map.at(lba);
  const auto [first, last] = cut_from(lba, shifts_[input]);
  const SectorState a = map.at(first), b = map.at(last);
  // The worse of the two: what is not known of one is not known of the cut.
  for (const SectorState worse : {SectorState::unreadable, SectorState::hang, SectorState::untried,
                                  SectorState::outside, SectorState::audio_unsure})
    if (a == worse || b == worse) return worse == SectorState::outside ? SectorState::unreadable : worse;
  return a;
}

bool Joiner::is_audio(Lba lba) const {
  if (blocks_) return false;
  const cd::Track* t = layout().track_at(lba);
  return t && t->mode.is_audio();
}

/// A dump that was cut off has not all of the disc.
bool Joiner::reaches(std::size_t input, Lba lba) const {
  const Image& image = inputs_[input].image;
  if (blocks_) return (static_cast<std::uint64_t>(lba) + 1) * size_ <= image.blocks()->size();
  return image.cd()->extent_at(lba) != nullptr;
}

void Joiner::read(std::size_t input, Lba lba, std::uint32_t count, std::span<std::byte> out) const {
  const Image& image = inputs_[input].image;
  if (!reaches(input, lba + static_cast<Lba>(count) - 1)) {
    for (std::uint32_t i = 0; i < count; ++i) {
      const auto sector = out.subspan(i * size_, size_);
      std::fill(sector.begin(), sector.end(), std::byte{0});
      if (const Lba at = lba + static_cast<Lba>(i); reaches(input, at) && count > 1) read(input, at, 1, sector);
    }
    return;
  }
  if (blocks_) return image.blocks()->read_at(static_cast<std::uint64_t>(lba) * size_, out);
  const std::int64_t shift = shifts_[input] * kSampleSize;
  if (shift == 0 || !is_audio(lba)) return image.cd()->read(SectorForm::raw, lba, count, out);
  constexpr std::int64_t kRaw = static_cast<std::int64_t>(cd::kRawBytes);
  const std::int64_t from = std::int64_t{lba} * kRaw + shift, to = from + count * kRaw;
  std::fill(out.begin(), out.end(), std::byte{0});
  for (std::int64_t s = from / kRaw - 1; s <= to / kRaw; ++s) {
    const std::int64_t begin = std::max(from, s * kRaw), end = std::min(to, (s + 1) * kRaw);
    const auto at = static_cast<Lba>(s);
    if (begin >= end || at < 0 || !is_audio(at) || !reaches(input, at)) continue;
    cd::Sector sector;
    image.cd()->read_sector(at, sector);
    std::copy(sector.begin() + (begin - s * kRaw), sector.begin() + (end - s * kRaw), out.begin() + (begin - from));
  }
}

SectorOrigin Joiner::decide(Lba lba, std::span<const ByteView> sectors, cd::Sector& out) const {
  std::vector<Reading> readings;
  std::vector<std::size_t> owners;
  for (std::size_t i = 0; i < sectors.size(); ++i) {
    if (!has(i, lba, sectors[i])) continue;
    Reading r;
    std::copy(sectors[i].begin(), sectors[i].end(), r.bytes.begin());
    r.flagged = suspects(i, lba);
    readings.push_back(std::move(r));
    owners.push_back(i);
  }
  if (readings.empty()) return {};
  CombinedSector joined = blocks_                       ? combine_blocks(readings)
                          : has_checksum(lba, readings) ? combine_data(readings, lba)
                                                        : combine_music(readings, owners, lba);
  if (joined.how == Combining::none) return {};
  out = joined.bytes;
  SectorOrigin choice{how_of(joined, readings.size()), {}};
  for (const std::size_t giver : joined.givers) choice.inputs.push_back(owners[giver]);
  return choice;
}

/// What its own dump was not sure of.
std::vector<cd::Erasure> Joiner::suspects(std::size_t input, Lba lba) const {
  const auto& map = inputs_[input].map;
  if (!map) return {};
  const auto known = [&](Lba at) {
    const auto flags = map->suspect_bytes.find(at);
    return flags != map->suspect_bytes.end() ? flags->second : std::vector<cd::Erasure>{};
  };
  if (shifts_[input] == 0 || !is_audio(lba)) return known(lba);
  std::vector<cd::Erasure> shifted;
  const auto [first, last] = cut_from(lba, shifts_[input]);
  constexpr std::int64_t kRaw = static_cast<std::int64_t>(cd::kRawBytes);
  const std::int64_t from = std::int64_t{lba} * kRaw + shifts_[input] * kSampleSize;
  for (Lba sector = first; sector <= last; ++sector)
    for (const cd::Erasure& e : known(sector)) {
      const std::int64_t base = std::int64_t{sector} * kRaw - from;
      const std::int64_t begin = std::max<std::int64_t>(0, base + static_cast<std::int64_t>(e.first));
      const std::int64_t end = std::min<std::int64_t>(kRaw - 1, base + static_cast<std::int64_t>(e.last));
      if (begin <= end) shifted.push_back({static_cast<std::size_t>(begin), static_cast<std::size_t>(end)});
    }
  return shifted;
}

/// False for music, wherever it stands, and for data whose sectors have no checksum.
bool Joiner::has_checksum(Lba lba, std::span<const Reading> readings) const {
  if (is_audio(lba)) return false;
  const cd::Track* track = layout().track_at(lba);
  const auto any = [&](auto test) { return std::any_of(readings.begin(), readings.end(), test); };
  const bool in_pause = track && lba < track->start_lba;
  if (in_pause && !any([](const Reading& r) { return cd::has_sync(r.bytes); })) return false;
  if (any([&](const Reading& r) { return proves_itself(r.bytes, lba); })) return true;
  // Nothing wrong with it, and nothing that says so.
  return !any([&](const Reading& r) { return cd::has_sync(r.bytes) && !cd::examine(r.bytes, {lba, true}).bad(); });
}

void Joiner::align() {
  if (blocks_ || layout().audio_track_count() == 0) return;
  // The one that is surest of its music tells where it lies; of equals the first.
  std::vector<std::uint64_t> sure(inputs_.size());
  for (std::size_t i = 0; i < inputs_.size(); ++i)
    for (const cd::Track& t : layout().tracks)
      for (Lba lba = t.pregap_lba; t.mode.is_audio() && lba < t.end_lba; ++lba) sure[i] += vouches(i, lba) ? 1u : 0u;
  reference_ = static_cast<std::size_t>(std::max_element(sure.begin(), sure.end()) - sure.begin());
  for (std::size_t i = 0; i < inputs_.size(); ++i)
    if (i != reference_) shifts_[i] = shift_of(i);
}

/// False if the input only holds a place for the sector.
bool Joiner::has(std::size_t input, Lba lba, ByteView bytes) const {
  if (!reaches(input, lba)) return false;
  if (shifts_[input] != 0 && is_audio(lba)) {
    const auto [first, last] = cut_from(lba, shifts_[input]);
    if (!reaches(input, first) || !reaches(input, last) || !is_audio(first) || !is_audio(last)) return false;
  }
  const cd::Track* track = blocks_ ? nullptr : layout().track_at(lba);
  const bool in_pause = track && lba < track->start_lba;  // which may be music, or silence
  // Music in a track of data is not moved: from a dump that lies elsewhere it does not fit.
  if (shifts_[input] != 0 && in_pause && !is_audio(lba) && !cd::has_sync(cd::SectorView(bytes))) return false;
  const SectorState s = state(input, lba);
  if (s == SectorState::unreadable || s == SectorState::hang || s == SectorState::untried) return false;
  // A dump that has read it knows that these bytes are no filler.
  if (s != SectorState::outside && s != SectorState::runout) return true;
  if (blocks_) return !filled(bytes);
  if (is_audio(lba) || in_pause || proves_itself(cd::SectorView(bytes), lba)) return true;
  return !filled(bytes.subspan(cd::kMode2UserAt)) && !all_zero(bytes);
}

/// Its own dump was sure of the sector. One that left no map was sure of all.
bool Joiner::vouches(std::size_t input, Lba lba) const {
  switch (state(input, lba)) {
    case SectorState::audio_confirmed:
    case SectorState::good:
    case SectorState::retried:
    case SectorState::repaired:
    case SectorState::combined:
      return true;
    case SectorState::outside:
      return !inputs_[input].map;
    default:
      return false;
  }
}

/// What its own dump vouches for is believed, unless another vouches for something else; then samples are counted.
CombinedSector Joiner::combine_music(std::span<const Reading> readings, const std::vector<std::size_t>& owners,
                                     Lba lba) const {
  constexpr unsigned kAgreeing = 2;
  const Reading* sure = nullptr;
  bool alone = true;
  SampleVotes votes;
  for (std::size_t i = 0; i < readings.size(); ++i) {
    votes.add(readings[i].bytes, readings[i].flagged);
    if (!vouches(owners[i], lba)) continue;
    alone = alone && (!sure || sure->bytes == readings[i].bytes);
    sure = &readings[i];
  }
  CombinedSector joined{Combining::unsure, sure && alone ? sure->bytes : votes.best(), {}};
  if ((sure && alone) || votes.confirmed(kAgreeing)) joined.how = Combining::as_read;
  for (std::size_t i = 0; i < readings.size(); ++i)
    if (readings[i].bytes == joined.bytes) joined.givers.push_back(i);
  if (joined.how == Combining::as_read && joined.givers.empty()) joined.how = Combining::combined;
  return joined;
}

/// Blocks were read without an error, or not at all. If they still differ: the more frequent, then the smaller.
CombinedSector Joiner::combine_blocks(std::span<const Reading> readings) const {
  std::map<cd::Sector, std::vector<std::size_t>> groups;
  for (std::size_t i = 0; i < readings.size(); ++i) groups[readings[i].bytes].push_back(i);
  const auto best = std::max_element(groups.begin(), groups.end(),
                                     [](const auto& a, const auto& b) { return a.second.size() < b.second.size(); });
  return {groups.size() == 1 ? Combining::as_read : Combining::conflict, best->first, best->second};
}

RescueHow Joiner::how_of(const CombinedSector& joined, std::size_t readings) const {
  switch (joined.how) {
    case Combining::as_read:
      return joined.givers.size() == inputs_.size() && readings == inputs_.size() ? RescueHow::agreed
                                                                                  : RescueHow::taken;
    case Combining::repaired:
      return RescueHow::repaired;
    case Combining::combined:
      return RescueHow::combined;
    case Combining::conflict:
      return RescueHow::conflict;
    case Combining::unsure:
      return RescueHow::unsure;
    case Combining::none:
      return RescueHow::lost;
  }
  return RescueHow::lost;
}

/// A few sectors of the reference's music are looked for in the other's.
int Joiner::shift_of(std::size_t input) const {
  std::map<int, int> votes;
  constexpr int kProbes = 24;
  for (const cd::Track& t : layout().tracks) {
    if (!t.mode.is_audio()) continue;
    for (int p = 1; p <= kProbes; ++p) {
      const Lba lba = t.start_lba + static_cast<Lba>(std::int64_t{t.length()} * p / (kProbes + 1));
      if (const auto shift = shift_at(input, lba)) ++votes[*shift];
    }
  }
  const auto best =
      std::max_element(votes.begin(), votes.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
  return best == votes.end() ? 0 : best->first;
}

std::optional<int> Joiner::shift_at(std::size_t input, Lba lba) const {
  constexpr Lba kAround = 9;                // sectors: 5000 samples and some
  constexpr std::size_t kNeedle = 588 * 2;  // half a sector
  if (!is_audio(lba - kAround) || !is_audio(lba + kAround) || !vouches(reference_, lba)) return std::nullopt;
  cd::Sector reference;
  if (!reaches(reference_, lba)) return std::nullopt;
  inputs_[reference_].image.cd()->read_sector(lba, reference);
  const ByteView needle = ByteView(reference).first(kNeedle);
  if (std::equal(needle.begin() + kSampleSize, needle.end(), needle.begin())) return std::nullopt;  // one value
  Bytes stream((2 * kAround + 1) * cd::kRawBytes);
  if (!reaches(input, lba - kAround) || !reaches(input, lba + kAround)) return std::nullopt;
  inputs_[input].image.cd()->read(SectorForm::raw, lba - kAround, 2 * kAround + 1, stream);
  constexpr std::size_t kExpected = static_cast<std::size_t>(kAround) * cd::kRawBytes;
  std::optional<int> found;
  for (int off = -kMostShift; off <= kMostShift; ++off) {
    const std::ptrdiff_t at = static_cast<std::ptrdiff_t>(kExpected) + off * kSampleSize;
    if (std::memcmp(stream.data() + at, needle.data(), needle.size()) != 0) continue;
    if (found) return std::nullopt;  // music that repeats itself tells no place
    found = off;
  }
  if (!found) return std::nullopt;
  // What was not placed by its own dump places nothing.
  const auto [first, last] = cut_from(lba, *found);
  return vouches(input, first) && vouches(input, last) ? found : std::nullopt;
}

}  // namespace opifex
