/// Writing bit streams and the prefix code of a map (README, sections 2 and 3).
#pragma once

#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

/// Most significant bit first.
class BitWriter {
 public:
  void put(std::uint64_t value, unsigned bits) {
    for (; bits > 0; --bits) {
      if (used_ % 8 == 0) bytes_.push_back(std::byte{0});
      bytes_.back() |= static_cast<std::byte>((value >> (bits - 1) & 1) << (7 - used_ % 8));
      ++used_;
    }
  }
  const Bytes& bytes() const { return bytes_; }

 private:
  Bytes bytes_;
  std::size_t used_ = 0;
};

/// A prefix code for the given counts, no length above `most`.
struct CodeBook {
  std::vector<std::uint8_t> lengths;
  std::vector<std::uint32_t> codes;
};
CodeBook make_code(std::vector<std::uint64_t> counts, unsigned most);
/// The run-length form of the lengths in front of a map of 16 symbols.
void write_rle_tree(const CodeBook& code, BitWriter& out);

/// Bits needed for the value; 0 for 0.
constexpr unsigned bits_for(std::uint64_t value) {
  unsigned n = 0;
  for (; value != 0; value >>= 1) ++n;
  return n;
}

}  // namespace opifex::chd
