// The damaged sectors: again and again, slower and slower, and in the end whatever can be made of the readings.
#include <algorithm>
#include <array>
#include <utility>

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
  context_.progress.begin("retrying damaged sectors", order.size() * reader_.sector_bytes());
  for (const Lba lba : order) {
    if (given_up()) return;
    constexpr unsigned kMostHangs = 2;
    const auto at = bad_.find(lba);
    const Region* region = region_of(lba);
    if (at == bad_.end() || at->second.hangs >= kMostHangs || !region) continue;
    if (region->kind == RegionKind::audio)
      retry_runs(*region, lba, round);
    else
      retry(*region, lba);
    context_.progress.done_bytes += reader_.sector_bytes();
    maybe_save();
  }
}

/// All of the damaged music around `lba`, once a round: runs that lie close together in one go, so that the buffer is
/// emptied once for all of them.
void Strategy::retry_runs(const Region& region, Lba lba, unsigned round) {
  constexpr std::uint64_t kMostTogether = 512;
  constexpr Lba kClose = 32;
  const Lba most = most_together(kMostTogether);
  if (bad_[lba].round == round + 1) return;
  const auto joins = [&](const std::pair<const Lba, Bad>& other, Lba from, Lba to) {
    return other.first >= region.first && other.first < region.end && to - from <= most &&
           other.second.round != round + 1 && other.second.hangs == 0;
  };
  Lba first = lba, end = lba + 1;
  for (auto at = bad_.find(lba); at != bad_.begin(); first = at->first)
    if (--at; first - at->first > kClose || !joins(*at, at->first, end)) break;
  for (auto at = std::next(bad_.find(lba)); at != bad_.end(); end = at++->first + 1)
    if (at->first - end >= kClose || !joins(*at, first, at->first + 1)) break;
  for (auto at = bad_.find(first); at != bad_.end() && at->first < end; ++at) at->second.round = round + 1;
  for (Lba at = first; at < end && !given_up();) {
    // What is confirmed on the way is passed over.
    if (!bad_.contains(at)) {
      ++at;
      continue;
    }
    at = place_again(region, at, end) ? end : retry_music(region, at, end);
  }
}

/// Music that repeats itself fits in several places of a drive that jitters: what most readings agree on counts, once.
bool Strategy::place_again(const Region& region, Lba first, Lba end) {
  if (!reader_.jitters() || std::exchange(bad_[first].anchored, true)) return false;
  if (!audio_before(region, first).empty() || !audio_after(region, end).empty()) return false;
  if (!anchor_stream(region, first, end)) return false;
  for (Lba lba = first; lba < end; ++lba)
    if (const auto at = bad_.find(lba); at != bad_.end()) {
      ++stats_.readings[at->second.tries + 1];
      bad_.erase(at);
    }
  return true;
}

namespace {

/// So many known sectors as it takes to tell a place: of music that repeats itself more.
constexpr std::array<Lba, 4> kReferences = {3, 6, 12, 24};

}  // namespace

/// The sectors [first, end) as they are known, if all are and tell a place; else nothing.
Bytes Strategy::reference(const Region& region, Lba first, Lba end) const {
  if (first < region.first && !region_of(first)) return {};
  for (Lba at = first; at < end; ++at) {
    const Region* r = region_of(at);
    if (!r || r->kind != RegionKind::audio || state_of(at) != SectorState::audio_confirmed) return {};
  }
  Bytes sectors(static_cast<std::size_t>(end - first) * cd::kRawBytes);
  store_.read(first, sectors);
  return tells_its_place(sectors) ? sectors : Bytes{};
}

/// Those before `lba`, for joining the stream of a drive that jitters.
Bytes Strategy::audio_before(const Region& region, Lba lba) const {
  if (region.kind != RegionKind::audio || !reader_.jitters()) return {};
  for (const Lba n : kReferences)
    if (Bytes sectors = reference(region, lba - n, lba); !sectors.empty()) return sectors;
  return {};
}

/// Those from `lba` on, where the ones before are no help.
Bytes Strategy::audio_after(const Region& region, Lba lba) const {
  if (region.kind != RegionKind::audio || !reader_.jitters()) return {};
  for (const Lba n : kReferences)
    if (Bytes sectors = reference(region, lba, lba + n); !sectors.empty()) return sectors;
  return {};
}

void Strategy::count_failure(Lba lba, Trouble trouble) {
  const auto at = bad_.find(lba);
  if (at == bad_.end()) return;
  ++at->second.tries;
  if (trouble != Trouble::timeout) return;
  ++at->second.hangs;
  map_.set(lba, lba + 1, SectorState::hang);
}

/// Behind a sector that cannot be read: others that cannot, either. For that the buffer need not be emptied for each of
/// them. Returns the first one that comes, or one that is not damaged.
Lba Strategy::pass_unreadable(const Region& region, Lba first, Lba end) {
  cd::Sector sector{};
  for (Lba at = first; at < end; ++at) {
    if (!bad_.contains(at) || given_up()) return at;
    Extras extras;
    const ReadResult r = read(region, at, 1, sector, &extras);
    if (r.delivered == 1) return at;
    count_failure(at, r.trouble);
  }
  return end;
}

/// The drive cannot go where a part of it lies.
void Strategy::leave_out_of_reach(BadSectors::iterator at) {
  ++stats_.lacking;
  suspects_[at->first] = {{0, cd::kRawBytes - 1}};
  bad_.erase(at);
}

/// Another reading of damaged music, which counts only if it surely comes from the disc and from that place.
void Strategy::vote(const Region& region, BadSectors::iterator at, ByteView sector,
                    const std::vector<cd::Erasure>& flagged, bool counts) {
  const Lba lba = at->first;
  Bad& bad = at->second;
  ++bad.tries;
  if (!flagged.empty()) ++stats_.flagged_sectors;
  if (counts) bad.votes.add(sector, flagged);
  const bool any = bad.votes.readings() > 0;
  const cd::Sector best = any ? bad.votes.best() : cd::Sector{};
  if (any && bad.votes.confirmed(bad.needed)) {
    ++stats_.readings[bad.tries];
    accept(region, lba, best, SectorState::audio_confirmed);
    bad_.erase(at);
    return;
  }
  // Better than nothing.
  if (any || is_lost(map_.at(lba))) store_.write(lba, any ? ByteView(best) : sector);
  map_.set(lba, lba + 1, SectorState::audio_unsure);
}

/// A run of damaged music, from `first` on: read in one go, so that it needs the buffer emptied once. Returns where the
/// next begins.
Lba Strategy::retry_music(const Region& region, Lba first, Lba end) {
  if (!make_fresh(first, end)) {
    stats_.in_buffer += static_cast<std::uint64_t>(end - first);
    for (Lba lba = first; lba < end; ++lba) {
      if (bad_.erase(lba) > 0) suspects_[lba] = {{0, cd::kRawBytes - 1}};
    }
    return end;
  }
  const auto count = static_cast<std::uint32_t>(end - first);
  Bytes sectors(count * cd::kRawBytes);
  Extras extras;
  extras.want_flags = extras.past_buffer = true;
  const Bytes before = audio_before(region, first), after = before.empty() ? audio_after(region, end) : Bytes{};
  extras.before = before;
  extras.after = after;
  const ReadResult r = read(region, first, count, sectors, &extras);
  const Lba reached = first + static_cast<Lba>(r.delivered);
  if (extras.subchannel.size() >= r.delivered * cd::kSubchannelBytes)
    store_.write_subchannel(first, ByteView(extras.subchannel).first(r.delivered * cd::kSubchannelBytes));
  for (Lba lba = first; lba < std::min(reached, end); ++lba) {
    const auto i = static_cast<std::size_t>(lba - first);
    const bool lacks = i < extras.lacking.size() && extras.lacking[i];
    const bool counts = !extras.misplaced && !lacks && fresh_[i];
    if (const auto at = bad_.find(lba); at == bad_.end())
      continue;
    else if (lacks && !reader_.jitters())
      leave_out_of_reach(at);
    else
      vote(region, at, ByteView(sectors).subspan(i * cd::kRawBytes, cd::kRawBytes),
           i < extras.flagged.size() ? extras.flagged[i] : std::vector<cd::Erasure>{}, counts);
  }
  if (reached < end) count_failure(reached, r.trouble);
  return reached < end ? pass_unreadable(region, reached + 1, end) : end;
}

/// The other sectors of an ECC block come with the one that was wanted.
void Strategy::take_retried(const Region& region, Lba lba, ByteView sector) {
  const auto at = bad_.find(lba);
  if (at == bad_.end()) return;
  ++at->second.tries;
  ++stats_.readings[at->second.tries];
  accept(region, lba, sector, SectorState::retried);
  bad_.erase(at);
}

void Strategy::retry(const Region& region, Lba lba) {
  Bad& bad = bad_[lba];
  const bool unproved = std::any_of(bad.readings.begin(), bad.readings.end(), [&](const Reading& r) {
    return soundness(region, lba, r.bytes) == Soundness::unchecked;
  });
  if (!unproved)
    make_another_likely(lba);
  else if (!make_fresh(lba, lba + 1) && !std::exchange(bad.only_buffered, true))
    ++stats_.in_buffer;
  // A damaged ECC unit is read as a whole: its sectors live and die together.
  const auto unit = static_cast<Lba>(reader_.unit());
  const Lba first = std::max(region.first, lba / unit * unit);
  const auto count = static_cast<std::uint32_t>(std::min(region.end, lba / unit * unit + unit) - first);
  const std::size_t size = reader_.sector_bytes();
  Bytes sectors(count * size);
  Extras extras;
  extras.want_flags = extras.past_buffer = true;
  const ReadResult r = read(region, first, count, sectors, &extras);
  const std::size_t own = static_cast<std::size_t>(lba - first);
  ++bad.tries;
  if (r.trouble == Trouble::timeout) ++bad.hangs;
  if (options_.transform) options_.transform(first, std::span(sectors).first(r.delivered * size));
  if (region.kind == RegionKind::blocks)
    for (std::uint32_t i = 0; i < r.delivered; ++i)
      if (i != own) take_retried(region, first + static_cast<Lba>(i), ByteView(sectors).subspan(i * size, size));
  if (r.delivered <= own) {
    if (r.trouble == Trouble::timeout) map_.set(lba, lba + 1, SectorState::hang);
    return;
  }
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
  const Soundness sound = soundness(region, lba, cd::SectorView(sector));
  const bool again = fresh_[own] && counts_if_repeated(cd::SectorView(sector)) &&
                     std::any_of(bad.readings.begin(), bad.readings.end(),
                                 [&](const Reading& known) { return known.bytes == reading.bytes; });
  if (sound == Soundness::proved || (sound == Soundness::unchecked && again)) return done(sector, SectorState::retried);
  keep(lba, reading);
  map_.set(lba, lba + 1, SectorState::bad_edc);
  store_.write(lba, sector);
}

void Strategy::finish_bad() {
  while (!bad_.empty()) {
    const auto at = bad_.begin();
    const Lba lba = at->first;
    Bad bad = std::move(at->second);
    bad_.erase(at);
    if (const Region* region = region_of(lba)) finish_one(*region, lba, bad);
    context_.progress.check_stop();
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
  if (region.kind == RegionKind::audio && bad.votes.readings() > 0) {
    accept(region, lba, bad.votes.best(), SectorState::audio_unsure);
    suspects_[lba] = bad.votes.open_bytes(bad.needed);
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
  if (state == SectorState::audio_unsure) suspects_[lba] = {{0, cd::kRawBytes - 1}};  // no reading of it counted
  if (state == SectorState::bad_edc || state == SectorState::audio_unsure) return;    // delivered in an earlier run
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
  if (region.kind == RegionKind::data) cd::put_header(cd::SectorSpan(out), lba, region.mode);
}

}  // namespace opifex::dump
