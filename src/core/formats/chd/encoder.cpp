#include "encoder.hpp"

#include <algorithm>

#include <FLAC/stream_encoder.h>
#include <libdeflate.h>
#include <lzma.h>
#include <zstd.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"

#include "decoder.hpp"

namespace opifex::chd {
namespace {

constexpr int kDeflateLevel = 9, kZstdLevel = 19;
constexpr unsigned kLzmaPreset = 9, kFlacLevel = 8;

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
  if (output.out.size() + bytes > output.most) {
    output.full = true;
    return FLAC__STREAM_ENCODER_WRITE_STATUS_FATAL_ERROR;
  }
  const auto view = std::as_bytes(std::span(buffer, bytes));
  output.out.insert(output.out.end(), view.begin(), view.end());
  return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
}

}  // namespace

const std::vector<std::string>& encodable_codecs() {
  static const std::vector<std::string> names = {"zlib", "lzma", "flac", "zstd", "cdzl", "cdlz", "cdfl", "cdzs"};
  return names;
}

struct Encoder::Libraries {
  struct Free {
    void operator()(libdeflate_compressor* c) const { libdeflate_free_compressor(c); }
    void operator()(FLAC__StreamEncoder* e) const { FLAC__stream_encoder_delete(e); }
    void operator()(ZSTD_CCtx* c) const { ZSTD_freeCCtx(c); }
  };
  std::unique_ptr<libdeflate_compressor, Free> deflate{libdeflate_alloc_compressor(kDeflateLevel)};
  std::unique_ptr<FLAC__StreamEncoder, Free> flac{FLAC__stream_encoder_new()};
  std::unique_ptr<ZSTD_CCtx, Free> zstd{ZSTD_createCCtx()};
  std::vector<FLAC__int32> samples;
  Bytes data, subcode;
};

Encoder::Encoder() : libraries_(std::make_unique<Libraries>()) {
  if (!libraries_->deflate || !libraries_->flac || !libraries_->zstd) throw std::bad_alloc();
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
  if (lzma_lzma_preset(&options, kLzmaPreset)) return false;
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
  const lzma_ret result = lzma_raw_buffer_encode(filters.data(), nullptr, raw_bytes(data), data.size(),
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
  const bool set =
      FLAC__stream_encoder_set_channels(e, 2) && FLAC__stream_encoder_set_bits_per_sample(e, kBits) &&
      FLAC__stream_encoder_set_sample_rate(e, kRate) && FLAC__stream_encoder_set_compression_level(e, kFlacLevel) &&
      FLAC__stream_encoder_set_streamable_subset(e, false) && FLAC__stream_encoder_set_blocksize(e, block) &&
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
  const std::size_t n =
      ZSTD_compressCCtx(libraries_->zstd.get(), out.data() + at, room, data.data(), data.size(), kZstdLevel);
  out.resize(at + (ZSTD_isError(n) ? 0 : n));
  return !ZSTD_isError(n);
}

bool Encoder::cd(const std::string& codec, ByteView hunk, Bytes& out) {
  const std::size_t frames = hunk.size() / kFrameBytes, most = hunk.size() - 1;
  Bytes &data = libraries_->data, &subcode = libraries_->subcode;
  data.resize(frames * kFrameData);
  subcode.resize(frames * kFrameSubcode);
  const bool sound = codec == "cdfl";
  constexpr std::size_t kLongHunk = 65536;
  const std::size_t flags = (frames + 7) / 8, size_bytes = hunk.size() >= kLongHunk ? 3 : 2,
                    head = sound ? 0 : flags + size_bytes;
  out.assign(head, std::byte{0});
  for (std::size_t f = 0; f < frames; ++f) {
    const ByteView frame = hunk.subspan(f * kFrameBytes, kFrameBytes);
    const auto sector = std::span(data).subspan(f * kFrameData, kFrameData);
    std::copy_n(frame.begin(), kFrameData, sector.begin());
    std::copy(frame.begin() + static_cast<std::ptrdiff_t>(kFrameData), frame.end(),
              subcode.begin() + static_cast<std::ptrdiff_t>(f * kFrameSubcode));
    if (sound) continue;
    // Sync and parity that can be made again are not stored.
    const auto view = cd::SectorView(sector);
    const auto header = sector[15] == std::byte{2} ? cd::EccHeader::zero : cd::EccHeader::counts;
    if (!cd::has_sync(view) || !cd::ecc_is_right(view, header)) continue;
    out[f / 8] |= static_cast<std::byte>(1u << f % 8);
    std::fill_n(sector.begin(), cd::kSyncBytes, std::byte{0});
    std::fill(sector.begin() + static_cast<std::ptrdiff_t>(cd::kEccAt), sector.end(), std::byte{0});
  }
  const auto room = [&] { return most > out.size() ? most - out.size() : 0; };
  if (sound)
    return flac(data, true, flac_block(data.size(), kCdFlacMost), room(), out) && deflate(subcode, room(), out);
  const bool good = codec == "cdlz"   ? lzma(data, room(), out)
                    : codec == "cdzl" ? deflate(data, room(), out)
                                      : zstd(data, room(), out);
  if (!good) return false;
  const std::size_t length = out.size() - head;
  for (std::size_t i = 0; i < size_bytes; ++i)
    out[flags + i] = static_cast<std::byte>(length >> 8 * (size_bytes - 1 - i) & 255);
  return codec == "cdzs" ? zstd(subcode, room(), out) : deflate(subcode, room(), out);
}

Bytes Encoder::encode(const std::string& codec, ByteView hunk) {
  Bytes out;
  const std::size_t most = hunk.size() - 1;
  bool good = false;
  if (is_cd_codec(codec)) {
    good = cd(codec, hunk, out);
  } else if (codec == "zlib") {
    good = deflate(hunk, most, out);
  } else if (codec == "lzma") {
    good = lzma(hunk, most, out);
  } else if (codec == "zstd") {
    good = zstd(hunk, most, out);
  } else if (codec == "flac") {
    // Either byte order may be the right one.
    Bytes other = {std::byte{'B'}};
    out = {std::byte{'L'}};
    good = flac(hunk, false, flac_block(hunk.size(), kFlacMost), most - 1, out);
    const bool second = flac(hunk, true, flac_block(hunk.size(), kFlacMost), most - 1, other);
    if (second && (!good || other.size() < out.size())) out = std::move(other);
    good = good || second;
  }
  if (!good || out.size() > most) out.clear();
  return out;
}

}  // namespace opifex::chd
