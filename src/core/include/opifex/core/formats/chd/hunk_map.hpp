/// The map of a CHD: how each hunk is stored. Hunks that follow each other in a plain manner (empty space, copies of
/// one hunk, a parent's units in order) are kept as one run, so that a few bytes that claim millions of them stay a few
/// bytes.
#pragma once

#include <algorithm>
#include <cstdint>
#include <deque>
#include <iterator>

namespace opifex::chd {

/// How a hunk is stored.
enum class HunkKind : std::uint8_t {
  codec0,
  codec1,
  codec2,
  codec3,       ///< compressed with the codec of that slot
  stored,       ///< as it is
  same,         ///< copy of an earlier hunk, which is no copy itself
  parent,       ///< bytes of the parent from a unit on
  parent_hunk,  ///< hunk of the parent by number (versions 3 and 4, uncompressed version 5)
  repeated,     ///< 8 bytes over and over (versions 3 and 4)
  absent        ///< zeros (uncompressed version 5)
};

struct Hunk {
  HunkKind kind = HunkKind::absent;
  bool crc_known = false;
  std::uint32_t length = 0;  ///< bytes in the file
  std::uint32_t crc = 0;     ///< CRC-16 of version 5, CRC-32 before
  std::uint64_t place = 0;   ///< offset in the file; for references the hunk or unit; for `repeated` the 8 bytes
};

class HunkMap {
 public:
  class Iterator;

  void push_back(const Hunk& hunk);
  std::uint32_t size() const { return size_; }
  bool empty() const { return size_ == 0; }
  /// `number` is below size(). Takes time as the logarithm of the runs.
  Hunk operator[](std::uint64_t number) const { return at(run_of(number), number); }
  /// Memory in use.
  std::uint64_t bytes() const { return runs_.size() * sizeof(Run); }
  /// What is alike in a row: `use(number, count, hunk, step)`, `hunk` being the first one, `number` its number.
  template <typename Use>
  void each_run(Use use) const {
    for (std::size_t i = 0; i < runs_.size(); ++i) {
      const std::uint32_t end = i + 1 < runs_.size() ? runs_[i + 1].first : size_;
      use(runs_[i].first, end - runs_[i].first, at(runs_[i], runs_[i].first), std::uint32_t{runs_[i].step});
    }
  }
  bool holds(HunkKind kind) const {
    return std::any_of(runs_.begin(), runs_.end(), [&](const Run& run) { return run.kind == kind; });
  }
  Iterator begin() const;
  Iterator end() const;

 private:
  struct Run {
    std::uint64_t place = 0;  // of the first one
    std::uint32_t first = 0, length = 0, crc = 0;
    std::uint32_t step : 27 = 0;  // what `place` grows by from hunk to hunk
    HunkKind kind : 4 = HunkKind::absent;
    bool crc_known : 1 = false;
  };
  static constexpr std::uint64_t kMostStep = (std::uint64_t{1} << 27) - 1;

  static Hunk at(const Run& run, std::uint64_t number) {
    return {run.kind, run.crc_known, run.length, run.crc, run.place + (number - run.first) * run.step};
  }
  const Run& run_of(std::uint64_t number) const;
  bool grow(const Hunk& hunk);

  std::deque<Run> runs_;
  std::uint32_t size_ = 0;
};

/// All hunks in order, each made when it is looked at.
class HunkMap::Iterator {
 public:
  using iterator_category = std::input_iterator_tag;
  using value_type = Hunk;
  using difference_type = std::ptrdiff_t;
  using pointer = const Hunk*;
  using reference = Hunk;

  Iterator(const HunkMap& map, std::deque<Run>::const_iterator run, std::uint32_t number)
      : map_(&map), run_(run), number_(number) {}
  Hunk operator*() const { return HunkMap::at(*run_, number_); }
  std::uint32_t number() const { return number_; }
  Iterator& operator++() {
    ++number_;
    if (const auto next = std::next(run_); next != map_->runs_.end() && next->first == number_) run_ = next;
    return *this;
  }
  friend bool operator==(const Iterator& a, const Iterator& b) { return a.number_ == b.number_; }

 private:
  const HunkMap* map_;
  std::deque<Run>::const_iterator run_;
  std::uint32_t number_;
};

inline HunkMap::Iterator HunkMap::begin() const { return {*this, runs_.begin(), 0}; }
inline HunkMap::Iterator HunkMap::end() const { return {*this, runs_.end(), size_}; }

}  // namespace opifex::chd
