/// The codecs of CHD, encoding (README, section 4).
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex::chd {

/// Codecs that can be written: all that can be read.
const std::vector<std::string>& encodable_codecs();

/// Library contexts and buffers of one thread. A hunk is taken once and then coded with one codec after the other: what
/// the codecs of CDs share (sectors without parity, coded subcode) is made once.
class Encoder {
 public:
  explicit Encoder(Effort effort = Effort::best);
  ~Encoder();
  /// `hunk` must outlive the calls of code().
  void take(ByteView hunk);
  /// The hunk in at most `room` bytes; empty if the codec needs more. A small room ends a slow codec early.
  Bytes code(const std::string& codec, std::size_t room);
  /// Both in one; empty if the coded form would not be shorter than the hunk itself.
  Bytes encode(const std::string& codec, ByteView hunk);

  /// What a data codec of this kind gets to see: the hunk, or the sectors of a CD hunk with parity and sync cleared.
  ByteView seen_by(const std::string& codec);
  /// Bytes that a fast, weak compressor needs for `data`.
  std::size_t quick_size(ByteView data);

 private:
  /// At most `room` bytes are appended to `out`; false if that is not enough.
  bool deflate(ByteView data, std::size_t room, Bytes& out);
  bool lzma(ByteView data, std::size_t room, Bytes& out);
  bool huff(ByteView data, std::size_t room, Bytes& out) const;
  bool flac(ByteView data, bool big_endian, std::uint32_t block, std::size_t room, Bytes& out);
  bool flac_either(std::size_t room, Bytes& out);
  bool zstd(ByteView data, std::size_t room, Bytes& out);
  bool cd(const std::string& codec, std::size_t room, Bytes& out);
  void split_frames();
  bool put_subcode(bool as_zstd, std::size_t room, Bytes& out);

  struct Libraries;
  std::unique_ptr<Libraries> libraries_;
  struct Frames;
  std::unique_ptr<Frames> frames_;  // of the hunk taken
  ByteView hunk_;
};

}  // namespace opifex::chd
