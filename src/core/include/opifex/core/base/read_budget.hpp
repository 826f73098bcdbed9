/// What the tables of one image, list or archive may cost their reader, whatever they claim.
#pragma once

#include <algorithm>
#include <cstdint>
#include <string>

#include "opifex/core/base/error.hpp"

namespace opifex {

class ReadBudget {
 public:
  static constexpr std::uint64_t kMostEntries = 1'000'000;
  static constexpr std::size_t kMostProblems =
      200;  ///< of one weight that are told of a file: the rest would be more of the same

  /// Where a table is known to be small.
  struct Limits {
    std::uint64_t entries = kMostEntries, bytes = UINT64_MAX;
  };

  /// `size_bytes` is what there is to be read in `file`.
  ReadBudget(std::string file, std::uint64_t size_bytes) : ReadBudget(std::move(file), size_bytes, {}) {}
  ReadBudget(std::string file, std::uint64_t size_bytes, const Limits& limits)
      : file_(std::move(file)),
        left_(std::min(limits.bytes, size_bytes > kLargest ? UINT64_MAX : kFixed + kEach * size_bytes)),
        entries_left_(limits.entries) {}

  /// Error (refused, "too_many_entries") once the bytes are used up.
  void take(std::uint64_t bytes) {
    if (bytes > left_) refuse();
    left_ -= bytes;
  }
  /// One more entry of a table. Error as above.
  void entry() {
    if (!try_entry(0)) refuse();
  }
  /// One more entry with its bytes; false, and nothing taken, where that is too much: for readers with words of their
  /// own for it.
  bool try_entry(std::uint64_t bytes) {
    if (is_full() || bytes > left_) return false;
    --entries_left_;
    left_ -= bytes;
    return true;
  }
  /// One more would be refused.
  bool is_full() const { return entries_left_ == 0; }

 private:
  static constexpr std::uint64_t kFixed = 40 << 20, kEach = 5, kLargest = UINT64_MAX / 8;

  [[noreturn]] void refuse() const {
    throw Error({.code = "too_many_entries",
                 .what = "its tables list more than an image of this size can hold",
                 .file = file_,
                 .expected = "entries and names that do not overlap",
                 .hint = "the tables are broken, or made to harm: nothing of it is read"});
  }

  std::string file_;
  std::uint64_t left_, entries_left_;
};

}  // namespace opifex
