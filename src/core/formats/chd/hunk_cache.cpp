#include "hunk_cache.hpp"

#include <algorithm>

namespace opifex::chd {
namespace {

constexpr std::size_t kCacheBytes = 16 << 20, kFewest = 4;

}  // namespace

HunkCache::HunkCache(std::size_t hunk_bytes) : room_(std::max(kFewest, kCacheBytes / hunk_bytes)) {}

HunkCache::HunkPtr HunkCache::find(std::uint64_t number) {
  const std::lock_guard lock(mutex_);
  const auto at = places_.find(number);
  if (at == places_.end()) return nullptr;
  kept_.splice(kept_.begin(), kept_, at->second);
  return at->second->bytes;
}

bool HunkCache::contains(std::uint64_t number) const {
  const std::lock_guard lock(mutex_);
  return places_.contains(number);
}

void HunkCache::keep(std::uint64_t number, HunkPtr hunk) {
  const std::lock_guard lock(mutex_);
  if (places_.contains(number)) return;  // another thread was faster
  kept_.push_front({number, std::move(hunk)});
  places_[number] = kept_.begin();
  if (kept_.size() <= room_) return;
  places_.erase(kept_.back().number);
  kept_.pop_back();
}

}  // namespace opifex::chd
