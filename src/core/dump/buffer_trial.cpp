// Whether the drive's buffer is as long as it is said to be: the clock tells.
#include <algorithm>

#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

constexpr auto kAhead = static_cast<Lba>(BufferModel::kReadAhead);
constexpr std::uint64_t kFromDisc = 6;  // ms: one turn of the fastest disc; a buffer answers in 1 to 3
constexpr std::uint64_t kMuchSooner = 4;

}  // namespace

/// The sectors that can be read, as a ring: behind the last comes the first one again.
class Strategy::Ring {
 public:
  explicit Ring(const std::vector<StateRange>& ranges) {
    for (const StateRange& r : ranges) {
      using enum SectorState;
      if (r.state == outside || r.state == unreadable || r.state == hang) continue;
      if (!pieces_.empty() && pieces_.back().second == r.first)
        pieces_.back().second = r.end;
      else
        pieces_.emplace_back(r.first, r.end);
      size_ += r.end - r.first;
    }
  }
  Lba size() const { return size_; }
  /// The pieces that make up `count` sectors from that place on; a place may lie in front of the ring or behind it.
  std::vector<std::pair<Lba, Lba>> part(Lba place, Lba count) const {
    std::vector<std::pair<Lba, Lba>> parts;
    Lba skip = ((place % size_) + size_) % size_;
    for (std::size_t i = 0; count > 0; i = (i + 1) % pieces_.size()) {
      const auto& [first, end] = pieces_[i];
      const Lba n = std::min(count, end - first - skip);
      if (n > 0) parts.emplace_back(first + skip, first + skip + n);
      count -= std::max(n, 0);
      skip = std::max(0, skip - (end - first));
    }
    return parts;
  }

 private:
  std::vector<std::pair<Lba, Lba>> pieces_ = {};
  Lba size_ = 0;
};

/// Drive time of reading one sector; nothing if it does not come.
std::optional<std::uint64_t> Strategy::time_of(Lba lba) {
  const std::uint64_t from = reader_.clock_ms();
  const bool came = reader_.skim(lba, 1) == 1;
  const std::uint64_t to = reader_.clock_ms();
  if (!came) {
    buffer_.suppose(lba, 1);
    return std::nullopt;
  }
  buffer_.take(lba, 1);
  return to - from;
}

/// So many sectors of the ring from that place on; false if not all of them came.
bool Strategy::read_over(const Ring& ring, Lba place, Lba count) {
  bool all_came = true;
  for (const auto& [first, end] : ring.part(place, count)) {
    context_.progress.check_stop();
    const auto n = static_cast<std::uint32_t>(end - first);
    const bool came = reader_.skim(first, n) == n;
    if (came)
      buffer_.take(first, n);
    else
      buffer_.suppose(first, n);
    all_came = all_came && came;
  }
  return all_came;
}

/// The sector at that place of the ring is read, `length` others, and the sector again. If it takes a seek both times,
/// the buffer holds no more than these others and what was read ahead behind each piece, wherever they came from. If it
/// comes at once the second time, or at once though at least as many others were read before, the buffer may hold more.
Strategy::Trial Strategy::try_buffer(const Ring& ring, Lba place, Lba length) {
  // All of a disc that is hardly larger than this is read in the same order over and over: then each sector is the one
  // that was read longest ago, and comes from the disc if any does.
  constexpr Lba kTrialLaps = 3;
  const Lba others = std::min(ring.size() - kAhead - 1, 2 * length), spare = others - length;
  const Lba apart = std::max(kAhead, (ring.size() - others) / 2);  // nor is the sector read ahead
  for (Lba laps = std::min(kTrialLaps, (length + spare - 1) / spare); laps > 0; --laps)
    read_over(ring, place - apart - others, others);
  const Lba first = ring.part(place, 1).front().first;
  const std::uint64_t disturbed = reader_.disturbances();
  const auto before = time_of(first);
  if (!before) return Trial::open;
  if (*before < kFromDisc) return Trial::quick;
  const bool all_came = read_over(ring, place + 1, length);
  const auto after = time_of(first);
  // What was read in several attempts took more room, and a drive that was reset has forgotten what its buffer held.
  if (!after || !all_came || reader_.disturbances() != disturbed) return Trial::open;
  if (*after * kMuchSooner < *before) return Trial::larger;
  return *after >= kFromDisc ? Trial::as_told : Trial::open;
}

/// Places all over the ring, those first behind which it has the fewest gaps.
std::vector<Lba> Strategy::places_for_trials(const Ring& ring, Lba length) {
  constexpr Lba kPlaces = 9, kStep = 4;  // one after the other lie far apart
  std::vector<Lba> places;
  for (Lba i = 0; i < kPlaces; ++i) places.push_back(ring.size() / kPlaces * (i * kStep % kPlaces));
  std::stable_sort(places.begin(), places.end(),
                   [&](Lba a, Lba b) { return ring.part(a, length).size() < ring.part(b, length).size(); });
  return places;
}

/// Holds the buffer's supposed length against the clock; if it turns out to be larger, twice that is supposed.
Strategy::Trial Strategy::try_length(const Ring& ring) {
  constexpr int kEnough = 2;  // a single one may have been slow, or quick, for another reason
  const Lba length = static_cast<Lba>(buffer_.length()) - kAhead;
  if (ring.size() < length + 2 * kAhead) return Trial::open;
  int as_told = 0, quick = 0;
  std::uint64_t read = 0;
  for (const Lba place : places_for_trials(ring, length)) {
    const Trial found = try_buffer(ring, place, length);
    if (found == Trial::larger || (found == Trial::quick && ++quick == kEnough)) return Trial::larger;
    if (found != Trial::as_told) continue;
    read = std::max<std::uint64_t>(read,
                                   static_cast<std::uint64_t>(length) + ring.part(place, length + 1).size() * kAhead);
    if (++as_told < kEnough) continue;
    buffer_.enlarge(std::max(buffer_.length(), read));
    return Trial::as_told;
  }
  return Trial::open;
}

/// Asked once. Where it cannot be shown how long the buffer is, no reading counts: the disc is hardly larger, or the
/// drive answers as soon from there as from its buffer (which may hold all of it).
bool Strategy::knows_buffer() {
  constexpr std::uint64_t kLargest = (std::uint64_t{64} << 20) / cd::kRawBytes;
  if (trusts_buffer_ || distrusts_buffer_) return trusts_buffer_;
  const Ring ring(ranges());
  // What this disc can push out again (`push_out_in_laps`), in front of a few sectors.
  const auto longest = static_cast<std::uint64_t>(std::max(0, ring.size() - kAhead - 20)) * 15 / 16;
  while (!trusts_buffer_ && !distrusts_buffer_) {
    const Trial found = try_length(ring);
    const std::uint64_t length = buffer_.length();
    trusts_buffer_ = found == Trial::as_told;
    distrusts_buffer_ = !trusts_buffer_ && (found == Trial::open || length > kLargest || length >= longest);
    if (found == Trial::larger) buffer_.enlarge(length < longest ? std::min(longest, 2 * length) : 2 * length);
  }
  return trusts_buffer_;
}

}  // namespace opifex::dump
