/// Writing bit streams and the prefix code of a map (README, sections 2 and 3).
#pragma once

#include <algorithm>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

/// Most significant bit first; the last byte is filled up with zeros.
class BitWriter {
 public:
  /// The lowest `bits` (at most 64) of `value`.
  void put(std::uint64_t value, unsigned bits) {
    while (bits > 0) {
      if (free_ == 0) {
        bytes_.push_back(std::byte{0});
        free_ = 8;
      }
      const unsigned n = std::min(bits, free_);
      const auto part = static_cast<unsigned>(value >> (bits - n) & ((1u << n) - 1));
      bytes_.back() |= static_cast<std::byte>(part << (free_ - n));
      bits -= n;
      free_ -= n;
    }
  }
  const Bytes& bytes() const { return bytes_; }

 private:
  Bytes bytes_;
  unsigned free_ = 0;  // bits of the last byte
};

/// A prefix code for the given counts, no length above `most`.
struct CodeBook {
  std::vector<std::uint8_t> lengths;
  std::vector<std::uint32_t> codes;
};
CodeBook make_code(std::vector<std::uint64_t> counts, unsigned most);
/// The run-length form of the lengths in front of a map of 16 symbols.
void write_rle_tree(const CodeBook& code, BitWriter& out);

/// The form of 256 lengths in front of a `huff` hunk: coded with a small tree of their own.
void write_small_tree(const CodeBook& code, BitWriter& out);

/// Bits needed for the value; 0 for 0.
constexpr unsigned bits_for(std::uint64_t value) {
  unsigned n = 0;
  for (; value != 0; value >>= 1) ++n;
  return n;
}

}  // namespace opifex::chd
