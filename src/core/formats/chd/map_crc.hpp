/// The CRC over a map as it would be without compression: 12 bytes a hunk (README, section 2.2).
#pragma once

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/formats/chd/chd.hpp"

namespace opifex::chd {

class MapCrc {
 public:
  /// `code` is the hunk's type as maps write it.
  void add(int code, const Hunk& h) {
    const bool stored = h.kind <= HunkKind::stored;
    put(static_cast<std::uint64_t>(code), 1);
    put(stored ? h.length : 0, 3);
    put(h.place, 6);
    put(stored ? h.crc : 0, 2);
    if (used_ == buffer_.size()) flush();
  }
  std::uint16_t finish() {
    flush();
    return crc_;
  }

 private:
  void put(std::uint64_t v, std::size_t bytes) {
    Fields(buffer_).be(used_, v, bytes);
    used_ += bytes;
  }
  void flush() {
    crc_ = crc16(ByteView(buffer_).first(used_), crc_);
    used_ = 0;
  }

  std::array<std::byte, 12 * 1024> buffer_{};
  std::size_t used_ = 0;
  std::uint16_t crc_ = kCrcStart;
};

}  // namespace opifex::chd
