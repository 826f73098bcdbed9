// The damaged sectors: again and again, slower and slower, and in the end whatever can be made of the readings.
#include <algorithm>

#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

constexpr std::byte kFill{0x55};  // no zeros: what is lost must be seen to be lost

}  // namespace

void Strategy::retry_round(unsigned round) {
  // A quarter of the rounds at each speed.
  const unsigned steps = reader_.slowest() + 1;
  reader_.set_slowness(std::min(round * steps / std::max(1u, options_.passes), reader_.slowest()));
  std::vector<Lba> order;
  for (const auto& [lba, bad] : bad_) order.push_back(lba);
  if (round % 2 == 1) std::reverse(order.begin(), order.end());
  // Where the drive hung comes last.
  std::stable_sort(order.begin(), order.end(),
                   [&](Lba a, Lba b) { return (map_.at(a) == SectorState::hang) < (map_.at(b) == SectorState::hang); });
  work_.progress.begin("retrying damaged sectors", order.size() * reader_.sector_bytes());
  for (const Lba lba : order) {
    if (given_up()) return;
    constexpr unsigned kMostHangs = 2;
    if (const auto at = bad_.find(lba); at != bad_.end() && at->second.hangs < kMostHangs)
      if (const Region* region = region_of(lba)) retry(*region, lba);
    work_.progress.done_bytes += reader_.sector_bytes();
    maybe_save();
  }
}

/// A repeated reading proves nothing if the drive answers from its buffer.
void Strategy::defeat(Lba lba, Bad& bad) {
  const std::uint64_t since = (sectors_read_ - bad.stamp) * reader_.sector_bytes();
  if (bad.stamp != 0 && since >= reader_.buffer_bytes()) return;
  Region good{};
  for (const StateRange& range : map_.ranges()) {
    const bool read = range.state == SectorState::good || range.state == SectorState::audio_confirmed;
    if (!read || range.end - range.first <= good.end - good.first) continue;
    good.first = range.first;
    good.end = range.end;
  }
  reader_.defeat_cache(good, lba);
}

/// The three sectors before, for joining the stream of a drive that jitters.
Bytes Strategy::audio_before(const Region& region, Lba lba) const {
  constexpr Lba kSectors = 3;
  if (region.kind != RegionKind::audio) return {};
  for (Lba at = lba - kSectors; at < lba; ++at) {
    const Region* r = region_of(at);
    if (!r || r->kind != RegionKind::audio || map_.at(at) != SectorState::audio_confirmed) return {};
  }
  Bytes before(kSectors * cd::kRawBytes);
  store_.read(lba - kSectors, before);
  return before;
}

void Strategy::retry(const Region& region, Lba lba) {
  Bad& bad = bad_[lba];
  defeat(lba, bad);
  // A damaged ECC unit is read as a whole: its sectors live and die together.
  const auto unit = static_cast<Lba>(reader_.unit());
  const Lba first = std::max(region.first, lba / unit * unit);
  const auto count = static_cast<std::uint32_t>(std::min(region.end, lba / unit * unit + unit) - first);
  const std::size_t size = reader_.sector_bytes();
  Bytes sectors(count * size);
  Extras extras;
  extras.want_flags = extras.past_buffer = true;
  const Bytes before = audio_before(region, lba);
  extras.before = before;
  const ReadResult r = read(region, first, count, sectors, &extras);
  const std::size_t own = static_cast<std::size_t>(lba - first);
  ++bad.tries;
  bad.stamp = sectors_read_;
  if (r.trouble == Trouble::timeout) ++bad.hangs;
  if (r.delivered <= own) {
    if (r.trouble == Trouble::timeout) map_.set(lba, lba + 1, SectorState::hang);
    return;
  }
  if (options_.transform) options_.transform(first, std::span(sectors).first(r.delivered * size));
  if (extras.subchannel.size() >= (own + 1) * cd::kSubchannelBytes)
    store_.write_subchannel(lba, ByteView(extras.subchannel).subspan(own * cd::kSubchannelBytes, cd::kSubchannelBytes));
  const ByteView sector = ByteView(sectors).subspan(own * size, size);
  const auto done = [&](ByteView bytes, SectorState state) {
    ++stats_.readings[bad.tries];
    accept(region, lba, bytes, state);
    kept_ -= bad.readings.size();
    bad_.erase(lba);
  };
  if (region.kind == RegionKind::blocks) return done(sector, SectorState::retried);
  Reading reading;
  std::copy(sector.begin(), sector.end(), reading.bytes.begin());
  reading.flags_known = extras.flags_known;
  if (extras.flagged.size() > own) reading.flagged = extras.flagged[own];
  if (!reading.flagged.empty()) ++stats_.flagged_sectors;
  if (region.kind == RegionKind::data) {
    const Soundness sound = soundness(region, lba, cd::SectorView(sector));
    const bool again = std::any_of(bad.readings.begin(), bad.readings.end(),
                                   [&](const Reading& known) { return known.bytes == reading.bytes; });
    if (sound == Soundness::proved || (sound == Soundness::odd && again)) return done(sector, SectorState::retried);
    keep(lba, reading);
    map_.set(lba, lba + 1, SectorState::bad_edc);
    store_.write(lba, sector);
    return;
  }
  if (extras.misplaced) reading.flagged.push_back({0, cd::kRawBytes - 1});
  keep(lba, reading);
  const CombinedSector combined = combine_audio(bad.readings);
  if (combined.how == Combining::as_read) return done(combined.bytes, SectorState::audio_confirmed);
  map_.set(lba, lba + 1, SectorState::audio_unsure);
}

void Strategy::finish_bad() {
  while (!bad_.empty()) {
    const auto at = bad_.begin();
    const Lba lba = at->first;
    Bad bad = std::move(at->second);
    bad_.erase(at);
    if (const Region* region = region_of(lba)) finish_one(*region, lba, bad);
    work_.progress.check_stop();
  }
  // Given up before they were ever tried: filled, and reported as what they are.
  for (const Region& todo : untried()) {
    if (stats_.ended_at && todo.first >= *stats_.ended_at) break;
    Bytes sector(reader_.sector_bytes());
    for (Lba lba = todo.first; lba < todo.end; ++lba) {
      fill(todo, lba, sector);
      store_.write(lba, sector);
    }
  }
}

void Strategy::finish_one(const Region& region, Lba lba, Bad& bad) {
  settle(region, lba, bad);
  ++(is_settled(map_.at(lba)) ? stats_.readings : stats_.given_up)[bad.tries];
}

void Strategy::settle(const Region& region, Lba lba, Bad& bad) {
  const SectorState state = map_.at(lba);
  if (region.kind == RegionKind::audio && !bad.readings.empty()) {
    const CombinedSector combined = combine_audio(bad.readings);
    accept(region, lba, combined.bytes,
           combined.how == Combining::as_read ? SectorState::audio_confirmed : SectorState::audio_unsure);
    if (combined.how != Combining::as_read && !combined.givers.empty())
      suspects_[lba] = bad.readings[combined.givers.front()].flagged;
    return;
  }
  if (region.kind == RegionKind::data && !bad.readings.empty()) {
    const CombinedSector combined = combine_data(bad.readings, lba);
    if (combined.how != Combining::none && combined.how != Combining::unsure)
      return accept(region, lba, combined.bytes,
                    combined.how == Combining::combined ? SectorState::combined : SectorState::repaired);
    // As it was delivered, with its wrong checksum: better than nothing, and it can still be joined with another dump.
    accept(region, lba, bad.readings.front().bytes, SectorState::bad_edc);
    if (!bad.readings.front().flagged.empty()) suspects_[lba] = bad.readings.front().flagged;
    return;
  }
  if (state == SectorState::bad_edc || state == SectorState::audio_unsure) return;  // delivered in an earlier run
  Bytes sector(reader_.sector_bytes());
  fill(region, lba, sector);
  SectorState final_state = state == SectorState::hang ? state : SectorState::unreadable;
  if (options_.link_blocks.contains(lba)) final_state = SectorState::runout;
  accept(region, lba, sector, final_state);
}

/// Data: a right header and a filler that no EDC covers; audio: silence.
void Strategy::fill(const Region& region, Lba lba, std::span<std::byte> out) const {
  const bool audio = region.kind == RegionKind::audio;
  std::fill(out.begin(), out.end(), audio ? std::byte{0} : kFill);
  if (region.kind == RegionKind::data) {
    Bytes neighbour(cd::kRawBytes);
    const Lba from = lba > region.first ? lba - 1 : lba + 1;
    store_.read(from, neighbour);
    const auto mode = cd::header_mode(cd::SectorView(neighbour)).value_or(1);
    cd::put_header(cd::SectorSpan(out), lba, cd::has_sync(cd::SectorView(neighbour)) ? mode : 1);
  }
}

}  // namespace opifex::dump
