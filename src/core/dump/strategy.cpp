// The first pass over data and blocks, and the holes it left.
#include "opifex/core/dump/strategy.hpp"

#include <algorithm>
#include <array>
#include <chrono>

#include "opifex/core/base/flow.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

const std::vector<cd::Erasure> kNoFlags;
constexpr unsigned kJumpAfter = 8;                   // failures in a row
constexpr Lba kFirstJump = 64, kLongestJump = 4096;  // sectors left for later

/// Of CDs, where music has nothing else to prove it; blocks prove themselves to the drive.
std::uint64_t model_length(const SectorReader& reader) {
  if (reader.sector_bytes() != cd::kRawBytes || reader.buffer_bytes() == 0) return 0;
  return reader.buffer_bytes() / cd::kRawBytes + 1;
}

std::uint64_t now_ms() {
  return static_cast<std::uint64_t>(
      std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now().time_since_epoch())
          .count());
}

}  // namespace

Soundness soundness(const Region& region, Lba lba, cd::SectorView s) {
  if (proves_itself(s, lba)) return Soundness::proved;
  const bool data = lba >= region.index1 || cd::has_sync(s);
  return cd::examine(s, {lba, data}).bad() ? Soundness::bad : Soundness::unchecked;
}

Strategy::Strategy(SectorReader& reader, DumpStore& store, SectorMap& map, StrategyOptions options,
                   std::function<void()> save, JobContext& context)
    : reader_(reader),
      store_(store),
      map_(map),
      options_(std::move(options)),
      save_(std::move(save)),
      context_(context),
      buffer_(map.first(), map.end(), model_length(reader)),
      saved_at_ms_(now_ms()) {}

const Region* Strategy::region_of(Lba lba) const {
  for (const Region& r : store_.regions())
    if (lba >= r.first && lba < r.end) return &r;
  return nullptr;
}

SectorState Strategy::state_of(Lba lba) const {
  const std::lock_guard lock(map_mutex_);
  return map_.at(lba);
}
std::vector<StateRange> Strategy::ranges() const {
  const std::lock_guard lock(map_mutex_);
  return map_.ranges();
}
void Strategy::set_state(Lba first, Lba end, SectorState state) {
  const std::lock_guard lock(map_mutex_);
  map_.set(first, end, state);
}

/// What is still to be read, cut at the borders of the regions.
std::vector<Region> Strategy::untried() const {
  std::vector<Region> todo;
  for (const StateRange& range : map_.ranges()) {
    if (range.state != SectorState::untried) continue;
    for (const Region& r : store_.regions()) {
      Region part = r;
      part.first = std::max(r.first, range.first);
      part.end = std::min(r.end, range.end);
      if (part.first < part.end) todo.push_back(part);
    }
  }
  return todo;
}

void Strategy::maybe_save() {
  if (now_ms() - saved_at_ms_ < options_.save_every_ms) return;
  save_();
  saved_at_ms_ = now_ms();
}

void Strategy::note_speed(Lba lba, std::uint64_t bytes) {
  constexpr std::size_t kMostSamples = 1000;
  sampled_bytes_ += bytes;
  const std::uint64_t now = reader_.clock_ms(), passed = now - sampled_ms_;
  constexpr std::uint64_t kShortest = 500;  // of drive time: shorter spans are dominated by single commands
  if (passed < kShortest) return;
  stats_.speeds.push_back({lba, static_cast<double>(sampled_bytes_) / static_cast<double>(passed)});
  sampled_ms_ = now;
  sampled_bytes_ = 0;
  if (stats_.speeds.size() <= kMostSamples) return;
  for (std::size_t i = 0; i + 1 < stats_.speeds.size(); i += 2)
    stats_.speeds[i / 2] = {stats_.speeds[i].lba, (stats_.speeds[i].kbs + stats_.speeds[i + 1].kbs) / 2};
  stats_.speeds.resize(stats_.speeds.size() / 2);
}

ReadResult Strategy::read(const Region& region, Lba lba, std::uint32_t count, std::span<std::byte> out,
                          Extras* extras) {
  context_.progress.check_stop();
  const ReadResult r = read_of_one_disc(region, lba, count, out, extras);
  fresh_ = buffer_.take(lba, r.delivered);
  // That a sector cannot be read may come from the buffer as well.
  if (r.delivered < count) buffer_.suppose(lba + static_cast<Lba>(r.delivered), 1);
  if (reader_.moves_music()) suppose_around(lba, r.delivered);
  if (r.trouble == Trouble::timeout) {
    ++stats_.hangs;
    if (!reader_.recover())
      throw Error({.fault = Fault::device,
                   .code = "drive_gone",
                   .what = fmt::format("the drive hangs at sector {} and does not come back",
                                       lba + static_cast<Lba>(r.delivered)),
                   .hint = "switch it off and on, and run the command again: the dump goes on where it stopped"});
  }
  return r;
}

/// What came before the disc may have been changed is not known to whoever tells whether it was: it is read again.
ReadResult Strategy::read_of_one_disc(const Region& region, Lba lba, std::uint32_t count, std::span<std::byte> out,
                                      Extras* extras) {
  constexpr int kTries = 3;
  for (int i = 0; i < kTries; ++i) {
    const std::uint64_t checks = reader_.medium_checks();
    const ReadResult r = reader_.read(region, lba, count, out, extras);
    if (reader_.medium_checks() == checks || count == 1) return r;
    buffer_.suppose(lba, count);
  }
  return {0, Trouble::read_error};
}

/// What is moved into place is cut from more than was asked for.
void Strategy::suppose_around(Lba lba, std::uint32_t count) {
  constexpr std::uint32_t kAround = 12;
  buffer_.suppose(lba - static_cast<Lba>(kAround), kAround);
  buffer_.suppose(lba + static_cast<Lba>(count), kAround);
}

/// What became of the sectors of one block on their way from the drive to the store.
struct Strategy::Batch {
  Lba first = 0;
  std::vector<SectorState> states;
  std::vector<bool> unchecked;  // by sector: no checksum
};

/// Fills blocks from the drive: whole runs while all goes well, sector by sector where it does not.
class Strategy::FirstPass {
 public:
  FirstPass(Strategy& strategy, const Region& todo) : s_(strategy), todo_(todo), at_(todo.first) {}

  bool fill(std::uint32_t most, Batch& batch, Bytes& data) {
    if (at_ >= todo_.end || s_.stats_.ended_at) return false;
    const std::size_t size = s_.reader_.sector_bytes();
    batch.first = at_;
    batch.states.clear();
    batch.unchecked.clear();
    most = std::min(most, static_cast<std::uint32_t>(todo_.end - at_));
    data.resize(most * size);
    Extras extras;
    while (batch.states.size() < most) {
      const auto n = static_cast<std::uint32_t>(batch.states.size());
      const std::uint32_t wanted = careful_ == 0 ? most - n : careful_step(most - n);
      const auto target = std::span(data).subspan(n * size, wanted * size);
      const ReadResult r = s_.read(todo_, at_, wanted, target, &extras);
      // Whatever happens to its neighbours, what came of the subchannel has a place of its own.
      s_.store_.write_subchannel(at_, extras.subchannel);
      if (r.delivered > 0) {
        s_.watch(todo_, at_, std::span(data).subspan(n * size, r.delivered * size));
        delivered(batch, r.delivered);
      }
      s_.note_speed(at_, r.delivered * size);
      if (r.trouble == Trouble::none) continue;
      const bool single = careful_ > 0 && wanted == 1;
      if (!single) {
        be_careful();
        continue;
      }
      if (r.delivered > 0) continue;
      if (r.trouble == Trouble::out_of_range) {
        s_.stats_.ended_at = at_;
        break;
      }
      if (!failed(batch, r.trouble)) break;
    }
    data.resize(batch.states.size() * size);
    return !batch.states.empty();
  }

 private:
  /// One ECC unit first, then its sectors.
  std::uint32_t careful_step(std::uint32_t left) {
    const std::uint32_t unit = s_.reader_.unit();
    if (unit == 1 || unit_failed_) return 1;
    const std::uint32_t to_border = unit - static_cast<std::uint32_t>(at_) % unit;
    return std::min(left, to_border);
  }
  void be_careful() {
    unit_failed_ = careful_ > 0;  // not even the unit alone
    careful_ = std::max(careful_, std::min(s_.reader_.chunk(), kCarefulMost));
  }
  void delivered(Batch& batch, std::uint32_t n) {
    batch.states.insert(batch.states.end(), n, SectorState::good);
    at_ += static_cast<Lba>(n);
    in_a_row_ = 0;
    jump_ = kFirstJump;
    if (careful_ > 0) step(n);
  }
  void step(std::uint32_t n) {
    careful_ -= std::min(careful_, n);
    if (careful_ == 0 || static_cast<std::uint32_t>(at_) % s_.reader_.unit() == 0) unit_failed_ = false;
  }
  /// False if the pass jumps ahead: the block ends here.
  bool failed(Batch& batch, Trouble trouble) {
    const bool hang = trouble == Trouble::timeout;
    batch.states.push_back(hang ? SectorState::hang : SectorState::unreadable);
    ++at_;
    step(1);
    if (++in_a_row_ < kJumpAfter && !hang) return true;
    at_ = std::min(todo_.end, at_ + jump_);
    jump_ = std::min(2 * jump_, kLongestJump);
    in_a_row_ = 0;
    careful_ = 0;
    unit_failed_ = false;
    return false;
  }

  static constexpr std::uint32_t kCarefulMost = 64;
  Strategy& s_;
  const Region& todo_;
  Lba at_;
  std::uint32_t careful_ = 0;  // sectors still to be read singly
  bool unit_failed_ = false;
  unsigned in_a_row_ = 0;
  Lba jump_ = kFirstJump;
};

void Strategy::first_pass(const Region& todo) {
  if (todo.kind == RegionKind::audio) return audio_pass(todo);
  const std::size_t size = reader_.sector_bytes();
  const auto most = static_cast<std::uint32_t>(kFlowBlockBytes / size);
  FirstPass pass(*this, todo);
  using Block = FlowOf<Batch>::Block;
  FlowOf<Batch> flow;
  flow.next = [&](Block& block) { return pass.fill(most, block.carried, block.data); };
  flow.work = [&](Block& block) {
    Batch& batch = block.carried;
    if (options_.transform) options_.transform(batch.first, block.data);
    if (todo.kind != RegionKind::data) return;
    batch.unchecked.assign(batch.states.size(), false);
    for (std::size_t i = 0; i < batch.states.size(); ++i) {
      if (batch.states[i] != SectorState::good) continue;
      const auto sector = cd::SectorView(ByteView(block.data).subspan(i * size, size));
      const Soundness sound = soundness(todo, batch.first + static_cast<Lba>(i), sector);
      batch.unchecked[i] = sound == Soundness::unchecked && counts_if_repeated(sector);
      if (sound != Soundness::proved) batch.states[i] = SectorState::bad_edc;
    }
  };
  flow.consume.emplace_back([&](Block& block) {
    const Batch& batch = block.carried;
    for (std::size_t i = 0; i < batch.states.size();) {
      const auto unchecked = [&](std::size_t k) { return !batch.unchecked.empty() && batch.unchecked[k]; };
      std::size_t n = 1;
      while (i + n < batch.states.size() && batch.states[i + n] == batch.states[i] && unchecked(i + n) == unchecked(i))
        ++n;
      const Lba lba = batch.first + static_cast<Lba>(i), end = lba + static_cast<Lba>(n);
      set_state(lba, end, batch.states[i]);
      const bool there = batch.states[i] == SectorState::good || batch.states[i] == SectorState::bad_edc;
      if (there) store_.write(lba, ByteView(block.data).subspan(i * size, n * size));
      if (unchecked(i))
        add_unchecked(lba, end);  // bad until it was read again
      else if (batch.states[i] != SectorState::good)
        for (Lba b = lba; b < end; ++b) {
          bad_[b].tries = 1;
          if (batch.states[i] == SectorState::hang) bad_[b].hangs = 1;
          if (batch.states[i] != SectorState::bad_edc) continue;
          Reading reading;
          const auto sector = ByteView(block.data).subspan((i + static_cast<std::size_t>(b - lba)) * size, size);
          std::copy(sector.begin(), sector.end(), reading.bytes.begin());
          keep(b, reading);
        }
      i += n;
    }
    context_.progress.done_bytes += block.data.size();
    maybe_save();
  });
  run_flow(flow, context_);
  second_reading(todo);
}

/// Music that was taken for data would have to be moved into place: a second reading that is the same proves nothing.
bool Strategy::counts_if_repeated(cd::SectorView s) const { return cd::has_sync(s) || !reader_.moves_music(); }

void Strategy::add_unchecked(Lba first, Lba end) {
  if (!unchecked_.empty() && unchecked_.rbegin()->second == first)
    unchecked_.rbegin()->second = end;
  else
    unchecked_[first] = end;
}

/// What lies close together is read in one go, with the sound sectors in between: no seek for each.
Strategy::Runs Strategy::joined(const Runs& runs) const {
  constexpr Lba kClose = 128;
  Runs spans;
  for (const auto& [first, end] : runs) {
    const bool is_close = !spans.empty() && first - spans.rbegin()->second <= kClose;
    Lba at = is_close ? spans.rbegin()->second : first;
    while (at < first && state_of(at) == SectorState::good) ++at;
    if (is_close && at == first)
      spans.rbegin()->second = end;
    else
      spans[first] = end;
  }
  return spans;
}

/// Data without a checksum is read twice, as music is. What reads differently is a damaged sector like others.
void Strategy::second_reading(const Region& todo) {
  const Runs runs = std::exchange(unchecked_, {});
  if (runs.empty()) return;
  knows_buffer();
  const Lba most = most_together(kFlowBlockBytes / cd::kRawBytes);
  for (const auto& [first, end] : joined(runs))
    for (Lba at = first; at < end;) {
      const Lba to = std::min(end, at + most);
      // The rest of the pass lies between the two readings, but of what stands at the end of the region. Best is to
      // push that out as well, and not to read what comes next.
      const Lba last = runs.rbegin()->second;
      if (!make_fresh(at, to, last) && !push_out(at, to + (last - to) / 2) && !push_out(at, to)) {
        for (const auto& [from, behind] : runs)
          stats_.in_buffer += static_cast<std::uint64_t>(std::max(0, behind - std::max(at, from)));
        return;
      }
      at = read_again(todo, at, to, runs);
      maybe_save();
    }
}

/// Those of [at, to) that are in `runs`, held against what was read before. Returns how far it came: behind a sector
/// that cannot be read.
Lba Strategy::read_again(const Region& todo, Lba at, Lba to, const Runs& runs) {
  const std::size_t size = reader_.sector_bytes();
  const auto count = static_cast<std::uint32_t>(to - at);
  Bytes now(count * size), then(count * size);
  const ReadResult r = read(todo, at, count, now, nullptr);
  store_.read(at, then);
  const Lba reached = std::min(to, at + static_cast<Lba>(r.delivered) + 1);
  for (Lba lba = at; lba < reached; ++lba) {
    const auto run = runs.upper_bound(lba);
    if (run == runs.begin() || std::prev(run)->second <= lba) continue;
    const auto i = static_cast<std::size_t>(lba - at);
    const auto own = [&](const Bytes& from) { return ByteView(from).subspan(i * size, size); };
    if (i < r.delivered && fresh_[i] && std::equal(own(now).begin(), own(now).end(), own(then).begin())) {
      set_state(lba, lba + 1, SectorState::good);
      continue;
    }
    for (const Bytes* from : {&then, &now}) {
      if (from == &now && i >= r.delivered) continue;
      Reading reading;
      std::copy_n(own(*from).begin(), size, reading.bytes.begin());
      keep(lba, reading);
      ++bad_[lba].tries;
    }
  }
  return reached;
}

void Strategy::keep(Lba lba, const Reading& reading) {
  // Of many damaged sectors each keeps the latest two: none is left out.
  constexpr std::size_t kMostOfOne = 16, kLeastOfOne = 2, kMostOfAll = 16'384;
  Bad& bad = bad_[lba];
  const bool known =
      std::any_of(bad.readings.begin(), bad.readings.end(), [&](const Reading& r) { return r.bytes == reading.bytes; });
  if (known) return;
  const bool full = bad.readings.size() >= (kept_ < kMostOfAll ? kMostOfOne : kLeastOfOne);
  if (full) bad.readings.erase(bad.readings.begin() + 1);
  bad.readings.push_back(reading);
  kept_ += full ? 0 : 1;
}

/// One reading of one sector, stored if it is good. True if it was delivered.
bool Strategy::try_single(const Region& region, Lba lba) {
  Bytes sector(reader_.sector_bytes());
  Extras extras;
  const ReadResult r = read(region, lba, 1, sector, &extras);
  ++bad_[lba].tries;
  if (r.delivered == 0) {
    if (r.trouble == Trouble::out_of_range && lba + 1 >= region.end) stats_.ended_at = lba;
    map_.set(lba, lba + 1, r.trouble == Trouble::timeout ? SectorState::hang : SectorState::unreadable);
    if (r.trouble == Trouble::timeout) ++bad_[lba].hangs;
    return false;
  }
  if (options_.transform) options_.transform(lba, sector);
  store_.write_subchannel(lba, extras.subchannel);
  const bool unsure =
      region.kind == RegionKind::audio ||
      (region.kind == RegionKind::data && soundness(region, lba, cd::SectorView(sector)) != Soundness::proved);
  if (!unsure) {
    accept(region, lba, sector, SectorState::good);
    bad_.erase(lba);
    return true;
  }
  if (region.kind == RegionKind::audio) {
    if (!extras.misplaced) bad_[lba].votes.add(sector, extras.flagged.empty() ? kNoFlags : extras.flagged.front());
  } else {
    Reading reading;
    std::copy(sector.begin(), sector.end(), reading.bytes.begin());
    keep(lba, reading);
  }
  store_.write(lba, sector);
  map_.set(lba, lba + 1, region.kind == RegionKind::audio ? SectorState::audio_unsure : SectorState::bad_edc);
  return true;
}

/// From both ends inwards, until each end resists; then what is left, once.
void Strategy::hole(const Region& todo) {
  Lba first = todo.first, end = todo.end;
  for (unsigned failures = 0; first < end && failures < kJumpAfter && !given_up(); ++first) {
    failures = try_single(todo, first) ? 0 : failures + 1;
    maybe_save();
  }
  for (unsigned failures = 0; first < end && failures < kJumpAfter && !given_up(); --end) {
    failures = try_single(todo, end - 1) ? 0 : failures + 1;
    maybe_save();
  }
  for (; first < std::min(end, stats_.ended_at.value_or(end)) && !given_up(); ++first) {
    try_single(todo, first);
    maybe_save();
  }
}

bool Strategy::given_up() const {
  return retries_from_ms_ != 0 && reader_.clock_ms() - retries_from_ms_ >= options_.give_up_after_ms;
}

void Strategy::accept(const Region&, Lba lba, ByteView sector, SectorState state) {
  store_.write(lba, sector);
  map_.set(lba, lba + 1, state);
  suspects_.erase(lba);
}

/// Link blocks come in pairs; one that fails alone is damage like any other.
void Strategy::judge_links() {
  const auto is_link = [&](Lba lba) { return map_.at(lba) == SectorState::runout; };
  for (const Lba lba : options_.link_blocks)
    if (is_link(lba) && !is_link(lba - 1) && !is_link(lba + 1)) map_.set(lba, lba + 1, SectorState::unreadable);
}

void Strategy::run() {
  const std::uint64_t start = reader_.clock_ms();
  sampled_ms_ = start;
  // What an earlier run left behind comes back as work.
  for (const StateRange& range : map_.ranges())
    if (range.state != SectorState::untried && range.state != SectorState::outside && !is_settled(range.state))
      for (Lba lba = range.first; lba < range.end; ++lba) bad_[lba].tries = 1;
  reader_.set_slowness(0);
  for (const Region& todo : untried()) {
    first_pass(todo);
    if (stats_.ended_at) break;
  }
  if (stats_.ended_at) bad_.erase(bad_.lower_bound(*stats_.ended_at), bad_.end());
  retries_from_ms_ = std::max<std::uint64_t>(1, reader_.clock_ms());
  for (Region todo : untried()) {
    todo.end = std::min(todo.end, stats_.ended_at.value_or(todo.end));
    if (todo.first < todo.end) hole(todo);
  }
  for (unsigned round = 0; round < options_.passes && !bad_.empty() && !given_up(); ++round) retry_round(round);
  finish_bad();
  judge_links();
  save_();
  stats_.drive_ms = reader_.clock_ms() - start;
}

}  // namespace opifex::dump
