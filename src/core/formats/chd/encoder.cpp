#include "encoder.hpp"

#include <algorithm>
#include <optional>
#include <utility>

#include <FLAC/stream_encoder.h>
#include <libdeflate.h>
#include <lzma.h>
#include <zstd.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"

#include "bit_writer.hpp"
#include "decoder.hpp"

namespace opifex::chd {
namespace {

struct Levels {
  int deflate;
  unsigned lzma, flac;
  int zstd;
};
/// `normal` saves its time by leaving codecs out, not by coding worse.
constexpr Levels levels_of(Effort effort) { return effort == Effort::fast ? Levels{6, 1, 5, 6} : Levels{12, 9, 8, 19}; }
constexpr int kQuickLevel = 1;

/// The smallest of 2 << i, 3 << i that holds the hunk: what decoders in the field expect.
std::uint32_t lzma_dictionary(std::size_t bytes) {
  constexpr std::uint64_t kMost = 64 << 20;
  for (unsigned i = 11; i <= 30; ++i)
    for (const std::uint64_t size : {std::uint64_t{2} << i, std::uint64_t{3} << i})
      if (size >= bytes) return static_cast<std::uint32_t>(std::min(size, kMost));
  return static_cast<std::uint32_t>(kMost);
}

struct FlacOutput {
  Bytes& out;
  std::size_t most;
  bool full = false;
};

FLAC__StreamEncoderWriteStatus flac_write(const FLAC__StreamEncoder*, const FLAC__byte buffer[], std::size_t bytes,
                                          std::uint32_t samples, std::uint32_t, void* data) {
  auto& output = *static_cast<FlacOutput*>(data);
  if (samples == 0) return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;  // stream marker and metadata: CHD has none
  // The encoder goes on all the same: after an aborted stream the next one may come out with other bytes.
  output.full = output.full || output.out.size() + bytes > output.most;
  if (output.full) return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
  const auto view = std::as_bytes(std::span(buffer, bytes));
  output.out.insert(output.out.end(), view.begin(), view.end());
  return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
}

/// liblzma asks for the same tables again for each hunk: they are kept. Fresh ones would cost a page fault for every
/// 4 KiB of them, about a tenth of the time (measured with hunks of 19 584 bytes).
class LzmaMemory {
 public:
  LzmaMemory() = default;
  LzmaMemory(const LzmaMemory&) = delete;
  LzmaMemory& operator=(const LzmaMemory&) = delete;
  const lzma_allocator& allocator() const { return allocator_; }

 private:
  struct Block {
    std::unique_ptr<std::byte[]> bytes;
    std::size_t size = 0;
    bool used = false;
  };
  static void* take(void* self, std::size_t, std::size_t size) {
    auto& blocks = static_cast<LzmaMemory*>(self)->blocks_;
    for (Block& b : blocks)
      if (!b.used && b.size == size) {
        b.used = true;
        return b.bytes.get();
      }
    // Another size of hunk than before: what it used is not needed again.
    std::erase_if(blocks, [](const Block& b) { return !b.used && b.size > kSmall; });
    blocks.push_back({std::unique_ptr<std::byte[]>(new (std::nothrow) std::byte[size]), size, true});
    return blocks.back().bytes.get();
  }
  static void give(void* self, void* bytes) {
    for (Block& b : static_cast<LzmaMemory*>(self)->blocks_)
      if (b.bytes.get() == bytes) b.used = false;
  }
  static constexpr std::size_t kSmall = 4096;
  std::vector<Block> blocks_;
  lzma_allocator allocator_{&take, &give, this};
};

}  // namespace

const std::vector<std::string>& encodable_codecs() {
  static const std::vector<std::string> names = {"zlib", "lzma", "huff", "flac", "zstd",
                                                 "cdzl", "cdlz", "cdfl", "cdzs"};
  return names;
}

struct Encoder::Libraries {
  explicit Libraries(Levels l) : levels(l) {}
  struct Free {
    void operator()(libdeflate_compressor* c) const { libdeflate_free_compressor(c); }
    void operator()(FLAC__StreamEncoder* e) const { FLAC__stream_encoder_delete(e); }
    void operator()(ZSTD_CCtx* c) const { ZSTD_freeCCtx(c); }
  };
  Levels levels;
  std::unique_ptr<libdeflate_compressor, Free> deflate{libdeflate_alloc_compressor(levels.deflate)};
  std::unique_ptr<libdeflate_compressor, Free> quick{libdeflate_alloc_compressor(kQuickLevel)};
  std::unique_ptr<FLAC__StreamEncoder, Free> flac{FLAC__stream_encoder_new()};
  std::unique_ptr<ZSTD_CCtx, Free> zstd{ZSTD_createCCtx()};
  LzmaMemory lzma;
  std::vector<FLAC__int32> samples;
  Bytes quick_bytes;
};

/// A CD hunk taken apart.
struct Encoder::Frames {
  bool split = false;
  Bytes data, cleared;  // sectors as they are; without sync and parity that can be made again
  Bytes flags;          // a bit for each sector of `cleared` that was changed
  Bytes subcode;
  std::optional<Bytes> deflated_subcode, zstd_subcode;
};

Encoder::Encoder(Effort effort)
    : libraries_(std::make_unique<Libraries>(levels_of(effort))), frames_(std::make_unique<Frames>()) {
  if (!libraries_->deflate || !libraries_->quick || !libraries_->flac || !libraries_->zstd) throw std::bad_alloc();
}
Encoder::~Encoder() = default;

bool Encoder::deflate(ByteView data, std::size_t room, Bytes& out) {
  const std::size_t at = out.size();
  out.resize(at + room);
  const std::size_t n =
      libdeflate_deflate_compress(libraries_->deflate.get(), data.data(), data.size(), out.data() + at, room);
  out.resize(at + n);
  return n != 0;
}

bool Encoder::lzma(ByteView data, std::size_t room, Bytes& out) {
  lzma_options_lzma options{};
  if (lzma_lzma_preset(&options, libraries_->levels.lzma)) return false;
  options.lc = 3;
  options.lp = 0;
  options.pb = 2;
  options.dict_size = lzma_dictionary(data.size());
  options.ext_flags = 0;
  lzma_set_ext_size(options, static_cast<std::uint64_t>(data.size()));
  const std::array<lzma_filter, 2> filters = {lzma_filter{LZMA_FILTER_LZMA1EXT, &options},
                                              lzma_filter{LZMA_VLI_UNKNOWN, nullptr}};
  const std::size_t at = out.size();
  out.resize(at + room);
  std::size_t written = 0;
  const lzma_ret result =
      lzma_raw_buffer_encode(filters.data(), &libraries_->lzma.allocator(), raw_bytes(data), data.size(),
                             raw_bytes_mut(std::span(out).subspan(at)), &written, room);
  out.resize(at + (result == LZMA_OK ? written : 0));
  return result == LZMA_OK;
}

bool Encoder::flac(ByteView data, bool big_endian, std::uint32_t block, std::size_t room, Bytes& out) {
  constexpr std::uint32_t kSmallest = 16, kRate = 44100, kBits = 16;
  if (data.size() % 4 != 0 || block < kSmallest) return false;
  auto& samples = libraries_->samples;
  samples.resize(data.size() / 2);
  for (std::size_t i = 0; i < samples.size(); ++i) {
    const auto first = std::to_integer<unsigned>(data[2 * i]), second = std::to_integer<unsigned>(data[2 * i + 1]);
    const unsigned value = big_endian ? first << 8 | second : second << 8 | first;
    samples[i] = static_cast<std::int16_t>(value);
  }
  FlacOutput output{out, out.size() + room};
  FLAC__StreamEncoder* const e = libraries_->flac.get();
  const bool set = FLAC__stream_encoder_set_channels(e, 2) && FLAC__stream_encoder_set_bits_per_sample(e, kBits) &&
                   FLAC__stream_encoder_set_sample_rate(e, kRate) &&
                   FLAC__stream_encoder_set_compression_level(e, libraries_->levels.flac) &&
                   FLAC__stream_encoder_set_streamable_subset(e, false) &&
                   FLAC__stream_encoder_set_blocksize(e, block) &&
                   FLAC__stream_encoder_set_total_samples_estimate(e, data.size() / 4);
  bool good = set && FLAC__stream_encoder_init_stream(e, &flac_write, nullptr, nullptr, nullptr, &output) ==
                         FLAC__STREAM_ENCODER_INIT_STATUS_OK;
  good =
      good && FLAC__stream_encoder_process_interleaved(e, samples.data(), static_cast<std::uint32_t>(data.size() / 4));
  good = FLAC__stream_encoder_finish(e) && good;
  return good && !output.full;
}

bool Encoder::zstd(ByteView data, std::size_t room, Bytes& out) {
  const std::size_t at = out.size();
  out.resize(at + room);
  const std::size_t n = ZSTD_compressCCtx(libraries_->zstd.get(), out.data() + at, room, data.data(), data.size(),
                                          libraries_->levels.zstd);
  out.resize(at + (ZSTD_isError(n) ? 0 : n));
  return !ZSTD_isError(n);
}

bool Encoder::huff(ByteView data, std::size_t room, Bytes& out) const {
  constexpr unsigned kMostBits = 16;
  std::vector<std::uint64_t> counts(256, 0);
  for (const std::byte b : data) ++counts[std::to_integer<std::size_t>(b)];
  const CodeBook code = make_code(counts, kMostBits);
  std::uint64_t bits = 0;
  for (std::size_t s = 0; s < counts.size(); ++s) bits += counts[s] * code.lengths[s];
  if (bits / 8 > room) return false;
  BitWriter writer;
  write_small_tree(code, writer);
  for (const std::byte b : data) {
    const auto s = std::to_integer<std::size_t>(b);
    writer.put(code.codes[s], code.lengths[s]);
  }
  if (writer.bytes().size() > room) return false;
  out.insert(out.end(), writer.bytes().begin(), writer.bytes().end());
  return true;
}

/// Either byte order may be the right one.
bool Encoder::flac_either(std::size_t room, Bytes& out) {
  if (room < 2) return false;
  const std::uint32_t block = flac_block(hunk_.size(), kFlacMost);
  Bytes other = {std::byte{'B'}};
  out = {std::byte{'L'}};
  const bool little = flac(hunk_, false, block, room - 1, out);
  const std::size_t less = little ? out.size() - 2 : room - 1;
  const bool big = flac(hunk_, true, block, less, other);
  if (big) out = std::move(other);
  return little || big;
}

void Encoder::split_frames() {
  Frames& f = *frames_;
  if (std::exchange(f.split, true)) return;
  const std::size_t frames = hunk_.size() / kFrameBytes;
  f.data.resize(frames * kFrameData);
  f.subcode.resize(frames * kFrameSubcode);
  f.flags.assign((frames + 7) / 8, std::byte{0});
  for (std::size_t i = 0; i < frames; ++i) {
    const ByteView frame = hunk_.subspan(i * kFrameBytes, kFrameBytes);
    std::copy_n(frame.begin(), kFrameData, f.data.begin() + static_cast<std::ptrdiff_t>(i * kFrameData));
    std::copy_n(frame.begin() + static_cast<std::ptrdiff_t>(kFrameData), kFrameSubcode,
                f.subcode.begin() + static_cast<std::ptrdiff_t>(i * kFrameSubcode));
  }
  f.cleared = f.data;
  for (std::size_t i = 0; i < frames; ++i) {
    const auto sector = std::span(f.cleared).subspan(i * kFrameData, kFrameData);
    const auto view = cd::SectorView(sector);
    const auto header = sector[15] == std::byte{2} ? cd::EccHeader::zero : cd::EccHeader::counts;
    if (!cd::has_sync(view) || !cd::ecc_is_right(view, header)) continue;
    f.flags[i / 8] |= static_cast<std::byte>(1u << i % 8);
    std::fill_n(sector.begin(), cd::kSyncBytes, std::byte{0});
    std::fill(sector.begin() + static_cast<std::ptrdiff_t>(cd::kEccAt), sector.end(), std::byte{0});
  }
}

bool Encoder::put_subcode(bool as_zstd, std::size_t room, Bytes& out) {
  auto& coded = as_zstd ? frames_->zstd_subcode : frames_->deflated_subcode;
  if (!coded) {
    coded.emplace();
    const std::size_t most = hunk_.size();  // noise grows by a few bytes only
    if (!(as_zstd ? zstd(frames_->subcode, most, *coded) : deflate(frames_->subcode, most, *coded))) coded->clear();
  }
  if (coded->empty() || coded->size() > room) return false;
  out.insert(out.end(), coded->begin(), coded->end());
  return true;
}

bool Encoder::cd(const std::string& codec, std::size_t most, Bytes& out) {
  split_frames();
  const Frames& f = *frames_;
  const auto room = [&] { return most > out.size() ? most - out.size() : 0; };
  if (codec == "cdfl")
    return flac(f.data, true, flac_block(f.data.size(), kCdFlacMost), room(), out) && put_subcode(false, room(), out);
  constexpr std::size_t kLongHunk = 65536;
  const std::size_t size_bytes = hunk_.size() >= kLongHunk ? 3 : 2, head = f.flags.size() + size_bytes;
  out = f.flags;
  out.resize(head);
  const bool good = codec == "cdlz"   ? lzma(f.cleared, room(), out)
                    : codec == "cdzl" ? deflate(f.cleared, room(), out)
                                      : zstd(f.cleared, room(), out);
  if (!good) return false;
  const std::size_t length = out.size() - head;
  for (std::size_t i = 0; i < size_bytes; ++i)
    out[f.flags.size() + i] = static_cast<std::byte>(length >> 8 * (size_bytes - 1 - i) & 255);
  return put_subcode(codec == "cdzs", room(), out);
}

void Encoder::take(ByteView hunk) {
  hunk_ = hunk;
  frames_->split = false;
  frames_->deflated_subcode.reset();
  frames_->zstd_subcode.reset();
}

ByteView Encoder::seen_by(const std::string& codec) {
  if (!is_cd_codec(codec)) return hunk_;
  split_frames();
  return codec == "cdfl" ? frames_->data : frames_->cleared;
}

std::size_t Encoder::quick_size(ByteView data) {
  Bytes& bytes = libraries_->quick_bytes;
  bytes.resize(data.size());
  const std::size_t n =
      libdeflate_deflate_compress(libraries_->quick.get(), data.data(), data.size(), bytes.data(), bytes.size());
  return n == 0 ? data.size() : n;
}

Bytes Encoder::code(const std::string& codec, std::size_t room) {
  Bytes out;
  bool good = false;
  if (is_cd_codec(codec)) {
    good = cd(codec, room, out);
  } else if (codec == "zlib") {
    good = deflate(hunk_, room, out);
  } else if (codec == "lzma") {
    good = lzma(hunk_, room, out);
  } else if (codec == "huff") {
    good = huff(hunk_, room, out);
  } else if (codec == "zstd") {
    good = zstd(hunk_, room, out);
  } else if (codec == "flac") {
    good = flac_either(room, out);
  }
  if (!good || out.size() > room) out.clear();
  return out;
}

Bytes Encoder::encode(const std::string& codec, ByteView hunk) {
  take(hunk);
  return code(codec, hunk.size() - 1);
}

}  // namespace opifex::chd
