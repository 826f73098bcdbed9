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
  std::uint64_t bits(unsigned n) {
    std::uint64_t v = 0;
    for (; n > 0; --n) v = v << 1 | bit();
    return v;
  }
  /// The next `n` bits (at most 32) without consuming them.
  std::uint32_t peek(unsigned n) const {
    BitReader copy = *this;
    return static_cast<std::uint32_t>(copy.bits(n));
  }
  void skip(unsigned n) { at_ += n; }
  bool overran() const { return at_ > bytes_.size() * 8; }

 private:
  unsigned bit() {
    const std::size_t byte = at_ / 8;
    const unsigned b = byte < bytes_.size() ? std::to_integer<unsigned>(bytes_[byte]) >> (7 - at_ % 8) & 1 : 0;
    ++at_;
    return b;
  }
  ByteView bytes_;
  std::size_t at_ = 0;
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
