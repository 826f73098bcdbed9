// The drive's buffer, and the disc that may have been changed: what must be so before a reading counts.
#include <algorithm>

#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

/// True if since then so much was read elsewhere that nothing of it can be in the drive's buffer.
bool Strategy::pushed_out(std::uint64_t stamp) const {
  return (fresh_ - stamp) * reader_.sector_bytes() >= reader_.buffer_bytes();
}

/// Sectors outside [first, end), all of them distinct.
std::uint64_t Strategy::others_bytes(Lba first, Lba end) const {
  std::uint64_t sectors = 0;
  for (const Region& r : store_.regions()) {
    const Lba inside = std::max(0, std::min(end, r.end) - std::max(first, r.first));
    sectors += static_cast<std::uint64_t>(r.end - r.first - inside);
  }
  return sectors * reader_.sector_bytes();
}

/// Runs of sectors outside [first, end); those that came before the others.
std::vector<StateRange> Strategy::elsewhere(Lba first, Lba end) const {
  std::vector<StateRange> known, other;
  for (const StateRange& range : ranges()) {
    if (range.state == SectorState::outside) continue;
    const bool came = is_settled(range.state) && !is_lost(range.state) && range.state != SectorState::runout;
    for (const auto& [from, to] : {std::pair(range.first, std::min(range.end, first)),
                                   std::pair(std::max(range.first, end), range.end)})
      if (from < to) (came ? known : other).push_back({from, to, range.state});
  }
  // Each time the next part of the disc: what was read for this the last time may be in the buffer itself.
  const auto next = std::find_if(known.begin(), known.end(), [&](const StateRange& r) { return r.end > ring_; });
  if (next != known.end() && next->first < ring_) {
    const Lba from = next->first;
    next->first = ring_;
    std::rotate(known.begin(), next, known.end());
    known.push_back({from, ring_, SectorState::good});
  } else {
    std::rotate(known.begin(), next, known.end());
  }
  known.insert(known.end(), other.begin(), other.end());
  return known;
}

/// Reads as much as the buffer holds, none of it in [first, end). False if the disc has not that much,
/// or does not give it.
bool Strategy::push_out(Lba first, Lba end) {
  constexpr std::uint32_t kTogether = 128;
  for (Lba lba = first; lba < end && reader_.buffer_bytes() == 0; ++lba) reader_.forget(lba);
  const std::uint64_t wanted = reader_.buffer_bytes() / reader_.sector_bytes() + (reader_.buffer_bytes() > 0 ? 1 : 0);
  std::uint64_t came = 0;
  for (const StateRange& range : wanted > 0 ? elsewhere(first, end) : std::vector<StateRange>{})
    for (Lba at = range.first; at < range.end && came < wanted;) {
      work_.progress.check_stop();
      const auto n = static_cast<std::uint32_t>(
          std::min<std::uint64_t>({kTogether, static_cast<std::uint64_t>(range.end - at), wanted - came}));
      came += reader_.skim(at, n);
      ring_ = at += static_cast<Lba>(n);
    }
  if (came < wanted) return false;
  fresh_ += came;
  return true;
}

/// Whatever was read at `stamp` comes from the disc when it is read again. False if that cannot be had.
bool Strategy::make_fresh(Lba first, Lba end, std::uint64_t stamp) {
  return (pushed_out(stamp) && reader_.buffer_bytes() > 0) || push_out(first, end);
}

void Strategy::add_witness(Lba lba, Bytes sector) { witnesses_.push_back({lba, std::move(sector)}); }

/// Only what proves itself says which disc it came from; of blocks, what is not all the same.
bool Strategy::is_witness(const Region& region, Lba lba, ByteView sector) const {
  if (std::adjacent_find(sector.begin(), sector.end(), std::not_equal_to<>()) == sector.end()) return false;
  if (region.kind == RegionKind::data) return proves_itself(cd::SectorView(sector), lba);
  return region.kind == RegionKind::blocks || state_of(lba) == SectorState::audio_confirmed;
}

/// Now and then one of those that were read is remembered; of many every second one is forgotten.
void Strategy::watch(const Region& region, Lba lba, ByteView sectors) {
  constexpr Lba kEvery = 200;
  constexpr std::size_t kMost = 24;
  const std::size_t size = reader_.sector_bytes();
  Lba next = watched_.empty() ? lba : watched_.back().lba + kEvery;
  if (!watched_.empty() && lba < watched_.back().lba) next = lba;  // another part of the disc
  for (std::size_t at = 0; at + size <= sectors.size(); at += size) {
    const ByteView sector = sectors.subspan(at, size);
    const Lba own = lba + static_cast<Lba>(at / size);
    if (own < next || !is_witness(region, own, sector)) continue;
    watched_.push_back({own, Bytes(sector.begin(), sector.end())});
    next = own + kEvery;
  }
  if (watched_.size() <= kMost) return;
  for (std::size_t i = 1; 2 * i < watched_.size(); ++i) watched_[i] = std::move(watched_[2 * i]);
  watched_.resize((watched_.size() + 1) / 2);
}

void Strategy::confirm_medium() {
  constexpr int kTries = 3;
  bool any = false;
  std::vector<const Witness*> all;
  for (const auto* list : {&watched_, &witnesses_})
    for (const Witness& witness : *list) all.push_back(&witness);
  for (const Witness* witness : all) {
    const Region* region = region_of(witness->lba);
    if (!region) continue;
    Bytes now(witness->sector.size());
    bool came = false, same = false;
    // A single wrong byte of music is no other disc.
    for (int i = 0; i < kTries && !same; ++i) {
      Extras extras;
      const Bytes before = audio_before(*region, witness->lba);
      extras.before = before;
      const ReadResult r = reader_.read(*region, witness->lba, 1, now, &extras);
      came = came || (r.delivered == 1 && !extras.misplaced);
      same = r.delivered == 1 && now == witness->sector;
      if (r.delivered == 1 && !same) push_out(witness->lba, witness->lba + 1);
    }
    if (came && !same)
      throw Error({.fault = Fault::device,
                   .code = "medium_changed",
                   .what = fmt::format("the disc in the drive has something else at sector {}: it is another one",
                                       witness->lba),
                   .hint = "put the first disc back and run the command again: the dump goes on where it stopped"});
    any = any || same;
  }
  if (any || all.empty()) return;
  throw Error({.fault = Fault::device,
               .code = "medium_unknown",
               .what = "the drive lost the disc for a moment, and nothing known of it can be read again to tell whether "
                       "it is the same",
               .hint = "run the command again: the dump goes on where it stopped"});
}

}  // namespace opifex::dump
