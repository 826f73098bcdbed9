/// The codecs of CHD, encoding (README, section 4).
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

/// Codecs that can be written: all that can be read but `huff`.
const std::vector<std::string>& encodable_codecs();

/// Library contexts of one thread.
class Encoder {
 public:
  Encoder();
  ~Encoder();
  /// The coded hunk; empty if it would not be shorter than the hunk itself.
  Bytes encode(const std::string& codec, ByteView hunk);

 private:
  /// At most `room` bytes are appended to `out`; false if that is not enough.
  bool deflate(ByteView data, std::size_t room, Bytes& out);
  bool lzma(ByteView data, std::size_t room, Bytes& out);
  bool flac(ByteView data, bool big_endian, std::uint32_t block, std::size_t room, Bytes& out);
  bool zstd(ByteView data, std::size_t room, Bytes& out);
  bool cd(const std::string& codec, ByteView hunk, Bytes& out);

  struct Libraries;
  std::unique_ptr<Libraries> libraries_;
};

}  // namespace opifex::chd
