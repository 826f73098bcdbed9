// Whether the drive's buffer is as long as it is said to be: the clock tells.
#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

constexpr auto kAhead = static_cast<Lba>(BufferModel::kReadAhead);
constexpr std::uint64_t kFromDisc = 10;  // ms: no head moves and finds its sector in less; a buffer answers in 1 to 5

}  // namespace

/// Drive time of reading one sector after a seek; nothing if it does not come.
std::optional<std::uint64_t> Strategy::time_of(Lba lba) {
  const std::uint64_t from = reader_.clock_ms();
  if (reader_.skim(lba, 1) != 1) return std::nullopt;
  buffer_.take(lba, 1);
  return reader_.clock_ms() - from;
}

/// First sectors of runs of that length without a gap, all over the disc.
std::vector<Lba> Strategy::runs_of(Lba length) const {
  std::vector<std::pair<Lba, Lba>> pieces;
  for (const Region& r : store_.regions()) {
    if (!pieces.empty() && pieces.back().second == r.first)
      pieces.back().second = r.end;
    else
      pieces.emplace_back(r.first, r.end);
  }
  std::vector<Lba> places;
  for (const auto& [first, end] : pieces) {
    const Lba room = end - first - length;
    if (room >= 0) places.insert(places.end(), {first + room, first + room / 2, first});
  }
  return places;
}

/// The first sector of a run of `length`, read before all of the others and after them: does it come at once? Nothing
/// is learned where all of them cannot come from the disc, nor of a drive that is as quick from there.
Strategy::Trial Strategy::try_buffer(Lba first, Lba length) {
  if (!buffer_.is_fresh(first, first + length)) read_through({{first - kAhead, first + length}});
  if (!buffer_.is_fresh(first, first + length)) return Trial::open;
  const std::uint64_t disturbed = reader_.disturbances();
  const auto from_disc = time_of(first);
  if (!from_disc || *from_disc < kFromDisc) return Trial::open;
  const auto others = static_cast<std::uint32_t>(length - 1);
  const bool all_came = reader_.skim(first + 1, others) == others;
  buffer_.take(first + 1, others);
  const auto again = time_of(first);
  if (!again || !all_came) return Trial::open;
  if (*again < kFromDisc && *again * 4 < *from_disc) return Trial::larger;
  // A drive that was reset has forgotten what its buffer held.
  return reader_.disturbances() == disturbed ? Trial::as_told : Trial::open;
}

/// Once, the clock is asked whether the buffer is no longer than it is said to be; if it is, it is supposed to be twice
/// as long, and so on. Where the clock tells nothing, what the drive says is believed, unless it was wrong before: then
/// no reading counts.
bool Strategy::knows_buffer() {
  constexpr std::size_t kTrials = 4;
  constexpr int kEnough = 2;  // a single one may have been slow for another reason
  int right = 0;
  bool was_wrong = false;
  for (std::size_t trial = 0; !trusts_buffer_ && !distrusts_buffer_; ++trial) {
    const auto length = static_cast<Lba>(buffer_.length()) - kAhead;
    const std::vector<Lba> places = runs_of(length);
    if (places.empty() || trial >= kTrials) {
      (was_wrong ? distrusts_buffer_ : trusts_buffer_) = true;
      break;
    }
    const Trial found = try_buffer(places[trial % places.size()], length);
    right += found == Trial::as_told ? 1 : 0;
    trusts_buffer_ = right >= kEnough;
    if (found != Trial::larger) continue;
    buffer_.enlarge(buffer_.length() * 2);
    was_wrong = true;
    trial = 0;
    right = 0;
  }
  return trusts_buffer_;
}

}  // namespace opifex::dump
