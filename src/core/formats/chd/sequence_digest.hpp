/// The hash of hunks that many threads decode in nearly their order.
#pragma once

#include <atomic>
#include <map>
#include <mutex>
#include <optional>

#include "opifex/core/base/hash.hpp"

namespace opifex::chd {

class SequenceDigest {
 public:
  /// From the first hunk on.
  void start(const char* algorithm);
  /// Hunks that come before their turn wait; who jumps about is not followed any further. From many threads at once.
  void add(std::uint64_t number, ByteView bytes);
  /// Of the first `count` hunks, in hexadecimal, if all of them came by. May be asked again.
  std::optional<std::string> finish(std::uint64_t count);

 private:
  void wait(std::uint64_t number, ByteView bytes);

  std::atomic<bool> following_ = false;
  std::mutex mutex_;
  bool hashing_ = false;          // a thread is at it, without the lock
  std::optional<Digest> digest_;  // of that thread
  std::uint64_t next_ = 0, waiting_bytes_ = 0;
  std::map<std::uint64_t, Bytes> waiting_;  // by number
  std::optional<std::string> value_;
};

}  // namespace opifex::chd
