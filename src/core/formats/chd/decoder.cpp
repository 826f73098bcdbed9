#include "decoder.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <utility>

#include <FLAC/stream_decoder.h>
#include <libdeflate.h>
#include <lzma.h>
#include <zstd.h>

#include "opifex/core/cd/parity.hpp"

#include "bits.hpp"

namespace opifex::chd {
namespace {

constexpr std::array<std::string_view, 9> kKnown = {"zlib", "lzma", "huff", "flac", "zstd",
                                                    "cdzl", "cdlz", "cdfl", "cdzs"};

/// What the FLAC callbacks share. Samples go to `out` in pieces of `piece` bytes with gaps between them.
struct FlacRun {
  ByteView coded;
  std::size_t at = 0;  // in coded
  std::span<std::byte> out = {};
  std::size_t piece = 0, gap = 0, wanted = 0, written = 0;  // bytes; the last two without the gaps
  bool big_endian = false, failed = false;
};

FLAC__StreamDecoderReadStatus flac_read(const FLAC__StreamDecoder*, FLAC__byte* buffer, std::size_t* bytes,
                                        void* data) {
  auto& run = *static_cast<FlacRun*>(data);
  const std::size_t n = std::min(*bytes, run.coded.size() - run.at);
  std::memcpy(buffer, run.coded.data() + run.at, n);
  run.at += n;
  *bytes = n;
  return n == 0 ? FLAC__STREAM_DECODER_READ_STATUS_END_OF_STREAM : FLAC__STREAM_DECODER_READ_STATUS_CONTINUE;
}

FLAC__StreamDecoderTellStatus flac_tell(const FLAC__StreamDecoder*, FLAC__uint64* position, void* data) {
  *position = static_cast<FlacRun*>(data)->at;
  return FLAC__STREAM_DECODER_TELL_STATUS_OK;
}

constexpr std::size_t kStereo = 4;  // bytes of a sample, both channels

/// Both channels of a sample as they stand in memory.
template <bool kBigEndian>
std::uint32_t packed(FLAC__int32 left, FLAC__int32 right) {
  const std::uint32_t both = static_cast<std::uint32_t>(right) << 16 | (static_cast<std::uint32_t>(left) & 0xFFFF);
  return boost::endian::native_to_little(kBigEndian ? (both & 0x00FF'00FF) << 8 | (both >> 8 & 0x00FF'00FF) : both);
}

/// A fixed number at once: the compiler makes vectors of it, which takes half the time.
template <bool kBigEndian>
void put_samples(std::span<const FLAC__int32> left, std::span<const FLAC__int32> right, std::byte* to) {
  std::array<std::uint32_t, 16> some{};
  std::size_t i = 0;
  for (; i + some.size() <= left.size(); i += some.size(), to += sizeof some) {
    for (std::size_t k = 0; k < some.size(); ++k) some[k] = packed<kBigEndian>(left[i + k], right[i + k]);
    std::memcpy(to, some.data(), sizeof some);
  }
  for (; i < left.size(); ++i, to += kStereo) {
    some[0] = packed<kBigEndian>(left[i], right[i]);
    std::memcpy(to, some.data(), kStereo);
  }
}

FLAC__StreamDecoderWriteStatus flac_write(const FLAC__StreamDecoder*, const FLAC__Frame* frame,
                                          const FLAC__int32* const samples[], void* data) {
  auto& run = *static_cast<FlacRun*>(data);
  const std::size_t count = frame->header.blocksize;
  const bool fits = frame->header.channels == 2 && frame->header.bits_per_sample == 16 &&
                    count <= (run.wanted - run.written) / kStereo;
  if (!fits) {
    run.failed = true;
    return FLAC__STREAM_DECODER_WRITE_STATUS_ABORT;
  }
  for (std::size_t done = 0; done < count;) {
    const std::size_t inside = run.written % run.piece;
    const std::size_t n = std::min(count - done, (run.piece - inside) / kStereo);
    const auto left = std::span(samples[0] + done, n), right = std::span(samples[1] + done, n);
    std::byte* const to = run.out.subspan(run.written / run.piece * (run.piece + run.gap) + inside, n * kStereo).data();
    if (run.big_endian)
      put_samples<true>(left, right, to);
    else
      put_samples<false>(left, right, to);
    done += n;
    run.written += n * kStereo;
  }
  return FLAC__STREAM_DECODER_WRITE_STATUS_CONTINUE;
}

void flac_error(const FLAC__StreamDecoder*, FLAC__StreamDecoderErrorStatus, void* data) {
  static_cast<FlacRun*>(data)->failed = true;
}

/// A stream header for frames that have none: RFC 9639, 8.2, 44 100 Hz, 16 bits, stereo.
std::array<std::byte, 42> flac_header(std::uint32_t block) {
  std::array<std::byte, 42> h{};
  constexpr std::array<int, 8> kStart = {0x66, 0x4C, 0x61, 0x43, 0x80, 0x00, 0x00, 0x22};
  constexpr std::array<int, 4> kFormat = {0x0A, 0xC4, 0x42, 0xF0};
  std::transform(kStart.begin(), kStart.end(), h.begin(), [](int b) { return static_cast<std::byte>(b); });
  for (const std::size_t at : {std::size_t{8}, std::size_t{10}}) {
    h[at] = static_cast<std::byte>(block >> 8 & 255);
    h[at + 1] = static_cast<std::byte>(block & 255);
  }
  std::transform(kFormat.begin(), kFormat.end(), h.begin() + 18, [](int b) { return static_cast<std::byte>(b); });
  return h;
}

}  // namespace

bool is_known_codec(const std::string& name) { return std::find(kKnown.begin(), kKnown.end(), name) != kKnown.end(); }
bool is_cd_codec(const std::string& name) { return name.starts_with("cd"); }

std::uint32_t flac_block(std::size_t bytes, std::uint32_t most) {
  std::size_t block = bytes / 4;
  while (block > most) block /= 2;
  return static_cast<std::uint32_t>(block);
}

/// Kept from hunk to hunk: what a library sets up once (memory, tables, looking at the processor) costs a fortieth of
/// the time of a disc of music if it is done again for every hunk.
struct Decoder::Libraries {
  struct Free {
    void operator()(libdeflate_decompressor* d) const { libdeflate_free_decompressor(d); }
    void operator()(FLAC__StreamDecoder* d) const { FLAC__stream_decoder_delete(d); }
    void operator()(ZSTD_DCtx* c) const { ZSTD_freeDCtx(c); }
  };
  std::unique_ptr<libdeflate_decompressor, Free> deflate{libdeflate_alloc_decompressor()};
  std::unique_ptr<FLAC__StreamDecoder, Free> flac{FLAC__stream_decoder_new()};
  std::unique_ptr<ZSTD_DCtx, Free> zstd{ZSTD_createDCtx()};
  lzma_stream lzma = LZMA_STREAM_INIT;
  FlacRun flac_run;              // of the hunk at hand: the callbacks know its address
  std::uint32_t flac_block = 0;  // that its stream header said; 0: no stream is open

  Libraries() = default;
  Libraries(const Libraries&) = delete;
  Libraries& operator=(const Libraries&) = delete;
  ~Libraries() { lzma_end(&lzma); }
  /// Ready for the first frame of `run`, whose blocks have `block` samples or fewer. Hunks have no stream header, and
  /// one is enough for all that are alike.
  bool begin_flac(const FlacRun& run, std::uint32_t block) {
    if (flac_block != block) {
      end_flac();
      const auto header = flac_header(block);
      flac_run = {.coded = header};
      const auto begun = FLAC__stream_decoder_init_stream(flac.get(), &flac_read, nullptr, &flac_tell, nullptr, nullptr,
                                                          &flac_write, nullptr, &flac_error, &flac_run);
      if (begun != FLAC__STREAM_DECODER_INIT_STATUS_OK ||
          !FLAC__stream_decoder_process_until_end_of_metadata(flac.get()))
        return false;
      flac_block = block;
    }
    flac_run = run;
    return FLAC__stream_decoder_flush(flac.get());
  }
  void end_flac() {
    FLAC__stream_decoder_finish(flac.get());
    flac_block = 0;
  }
};

Decoder::Decoder() : libraries_(std::make_unique<Libraries>()) {
  if (!libraries_->deflate || !libraries_->flac || !libraries_->zstd) throw std::bad_alloc();
}
Decoder::~Decoder() = default;

bool Decoder::inflate(ByteView coded, std::span<std::byte> out, std::size_t* used) {
  std::size_t in = 0, written = 0;
  const auto result = libdeflate_deflate_decompress_ex(libraries_->deflate.get(), coded.data(), coded.size(),
                                                       out.data(), out.size(), &in, &written);
  if (used) *used = in;
  return result == LIBDEFLATE_SUCCESS && written == out.size();
}

bool Decoder::unlzma(ByteView coded, std::span<std::byte> out) {
  lzma_options_lzma options{};
  if (lzma_lzma_preset(&options, 9)) return false;
  options.lc = 3;
  options.lp = 0;
  options.pb = 2;
  constexpr std::uint32_t kSmallest = 4096;
  options.dict_size = std::max(static_cast<std::uint32_t>(out.size()), kSmallest);
  options.ext_flags = 0;  // no end marker
  lzma_set_ext_size(options, static_cast<std::uint64_t>(out.size()));
  const std::array<lzma_filter, 2> filters = {lzma_filter{LZMA_FILTER_LZMA1EXT, &options},
                                              lzma_filter{LZMA_VLI_UNKNOWN, nullptr}};
  lzma_stream& stream = libraries_->lzma;
  if (lzma_raw_decoder(&stream, filters.data()) != LZMA_OK) return false;
  stream.next_in = raw_bytes(coded);
  stream.avail_in = coded.size();
  stream.next_out = raw_bytes_mut(out);
  stream.avail_out = out.size();
  return lzma_code(&stream, LZMA_FINISH) == LZMA_STREAM_END && stream.avail_out == 0 && stream.avail_in == 0;
}

bool Decoder::unhuff(ByteView coded, std::span<std::byte> out) {
  BitReader in(coded);
  const auto tree = read_small_tree(in);
  if (!tree) return false;
  for (std::byte& b : out) {
    const int symbol = tree->next(in);
    if (symbol < 0) return false;
    b = static_cast<std::byte>(symbol);
  }
  return !in.overran();
}

bool Decoder::unflac(ByteView coded, std::span<std::byte> out, const FlacLayout& layout, std::size_t* used) {
  constexpr std::uint32_t kSmallest = 16;  // RFC 9639, 9.1.1
  const std::size_t pieces = out.size() / (layout.piece + layout.gap), wanted = pieces * layout.piece;
  const std::uint32_t block = flac_block(wanted, layout.most);
  if (layout.piece % kStereo != 0 || block < kSmallest) return false;
  FLAC__StreamDecoder* const flac = libraries_->flac.get();
  bool good = libraries_->begin_flac({coded, 0, out, layout.piece, layout.gap, wanted, 0, layout.big_endian}, block);
  const FlacRun& run = libraries_->flac_run;
  while (good && run.written < wanted) {
    const std::size_t before = run.written;
    good = FLAC__stream_decoder_process_single(flac) && !run.failed && run.written > before;
  }
  FLAC__uint64 position = 0;
  if (good && used) {
    good = FLAC__stream_decoder_get_decode_position(flac, &position);
    *used = static_cast<std::size_t>(position);
  }
  good = good && !run.failed;
  if (!good) libraries_->end_flac();
  return good;
}

bool Decoder::unzstd(ByteView coded, std::span<std::byte> out, std::size_t* used) {
  const std::size_t frame = ZSTD_findFrameCompressedSize(coded.data(), coded.size());
  if (ZSTD_isError(frame) || frame > coded.size()) return false;
  if (used) *used = frame;
  const std::size_t written = ZSTD_decompressDCtx(libraries_->zstd.get(), out.data(), out.size(), coded.data(), frame);
  return !ZSTD_isError(written) && written == out.size();
}

bool Decoder::uncd_music(ByteView coded, std::span<std::byte> out) {
  std::size_t used = 0;
  const FlacLayout layout{kCdFlacMost, kFrameData, kFrameSubcode, true};
  return unflac(coded, out, layout, &used) && used <= coded.size() && unsubcode(coded.subspan(used), false, out);
}

bool Decoder::uncd_data(const std::string& codec, ByteView coded, std::span<std::byte> out,
                        std::span<std::byte> parity_made) {
  constexpr std::size_t kLongHunk = 65536;
  const std::size_t frames = out.size() / kFrameBytes, flags = (frames + 7) / 8,
                    size_bytes = out.size() >= kLongHunk ? 3 : 2;
  if (coded.size() < flags + size_bytes) return false;
  const ByteView bitmap = coded.first(flags), rest = coded.subspan(flags + size_bytes);
  std::size_t length = 0;
  for (const std::byte b : coded.subspan(flags, size_bytes)) length = length << 8 | std::to_integer<std::size_t>(b);
  if (length > rest.size()) return false;
  const ByteView base = rest.first(length);
  scratch_.resize(frames * kFrameData);
  const bool good = codec == "cdzl"   ? inflate(base, scratch_, nullptr)
                    : codec == "cdlz" ? unlzma(base, scratch_)
                                      : unzstd(base, scratch_, nullptr);
  if (!good || !unsubcode(rest.subspan(length), codec == "cdzs", out)) return false;
  for (std::size_t f = 0; f < frames; ++f) {
    const auto sector = cd::SectorSpan(out.subspan(f * kFrameBytes, kFrameData));
    std::copy_n(scratch_.begin() + static_cast<std::ptrdiff_t>(f * kFrameData), kFrameData, sector.begin());
    if ((bitmap[f / 8] & static_cast<std::byte>(1u << f % 8)) == std::byte{0}) continue;
    std::copy(cd::kSync.begin(), cd::kSync.end(), sector.begin());
    cd::compute_ecc(sector, sector[15] == std::byte{2} ? cd::EccHeader::zero : cd::EccHeader::counts);
    if (!parity_made.empty()) parity_made[f] = std::byte{1};
  }
  return true;
}

bool Decoder::unsubcode(ByteView coded, bool zstd_allowed, std::span<std::byte> out) {
  const std::size_t frames = out.size() / kFrameBytes;
  // Most discs have none: the same few bytes stand for the same zeros in hunk after hunk.
  const bool known = subcode_.size() == frames * kFrameSubcode && subcode_zstd_ == zstd_allowed &&
                     std::equal(coded.begin(), coded.end(), coded_subcode_.begin(), coded_subcode_.end());
  if (!known) {
    constexpr std::array<std::byte, 4> kZstdMagic = {std::byte{0x28}, std::byte{0xB5}, std::byte{0x2F},
                                                     std::byte{0xFD}};
    const bool zstd =
        zstd_allowed && coded.size() >= 4 && std::equal(kZstdMagic.begin(), kZstdMagic.end(), coded.begin());
    subcode_.resize(frames * kFrameSubcode);
    if (!(zstd ? unzstd(coded, subcode_, nullptr) : inflate(coded, subcode_, nullptr))) {
      subcode_.clear();
      return false;
    }
    coded_subcode_.assign(coded.begin(), coded.end());
    subcode_zstd_ = zstd_allowed;
  }
  for (std::size_t f = 0; f < frames; ++f)
    std::copy_n(subcode_.begin() + static_cast<std::ptrdiff_t>(f * kFrameSubcode), kFrameSubcode,
                out.subspan(f * kFrameBytes + kFrameData).begin());
  return true;
}

ByteView Decoder::read(const ByteSource& file, std::uint64_t offset, std::size_t bytes) {
  const std::uint64_t end = window_at_ + window_.size();
  if (offset >= window_at_ && offset + bytes <= end)
    return ByteView(window_).subspan(static_cast<std::size_t>(offset - window_at_), bytes);
  constexpr std::uint64_t kAhead = 64 << 10;
  const bool goes_on = offset >= window_at_ && offset <= end && !window_.empty();
  const std::uint64_t ahead = goes_on ? std::min(kAhead, file.size() - offset) : 0;
  window_at_ = offset;
  if (ahead > bytes) {
    try {
      window_.resize(static_cast<std::size_t>(ahead));
      file.read_at(offset, window_);
      return ByteView(window_).first(bytes);
    } catch (const Error&) {
      // What lies behind the hunk is none of its business: if the hunk itself cannot be read, that is told below.
    }
  }
  window_.resize(bytes);
  try {
    file.read_at(offset, window_);
  } catch (...) {
    window_.clear();
    throw;
  }
  return window_;
}

bool Decoder::decode(const std::string& codec, ByteView coded, std::span<std::byte> out,
                     std::span<std::byte> parity_made) {
  if (out.empty()) return false;
  if (codec == "zlib") return inflate(coded, out, nullptr);
  if (codec == "lzma") return unlzma(coded, out);
  if (codec == "huff") return unhuff(coded, out);
  if (codec == "zstd") return unzstd(coded, out, nullptr);
  if (is_cd_codec(codec)) {
    if (out.size() % kFrameBytes != 0) return false;
    return codec == "cdfl" ? uncd_music(coded, out) : uncd_data(codec, coded, out, parity_made);
  }
  if (codec != "flac" || coded.empty()) return false;
  const std::byte mark = coded[0];
  if (mark != std::byte{'L'} && mark != std::byte{'B'}) return false;
  return unflac(coded.subspan(1), out, {kFlacMost, out.size(), 0, mark == std::byte{'B'}}, nullptr);
}

}  // namespace opifex::chd
