/// Where each distinct hunk of a file being written lies: 32 bytes a hunk, a third of what a tree of them takes.
#pragma once

#include <algorithm>
#include <cstring>
#include <deque>
#include <limits>
#include <vector>

#include "opifex/core/formats/chd/chd.hpp"

namespace opifex::chd {

class StoredHunks {
 public:
  /// The number of the hunk with this hash; that is `number` itself if it is the first one.
  std::uint32_t find_or_add(const Sha1& sha1, std::uint32_t number) {
    if (2 * (hunks_.size() + 1) > slots_.size()) grow();
    std::uint32_t& slot = slots_[place_of(sha1)];
    if (slot != kFree) return hunks_[slot].number;
    slot = static_cast<std::uint32_t>(hunks_.size());
    hunks_.push_back({sha1, number});
    return number;
  }

 private:
  static constexpr std::uint32_t kFree = std::numeric_limits<std::uint32_t>::max();
  struct Stored {
    Sha1 sha1;
    std::uint32_t number;
  };

  /// Its slot, or the free one it would get. The hash is spread evenly already.
  std::size_t place_of(const Sha1& sha1) const {
    std::size_t at = 0;
    std::memcpy(&at, sha1.data(), sizeof at);
    for (at &= slots_.size() - 1; slots_[at] != kFree && hunks_[slots_[at]].sha1 != sha1;)
      at = (at + 1) & (slots_.size() - 1);
    return at;
  }
  void grow() {
    constexpr std::size_t kFirst = 1024;
    slots_.assign(std::max(kFirst, 2 * slots_.size()), kFree);
    for (std::size_t i = 0; i < hunks_.size(); ++i) slots_[place_of(hunks_[i].sha1)] = static_cast<std::uint32_t>(i);
  }

  std::deque<Stored> hunks_;
  std::vector<std::uint32_t> slots_;  // a power of two of them, half of them free at least
};

}  // namespace opifex::chd
