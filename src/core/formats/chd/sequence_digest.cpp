#include "sequence_digest.hpp"

namespace opifex::chd {

void SequenceDigest::start() {
  const std::lock_guard lock(mutex_);
  digest_.emplace("sha1");
  waiting_.clear();
  next_ = waiting_bytes_ = 0;
  following_ = true;
}

void SequenceDigest::take(ByteView bytes) {
  digest_->update(bytes);
  ++next_;
}

void SequenceDigest::add(std::uint64_t number, ByteView bytes) {
  if (!following_) return;
  constexpr std::uint64_t kMostWaiting = 24 << 20;  // more than the blocks of a job in flight
  const std::lock_guard lock(mutex_);
  if (number < next_ || !following_) return;
  if (number > next_) {
    if (waiting_.try_emplace(number, bytes.begin(), bytes.end()).second) waiting_bytes_ += bytes.size();
    if (waiting_bytes_ <= kMostWaiting) return;
    following_ = false;
    waiting_.clear();
    return;
  }
  take(bytes);
  while (!waiting_.empty() && waiting_.begin()->first == next_) {
    take(waiting_.begin()->second);
    waiting_bytes_ -= waiting_.begin()->second.size();
    waiting_.erase(waiting_.begin());
  }
}

std::optional<std::string> SequenceDigest::finish(std::uint64_t count) {
  const std::lock_guard lock(mutex_);
  if (!following_ || next_ != count) return std::nullopt;
  following_ = false;
  return digest_->finish();
}

}  // namespace opifex::chd
