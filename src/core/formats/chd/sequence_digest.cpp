#include "sequence_digest.hpp"

namespace opifex::chd {

void SequenceDigest::start(const char* algorithm) {
  const std::lock_guard lock(mutex_);
  digest_.emplace(algorithm);
  value_.reset();
  waiting_.clear();
  next_ = waiting_bytes_ = 0;
  following_ = true;
}

void SequenceDigest::add(std::uint64_t number, ByteView bytes) {
  if (!following_) return;
  std::unique_lock lock(mutex_);
  if (number < next_ || !following_) return;
  if (number > next_ || hashing_) return wait(number, bytes);
  // One thread hashes, without the lock: the others leave their hunks and go on decoding.
  hashing_ = true;
  ++next_;
  lock.unlock();
  digest_->update(bytes);
  lock.lock();
  while (following_ && !waiting_.empty() && waiting_.begin()->first == next_) {
    const auto first = waiting_.extract(waiting_.begin());
    waiting_bytes_ -= first.mapped().size();
    ++next_;
    lock.unlock();
    digest_->update(first.mapped());
    lock.lock();
  }
  hashing_ = false;
}

void SequenceDigest::wait(std::uint64_t number, ByteView bytes) {
  constexpr std::uint64_t kMostWaiting = 24 << 20;  // more than the blocks of a job in flight
  if (waiting_.try_emplace(number, bytes.begin(), bytes.end()).second) waiting_bytes_ += bytes.size();
  if (waiting_bytes_ <= kMostWaiting) return;
  following_ = false;
  waiting_.clear();
}

std::optional<std::string> SequenceDigest::finish(std::uint64_t count) {
  const std::lock_guard lock(mutex_);
  if (value_ || !following_ || hashing_ || next_ != count) return value_;
  following_ = false;
  value_ = digest_->finish();
  return value_;
}

}  // namespace opifex::chd
