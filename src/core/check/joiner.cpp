#include "joiner.hpp"

#include <algorithm>
#include <cstring>
#include <map>

namespace opifex {

using cd::Lba;

namespace {

constexpr int kMostShift = 5000;  // samples
constexpr std::int64_t kSampleSize = 4;

bool filled(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](std::byte b) { return b == kRescueFill; });
}

}  // namespace

Joiner::Joiner(std::vector<RescueInput> inputs) : inputs_(std::move(inputs)), shifts_(inputs_.size(), 0) {
  blocks_ = inputs_[0].image.blocks != nullptr;
  size_ = blocks_ ? cd::kUserBytes : cd::kRawBytes;
}

SectorState Joiner::state(std::size_t input, Lba lba) const {
  return inputs_[input].map ? inputs_[input].map->map.at(lba) : SectorState::outside;
}

bool Joiner::is_audio(Lba lba) const {
  if (blocks_) return false;
  const cd::Track* t = layout().track_at(lba);
  return t && t->mode.is_audio();
}

void Joiner::read(std::size_t input, Lba lba, std::uint32_t count, std::span<std::byte> out) const {
  const Image& image = inputs_[input].image;
  if (blocks_) return image.blocks->read_at(static_cast<std::uint64_t>(lba) * size_, out);
  const std::int64_t shift = shifts_[input] * kSampleSize;
  if (shift == 0 || !is_audio(lba)) return image.cd->read(SectorForm::raw, lba, count, out);
  constexpr std::int64_t kRaw = static_cast<std::int64_t>(cd::kRawBytes);
  const std::int64_t from = std::int64_t{lba} * kRaw + shift, to = from + count * kRaw;
  std::fill(out.begin(), out.end(), std::byte{0});
  for (std::int64_t s = from / kRaw - 1; s <= to / kRaw; ++s) {
    const std::int64_t begin = std::max(from, s * kRaw), end = std::min(to, (s + 1) * kRaw);
    const auto at = static_cast<Lba>(s);
    if (begin >= end || at < 0 || !is_audio(at)) continue;
    cd::Sector sector;
    image.cd->read_sector(at, sector);
    std::copy(sector.begin() + (begin - s * kRaw), sector.begin() + (end - s * kRaw), out.begin() + (begin - from));
  }
}

Choice Joiner::decide(Lba lba, std::span<const ByteView> sectors, cd::Sector& out) const {
  std::vector<Reading> readings;
  std::vector<std::size_t> owners;
  for (std::size_t i = 0; i < sectors.size(); ++i) {
    if (!has(i, lba, sectors[i])) continue;
    Reading r;
    std::copy(sectors[i].begin(), sectors[i].end(), r.bytes.begin());
    if (const auto& map = inputs_[i].map)
      if (const auto flags = map->suspect_bytes.find(lba); flags != map->suspect_bytes.end() && shifts_[i] == 0)
        r.flagged = flags->second;
    readings.push_back(std::move(r));
    owners.push_back(i);
  }
  if (readings.empty()) return {};
  const bool audio = is_audio(lba), proof = !blocks_ && !audio;
  CombinedSector joined = proof ? combine_data(readings, lba) : combine_without_proof(readings, owners, lba);
  if (joined.how == Combining::none) return {};
  out = joined.bytes;
  Choice choice{how_of(joined, readings.size()), {}};
  for (const std::size_t giver : joined.givers) choice.inputs.push_back(owners[giver]);
  return choice;
}

void Joiner::align() {
  if (blocks_ || layout().audio_track_count() == 0) return;
  for (std::size_t i = 1; i < inputs_.size(); ++i) shifts_[i] = shift_of(i);
}

/// False if the input only holds a place for the sector.
bool Joiner::has(std::size_t input, Lba lba, ByteView bytes) const {
  const SectorState s = state(input, lba);
  if (s == SectorState::unreadable || s == SectorState::hang || s == SectorState::untried) return false;
  if (blocks_) return !filled(bytes);
  if (is_audio(lba)) return true;
  return !filled(bytes.subspan(cd::kMode2UserAt)) && !all_zero(bytes);
}

/// All inputs that have the sector agree.
CombinedSector Joiner::combine_equal(std::span<const Reading> readings, const std::vector<std::size_t>& owners,
                                     Lba lba) const {
  CombinedSector result{Combining::unsure, readings[0].bytes, {}};
  for (std::size_t i = 0; i < readings.size(); ++i) result.givers.push_back(i);
  const bool confirmed = std::any_of(owners.begin(), owners.end(), [&](std::size_t i) {
    const SectorState s = state(i, lba);
    return s == SectorState::audio_confirmed || s == SectorState::good || s == SectorState::retried;
  });
  if (readings.size() > 1 || confirmed || blocks_) result.how = Combining::as_read;
  return result;
}

/// A reading that its own dump confirmed outweighs one that it did not.
CombinedSector Joiner::combine_music(std::span<const Reading> readings, const std::vector<std::size_t>& owners,
                                     Lba lba) const {
  std::vector<Reading> confirmed;
  for (std::size_t i = 0; i < readings.size(); ++i)
    if (state(owners[i], lba) == SectorState::audio_confirmed) confirmed.push_back(readings[i]);
  const bool alone = !confirmed.empty() && std::all_of(confirmed.begin(), confirmed.end(),
                                                       [&](const Reading& r) { return r.bytes == confirmed[0].bytes; });
  CombinedSector joined = alone ? CombinedSector{Combining::as_read, confirmed[0].bytes, {}} : combine_audio(readings);
  joined.givers.clear();
  for (std::size_t i = 0; i < readings.size(); ++i)
    if (readings[i].bytes == joined.bytes) joined.givers.push_back(i);
  return joined;
}

CombinedSector Joiner::combine_without_proof(std::span<const Reading> readings, const std::vector<std::size_t>& owners,
                                             Lba lba) const {
  const bool equal =
      std::all_of(readings.begin(), readings.end(), [&](const Reading& r) { return r.bytes == readings[0].bytes; });
  if (equal) return combine_equal(readings, owners, lba);
  if (!blocks_) return combine_music(readings, owners, lba);
  // Blocks that were both read without an error and still differ: the more frequent, then the smaller.
  std::map<cd::Sector, std::vector<std::size_t>> groups;
  for (std::size_t i = 0; i < readings.size(); ++i) groups[readings[i].bytes].push_back(i);
  const auto best = std::max_element(groups.begin(), groups.end(),
                                     [](const auto& a, const auto& b) { return a.second.size() < b.second.size(); });
  return {Combining::conflict, best->first, best->second};
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

/// A few sectors of the first input's music are looked for in the other's.
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
  if (!is_audio(lba - kAround) || !is_audio(lba + kAround)) return std::nullopt;
  cd::Sector reference;
  inputs_[0].image.cd->read_sector(lba, reference);
  const ByteView needle = ByteView(reference).first(kNeedle);
  if (std::equal(needle.begin() + kSampleSize, needle.end(), needle.begin())) return std::nullopt;  // one value
  Bytes stream((2 * kAround + 1) * cd::kRawBytes);
  inputs_[input].image.cd->read(SectorForm::raw, lba - kAround, 2 * kAround + 1, stream);
  constexpr std::size_t kExpected = static_cast<std::size_t>(kAround) * cd::kRawBytes;
  for (int off = 0; off <= kMostShift; ++off)
    for (const int sign : {1, -1}) {
      const std::ptrdiff_t at = static_cast<std::ptrdiff_t>(kExpected) + sign * off * kSampleSize;
      if (std::memcmp(stream.data() + at, needle.data(), needle.size()) == 0) return sign * off;
    }
  return std::nullopt;
}

}  // namespace opifex
