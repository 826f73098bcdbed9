// The drive's buffer, and the disc that may have been changed: what must be so before a reading counts.
#include <algorithm>

#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

constexpr auto kReadAhead = static_cast<Lba>(BufferModel::kReadAhead);
constexpr std::uint64_t kMostLaps = 16;  // round the disc, until its buffer is pushed out

/// The parts of [from, to) that lie in none of the holes.
std::vector<std::pair<Lba, Lba>> outside_of(std::vector<std::pair<Lba, Lba>> holes, Lba from, Lba to) {
  std::sort(holes.begin(), holes.end());
  std::vector<std::pair<Lba, Lba>> parts;
  for (const auto& [first, end] : holes) {
    if (from < std::min(first, to)) parts.emplace_back(from, std::min(first, to));
    from = std::max(from, end);
  }
  if (from < to) parts.emplace_back(from, to);
  return parts;
}

}  // namespace

/// Sectors outside [first, end), all of them distinct.
std::uint64_t Strategy::others_bytes(Lba first, Lba end) const {
  std::uint64_t sectors = 0;
  for (const Region& r : store_.regions()) {
    const Lba inside = std::max(0, std::min(end, r.end) - std::max(first, r.first));
    sectors += static_cast<std::uint64_t>(r.end - r.first - inside);
  }
  return sectors * reader_.sector_bytes();
}

/// How many sectors of music are read in one go: `wanted`, or so few that enough is left of the disc to push them out.
Lba Strategy::most_together(std::uint64_t wanted) const {
  constexpr std::int64_t kSmallest = 16;
  const auto length = static_cast<std::int64_t>(buffer_.length());
  const std::int64_t spare = static_cast<std::int64_t>(others_bytes(0, 0) / reader_.sector_bytes()) - length;
  const std::int64_t in_few_laps = spare - kReadAhead - length / (static_cast<std::int64_t>(kMostLaps) - 1) - 1;
  const std::int64_t left = std::min(spare / 2, in_few_laps);
  return static_cast<Lba>(std::max(kSmallest, std::min(static_cast<std::int64_t>(wanted), left)));
}

/// Pieces of the disc outside of the holes: those that came before the others, and of these what was touched longest
/// ago first. Read in this order, each surely comes from the disc if any does.
std::vector<StateRange> Strategy::elsewhere(const Holes& holes) const {
  constexpr Lba kPiece = 128;  // more than a drive reads ahead
  struct Piece {
    bool came;
    std::uint64_t touched;
    StateRange range;
  };
  std::vector<Piece> pieces;
  for (const StateRange& range : ranges()) {
    if (range.state == SectorState::outside) continue;
    const bool came = is_settled(range.state) && !is_lost(range.state) && range.state != SectorState::runout;
    for (const auto& [from, to] : outside_of(holes, range.first, range.end))
      for (Lba at = from; at < to; at += kPiece)
        pieces.push_back({came, buffer_.touched(at), {at, std::min(to, at + kPiece), range.state}});
  }
  std::stable_sort(pieces.begin(), pieces.end(),
                   [](const Piece& a, const Piece& b) { return a.came != b.came ? a.came : a.touched < b.touched; });
  std::vector<StateRange> list;
  for (const Piece& p : pieces) list.push_back(p.range);
  return list;
}

/// Blocks prove themselves: to make another reading likely is enough.
void Strategy::skim_blocks(Lba first, Lba end) {
  for (Lba lba = first; lba < end && reader_.buffer_bytes() == 0; ++lba) reader_.forget(lba);
  const std::uint64_t wanted = reader_.buffer_bytes() / reader_.sector_bytes();
  StateRange longest{};
  for (const StateRange& range : ranges())
    if (range.state == SectorState::good && range.end - range.first > longest.end - longest.first) longest = range;
  const auto n = static_cast<std::uint32_t>(
      std::min<std::uint64_t>(wanted, static_cast<std::uint64_t>(longest.end - longest.first)));
  // From the end that is farther away.
  const bool front = first - longest.first > longest.end - first;
  if (n > 0) reader_.skim(front ? longest.first : longest.end - static_cast<Lba>(n), n);
}

bool Strategy::is_fresh(Lba first, Lba end) {
  return buffer_.length() > 0 && knows_buffer() && buffer_.is_fresh(first, end);
}

/// Has the drive read from the disc as much as its buffer holds, none of it in [first, end). False if the disc has not
/// that much, or does not give it.
bool Strategy::push_out(Lba first, Lba end) {
  if (buffer_.length() == 0) {
    skim_blocks(first, end);
    return true;
  }
  return knows_buffer() && push_out_once({{first - kReadAhead, end}});  // nor may it be read ahead again
}

/// The same outside of the holes.
bool Strategy::push_out_once(const Holes& holes) { return read_through(holes) || push_out_in_laps(holes, kMostLaps); }

/// For data that prove themselves: to make another reading likely is enough.
void Strategy::make_another_likely(Lba lba) {
  if (buffer_.length() == 0)
    skim_blocks(lba, lba + 1);
  else if (const Holes holes = {{lba - kReadAhead, lba + 1}}; !buffer_.is_fresh(lba, lba + 1) && !read_through(holes))
    push_out_in_laps(holes, 1);
}

/// Once through what lies outside of the holes, until a buffer's length came from the disc. False if it did not.
bool Strategy::read_through(const Holes& holes) {
  const std::uint64_t wanted = buffer_.clock() + buffer_.length();
  for (const StateRange& range : elsewhere(holes)) {
    if (buffer_.clock() >= wanted) break;
    context_.progress.check_stop();
    if (!buffer_.is_fresh(range.end - 1)) continue;
    const auto n = static_cast<std::uint32_t>(range.end - range.first);
    if (reader_.skim(range.first, n) == n)
      buffer_.take(range.first, n);
    else
      buffer_.suppose(range.first, n);
  }
  return buffer_.clock() >= wanted;
}

/// On a disc hardly larger than the buffer much of what is read for this may be in there itself. But never all of it:
/// each lap brings at least so many sectors from the disc as it is longer than the buffer.
bool Strategy::push_out_in_laps(const Holes& holes, std::uint64_t most_laps) {
  std::uint64_t laps = 1, length = 0;
  for (std::uint64_t lap = 0; lap < laps; ++lap) {
    std::uint64_t came = 0;
    for (const StateRange& range : elsewhere(holes)) {
      context_.progress.check_stop();
      if (range.state == SectorState::unreadable || range.state == SectorState::hang) continue;
      const auto n = static_cast<std::uint32_t>(range.end - range.first);
      if (reader_.skim(range.first, n) != n) {
        buffer_.suppose(range.first, n);
        continue;
      }
      buffer_.take(range.first, n);
      came += n;
    }
    length = lap == 0 ? came : std::min(length, came);
    if (length <= buffer_.length()) return false;
    laps = buffer_.length() / (length - buffer_.length()) + 1;
    if (laps > most_laps) return false;
  }
  buffer_.turn_over();
  for (const StateRange& range : elsewhere(holes))
    buffer_.suppose(range.first, static_cast<std::uint32_t>(range.end - range.first));
  return true;
}

/// All of [first, end) comes from the disc when it is read now. False if that cannot be had.
bool Strategy::make_fresh(Lba first, Lba end) { return make_fresh(first, end, end); }

/// The same, and whatever has to be read for it lies behind `apart` or in front of `first`.
bool Strategy::make_fresh(Lba first, Lba end, Lba apart) { return is_fresh(first, end) || push_out(first, apart); }

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
      buffer_.take(witness->lba, r.delivered);
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
  const auto came = [](const StateRange& r) {
    return r.state != SectorState::untried && r.state != SectorState::outside && r.state != SectorState::unreadable;
  };
  const std::vector<StateRange> known = ranges();
  if (any || (all.empty() && std::none_of(known.begin(), known.end(), came))) return;
  throw Error({.fault = Fault::device,
               .code = "medium_unknown",
               .what =
                   "the drive lost the disc for a moment, and nothing known of it can be read again to tell whether "
                   "it is the same",
               .hint = "run the command again: the dump goes on where it stopped"});
}

}  // namespace opifex::dump
