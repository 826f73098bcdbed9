/// Bit streams and canonical prefix codes of CHD (README, sections 2 and 3).
#pragma once

#include <array>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

/// Most significant bit first. Bits behind the end read as zero and are counted, so that no loop needs a check a bit.
class BitReader {
 public:
  explicit BitReader(ByteView bytes) : bytes_(bytes) {}
  /// The next `n` bits, at most 64.
  std::uint64_t bits(unsigned n) {
    constexpr unsigned kHalf = 32;
    if (n > kHalf) {
      const std::uint64_t high = bits(n - kHalf);
      return high << kHalf | bits(kHalf);
    }
    const std::uint32_t v = peek(n);
    skip(n);
    return v;
  }
  /// The next `n` bits (at most 32) without consuming them.
  std::uint32_t peek(unsigned n) {
    if (n == 0) return 0;
    while (held_ < n) load();
    return static_cast<std::uint32_t>(window_ >> (held_ - n) & ((std::uint64_t{1} << n) - 1));
  }
  void skip(unsigned n) {
    while (held_ < n) load();
    held_ -= n;
    used_ += n;
  }
  bool overran() const { return used_ > bytes_.size() * 8; }

 private:
  void load() {
    window_ = window_ << 8 | (at_ < bytes_.size() ? std::to_integer<std::uint64_t>(bytes_[at_]) : 0);
    ++at_;
    held_ += 8;
  }
  ByteView bytes_;
  std::uint64_t window_ = 0;  // the lowest held_ bits are still to be given out
  unsigned held_ = 0;
  std::size_t at_ = 0;    // bytes taken into the window
  std::size_t used_ = 0;  // bits given out
};

/// Codes are handed out from the longest length down, from zero: the opposite of deflate.
class PrefixCode {
 public:
  /// Nothing if the lengths make no code (at most `max_bits` each).
  static std::optional<PrefixCode> make(const std::vector<std::uint8_t>& lengths, unsigned max_bits);
  /// Symbol, or -1 for an undefined code.
  int next(BitReader& in) const {
    const Entry e = table_[in.peek(max_bits_)];
    in.skip(e.length);
    return e.length == 0 ? -1 : e.symbol;
  }

 private:
  struct Entry {
    std::int16_t symbol = -1;
    std::uint8_t length = 0;
  };
  unsigned max_bits_ = 1;
  std::vector<Entry> table_;  // by the next max_bits_ bits
};

/// The run-length coded tree in front of a map.
std::optional<PrefixCode> read_rle_tree(BitReader& in, std::size_t symbols, unsigned max_bits);
/// The tree of 256 symbols in front of a `huff` hunk, lengths coded with a small tree.
std::optional<PrefixCode> read_small_tree(BitReader& in);

}  // namespace opifex::chd
