/// What the tables of one image, list or archive may cost their reader, whatever they claim.
#pragma once

#include <cstdint>
#include <string>

#include "opifex/core/base/error.hpp"

namespace opifex {

class ReadBudget {
 public:
  static constexpr std::uint64_t kMostEntries = 1'000'000;
  static constexpr std::size_t kMostProblems =
      200;  ///< of one weight that are told of a file: the rest would be more of the same

  /// `size_bytes` is what there is to be read in `file`.
  ReadBudget(std::string file, std::uint64_t size_bytes)
      : file_(std::move(file)), left_(size_bytes > kLargest ? UINT64_MAX : kFixed + kEach * size_bytes) {}

  /// Error (refused, "too_many_entries") once the bytes are used up.
  void take(std::uint64_t bytes) {
    if (bytes > left_) refuse();
    left_ -= bytes;
  }
  /// One more entry of a table. Error as above.
  void entry() {
    if (entries_++ >= kMostEntries) refuse();
  }
  /// One more would be refused.
  bool is_full() const { return entries_ >= kMostEntries; }

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
  std::uint64_t left_, entries_ = 0;
};

}  // namespace opifex
