/// Hunks that stay decoded: those used last, up to a number of bytes.
#pragma once

#include <list>
#include <memory>
#include <mutex>
#include <unordered_map>

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

/// Safe from many threads.
class HunkCache {
 public:
  using HunkPtr = std::shared_ptr<const Bytes>;
  explicit HunkCache(std::size_t hunk_bytes);
  /// Null if it is not there.
  HunkPtr find(std::uint64_t number);
  bool contains(std::uint64_t number) const;
  void keep(std::uint64_t number, HunkPtr hunk);

 private:
  struct Kept {
    std::uint64_t number;
    HunkPtr bytes;
  };
  std::size_t room_;  // hunks
  mutable std::mutex mutex_;
  std::list<Kept> kept_;  // most recently used first
  std::unordered_map<std::uint64_t, std::list<Kept>::iterator> places_;
};

}  // namespace opifex::chd
