#include "opifex/core/dump/buffer_model.hpp"

#include <algorithm>

namespace opifex::dump {

using cd::Lba;

BufferModel::BufferModel(Lba first, Lba end, std::uint64_t sectors) : first_(first), end_(end), length_(sectors) {
  if (length_ > 0) touched_.resize(place(end));
}

bool BufferModel::is_fresh(Lba lba) const {
  if (length_ == 0 || !covers(lba)) return true;
  const std::uint64_t at = touched_[place(lba)];
  return at == 0 || clock_ - (at - 1) >= length_;
}

bool BufferModel::is_fresh(Lba first, Lba end) const {
  if (length_ == 0) return true;
  const bool ahead = first != head_ && head_ >= 0 && first < head_ + static_cast<Lba>(kReadAhead) && end > head_;
  for (Lba lba = first; lba < end && !ahead; ++lba)
    if (!is_fresh(lba)) return false;
  return !ahead;
}

std::uint64_t BufferModel::touched(Lba lba) const { return length_ == 0 || !covers(lba) ? 0 : touched_[place(lba)]; }

std::vector<bool> BufferModel::take(Lba lba, std::uint32_t count) {
  std::vector<bool> fresh(count, true);
  if (length_ == 0) return fresh;
  if (lba != head_ && head_ >= 0) suppose(head_, kReadAhead);
  for (Lba at = lba; at < lba + static_cast<Lba>(count); ++at) {
    if (!covers(at)) continue;
    const bool from_disc = is_fresh(at);
    fresh[static_cast<std::size_t>(at - lba)] = from_disc;
    if (from_disc) ++clock_;
    touched_[place(at)] = static_cast<std::uint32_t>(clock_ + 1);
  }
  head_ = lba + static_cast<Lba>(count);
  return fresh;
}

void BufferModel::suppose(Lba lba, std::uint32_t count) {
  if (length_ == 0) return;
  for (Lba at = std::max(lba, first_); at < std::min(lba + static_cast<Lba>(count), end_); ++at)
    touched_[place(at)] = static_cast<std::uint32_t>(clock_ + 1);
}

}  // namespace opifex::dump
