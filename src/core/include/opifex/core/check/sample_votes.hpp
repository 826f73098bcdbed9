/// What several readings of one sector of music say of each of its samples. Votes are kept, not copies: the memory of a
/// sector does not grow with every reading that agrees.
#pragma once

#include <array>
#include <vector>

#include "opifex/core/check/combine.hpp"

namespace opifex {

class SampleVotes {
 public:
  static constexpr std::size_t kSamples = 588, kSampleBytes = 4;

  /// Counts a reading that surely came from the disc itself. A sample with a byte that the drive flagged speaks for its
  /// value only while no reading without a flag does.
  void add(ByteView sector, const std::vector<cd::Erasure>& flagged);

  /// True if each sample has the same value, without a flag, in `least` readings (in three, if any sample was wrong
  /// without a flag), and in two more than any other value.
  bool confirmed(unsigned least) const;
  /// The most frequent value of each sample; of equals the one that was there first.
  cd::Sector best() const;
  /// Bytes of the samples that are not confirmed.
  std::vector<cd::Erasure> open_bytes(unsigned least) const;
  unsigned readings() const { return readings_; }
  /// True if some sample has two values that were not flagged.
  bool has_unflagged_errors() const;

 private:
  using Sample = std::array<std::byte, kSampleBytes>;
  struct Value {
    Sample bytes{};
    std::uint8_t clean = 0, flagged = 0;
    bool better_than(const Value& o) const { return clean != o.clean ? clean > o.clean : flagged > o.flagged; }
  };
  struct Other {
    std::uint16_t sample;
    Value value;
  };
  Value* value_of(std::size_t sample, const Sample& bytes);
  std::span<const Other> others_of(std::size_t sample) const;
  bool is_confirmed(std::size_t sample, unsigned needed) const;
  Value leader(std::size_t sample) const;
  unsigned needed_for(unsigned least) const;

  std::vector<Value> first_ = {};   // of the first reading, one a sample
  std::vector<Other> others_ = {};  // other values, by sample
  unsigned readings_ = 0;
};

}  // namespace opifex
