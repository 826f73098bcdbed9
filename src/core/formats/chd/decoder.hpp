/// The codecs of CHD, decoding (README, section 4). Each fills exactly the hunk it is given and never writes outside.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "opifex/core/io/byte_source.hpp"

namespace opifex::chd {

/// True for codecs that can be decoded.
bool is_known_codec(const std::string& name);
/// True for those that take a hunk apart into frames of 2448 bytes.
bool is_cd_codec(const std::string& name);

/// Buffers and library contexts of one thread.
class Decoder {
 public:
  Decoder();
  ~Decoder();
  /// False if the coded bytes do not give exactly `out`. `parity_made` as at Chd::read_hunk().
  bool decode(const std::string& codec, ByteView coded, std::span<std::byte> out,
              std::span<std::byte> parity_made = {});

  /// The coded bytes of a hunk, good until the next call. Hunks that are wanted one behind the other are read some at
  /// once. Always of the same file.
  ByteView read(const ByteSource& file, std::uint64_t offset, std::size_t bytes);

 private:
  /// Where samples go: pieces with gaps between them. Blocks have `most` samples or fewer.
  struct FlacLayout {
    std::uint32_t most;
    std::size_t piece, gap;  // bytes
    bool big_endian;
  };
  bool inflate(ByteView coded, std::span<std::byte> out, std::size_t* used);
  bool unlzma(ByteView coded, std::span<std::byte> out);
  bool unhuff(ByteView coded, std::span<std::byte> out);
  bool unflac(ByteView coded, std::span<std::byte> out, const FlacLayout& layout, std::size_t* used);
  bool unzstd(ByteView coded, std::span<std::byte> out, std::size_t* used);
  bool uncd_music(ByteView coded, std::span<std::byte> out);
  bool uncd_data(const std::string& codec, ByteView coded, std::span<std::byte> out, std::span<std::byte> parity_made);
  /// The 96 bytes behind each frame's data, from what is coded behind a hunk's data.
  bool unsubcode(ByteView coded, bool zstd_allowed, std::span<std::byte> out);

  struct Libraries;
  std::unique_ptr<Libraries> libraries_;
  Bytes scratch_;
  Bytes window_;  // of the file, from window_at_ on
  std::uint64_t window_at_ = 0;
  Bytes coded_subcode_, subcode_;  // of the last hunk
  bool subcode_zstd_ = false;
};

/// Samples of a FLAC block for `bytes` of 16-bit stereo; at most `most`.
std::uint32_t flac_block(std::size_t bytes, std::uint32_t most);
inline constexpr std::uint32_t kFlacMost = 2048, kCdFlacMost = 2352;

inline constexpr std::size_t kFrameBytes = 2448, kFrameData = 2352, kFrameSubcode = 96;

}  // namespace opifex::chd
