/// What the drive's buffer may hold. A repeated reading proves something only if it cannot have come from there.
#pragma once

#include <vector>

#include "opifex/core/cd/address.hpp"

namespace opifex::dump {

/// The buffer keeps the sectors read last, in the order in which they were read from the disc. Time is counted in
/// sectors that surely came from the disc: one that was touched less than a buffer's length ago may be in there.
class BufferModel {
 public:
  /// Sectors a drive may read ahead unasked: more than any does.
  static constexpr std::uint32_t kReadAhead = 96;

  /// `sectors`: the buffer's length; 0: there is none.
  BufferModel(cd::Lba first, cd::Lba end, std::uint64_t sectors);

  std::uint64_t length() const { return length_; }
  /// It turned out to hold more.
  void enlarge(std::uint64_t sectors) { length_ = sectors; }
  /// Sectors that came from the disc so far.
  std::uint64_t clock() const { return clock_; }
  /// True if the sector must come from the disc when it is read now.
  bool is_fresh(cd::Lba lba) const;
  /// The same of all of [first, end), read from `first` on: what the drive may have read ahead counts, too.
  bool is_fresh(cd::Lba first, cd::Lba end) const;
  /// Clock of the last time it was touched; 0 if it never was.
  std::uint64_t touched(cd::Lba lba) const;
  /// These were delivered, one after the other: for each, whether it must have come from the disc. What the drive read
  /// ahead behind those before may be in the buffer, too.
  std::vector<bool> take(cd::Lba lba, std::uint32_t count);
  /// Nothing that was touched before is in there any more.
  void turn_over() { clock_ += length_; }
  /// These may have been read without our knowing.
  void suppose(cd::Lba lba, std::uint32_t count);

 private:
  std::size_t place(cd::Lba lba) const { return static_cast<std::size_t>(lba - first_); }
  bool covers(cd::Lba lba) const { return lba >= first_ && lba < end_; }

  cd::Lba first_, end_, head_ = -1;
  std::uint64_t length_, clock_ = 0;
  std::vector<std::uint32_t> touched_ = {};  // clock + 1 of the last time, by sector; 0: never
};

}  // namespace opifex::dump
