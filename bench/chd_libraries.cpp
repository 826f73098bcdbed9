// What the compression libraries alone need for the hunks of a CHD: chd_libraries encode|decode THREADS FILE.chd
// A bare loop over hunks in memory; prints its seconds. The yardstick of the CHD rows in run.py.
#include <array>
#include <atomic>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <string>
#include <thread>
#include <vector>

#include <FLAC/stream_decoder.h>
#include <FLAC/stream_encoder.h>
#include <libdeflate.h>
#include <lzma.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"
#include "opifex/core/formats/chd/chd.hpp"

namespace opifex {
namespace {

constexpr std::size_t kFrame = 2448, kData = 2352;

/// A hunk as the codecs see it.
struct Job {
  Bytes data, cleared, subcode;  // plain hunks: all in `data`
  std::string codec;             // decoding
  Bytes coded;
};

std::array<lzma_filter, 2> lzma_chain(lzma_options_lzma& options, std::size_t bytes) {
  options = {};
  if (lzma_lzma_preset(&options, 9)) std::abort();
  options.dict_size = 32768;
  while (options.dict_size < bytes) options.dict_size *= 2;
  options.ext_flags = 0;
  lzma_set_ext_size(options, static_cast<std::uint64_t>(bytes));
  return {lzma_filter{LZMA_FILTER_LZMA1EXT, &options}, lzma_filter{LZMA_VLI_UNKNOWN, nullptr}};
}

FLAC__StreamEncoderWriteStatus keep(const FLAC__StreamEncoder*, const FLAC__byte bytes[], std::size_t n, std::uint32_t,
                                    std::uint32_t, void* out) {
  auto& all = *static_cast<Bytes*>(out);
  const auto view = std::as_bytes(std::span(bytes, n));
  all.insert(all.end(), view.begin(), view.end());
  return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
}

void flac(FLAC__StreamEncoder* e, ByteView data, bool big, Bytes& out) {
  std::vector<FLAC__int32> samples(data.size() / 2);
  for (std::size_t i = 0; i < samples.size(); ++i)
    samples[i] = static_cast<std::int16_t>(big ? load_be16(data, 2 * i) : load_le16(data, 2 * i));
  const auto n = static_cast<std::uint32_t>(data.size() / 4);
  std::uint32_t block = n;
  while (block > 2352) block /= 2;
  FLAC__stream_encoder_set_compression_level(e, 8);
  FLAC__stream_encoder_set_streamable_subset(e, false);
  FLAC__stream_encoder_set_blocksize(e, block);
  out.clear();
  FLAC__stream_encoder_init_stream(e, &keep, nullptr, nullptr, nullptr, &out);
  FLAC__stream_encoder_process_interleaved(e, samples.data(), n);
  FLAC__stream_encoder_finish(e);
}

/// Every codec for every hunk: what `best` promises.
void encode(const std::vector<Job>& jobs, const std::array<std::string, 4>& codecs, std::atomic<std::size_t>& next) {
  libdeflate_compressor* deflate = libdeflate_alloc_compressor(12);
  FLAC__StreamEncoder* sound = FLAC__stream_encoder_new();
  Bytes out, frames;
  for (std::size_t i = next++; i < jobs.size(); i = next++) {
    const Job& job = jobs[i];
    const Bytes& data = job.cleared.empty() ? job.data : job.cleared;
    out.resize(data.size());
    for (const std::string& codec : codecs) {
      if (codec == "cdlz" || codec == "lzma") {
        lzma_options_lzma options;
        const auto chain = lzma_chain(options, data.size());
        std::size_t n = 0;
        lzma_raw_buffer_encode(chain.data(), nullptr, raw_bytes(data), data.size(), raw_bytes_mut(out), &n, out.size());
      } else if (codec == "cdzl" || codec == "zlib") {
        libdeflate_deflate_compress(deflate, data.data(), data.size(), out.data(), out.size());
      } else if (codec == "cdfl") {
        flac(sound, job.data, true, frames);
      } else if (codec == "flac") {
        flac(sound, job.data, true, frames);
        flac(sound, job.data, false, frames);
      }
      if (!job.subcode.empty())
        libdeflate_deflate_compress(deflate, job.subcode.data(), job.subcode.size(), out.data(), out.size());
    }
  }
  libdeflate_free_compressor(deflate);
  FLAC__stream_encoder_delete(sound);
}

/// The stream header that CHD leaves out: fLaC, STREAMINFO with 2352 or fewer samples a block, 44 100 Hz, stereo, 16
/// bits.
constexpr std::array<unsigned char, 42> flac_head() {
  std::array<unsigned char, 42> head = {0x66, 0x4C, 0x61, 0x43, 0x80, 0, 0, 0x22, 0x09, 0x30, 0x09, 0x30};
  head[18] = 0x0A;
  head[19] = 0xC4;
  head[20] = 0x42;
  head[21] = 0xF0;
  return head;
}
constexpr auto kFlacHead = flac_head();

struct FlacRun {
  ByteView coded;
  std::span<std::byte> out;         // samples of 16 bits, left and right in turn
  std::size_t at = 0, samples = 0;  // `at` counts the header too
};
FLAC__StreamDecoderReadStatus feed(const FLAC__StreamDecoder*, FLAC__byte* to, std::size_t* n, void* data) {
  auto& in = *static_cast<FlacRun*>(data);
  const auto from = in.at < kFlacHead.size() ? std::as_bytes(std::span(kFlacHead)).subspan(in.at)
                                             : in.coded.subspan(in.at - kFlacHead.size());
  *n = std::min(*n, from.size());
  std::copy_n(raw_bytes(from), *n, to);
  in.at += *n;
  return *n == 0 ? FLAC__STREAM_DECODER_READ_STATUS_END_OF_STREAM : FLAC__STREAM_DECODER_READ_STATUS_CONTINUE;
}
FLAC__StreamDecoderTellStatus tell(const FLAC__StreamDecoder*, FLAC__uint64* position, void* data) {
  *position = static_cast<FlacRun*>(data)->at;
  return FLAC__STREAM_DECODER_TELL_STATUS_OK;
}
FLAC__StreamDecoderWriteStatus put(const FLAC__StreamDecoder*, const FLAC__Frame* frame,
                                   const FLAC__int32* const samples[], void* data) {
  auto& run = *static_cast<FlacRun*>(data);
  const std::size_t n = frame->header.blocksize;
  if ((run.samples + n) * 4 > run.out.size()) return FLAC__STREAM_DECODER_WRITE_STATUS_ABORT;
  for (std::size_t i = 0; i < n; ++i) {
    const auto left = static_cast<std::uint32_t>(samples[0][i]), right = static_cast<std::uint32_t>(samples[1][i]);
    store_le32(run.out, (run.samples + i) * 4, (left & 0xFFFF) | right << 16);
  }
  run.samples += n;
  return FLAC__STREAM_DECODER_WRITE_STATUS_CONTINUE;
}
void ignore(const FLAC__StreamDecoder*, FLAC__StreamDecoderErrorStatus, void*) {}

/// The libraries' contexts of one thread, kept from hunk to hunk.
class Libraries {
 public:
  Libraries() {
    FLAC__stream_decoder_init_stream(sound_, &feed, nullptr, &tell, nullptr, nullptr, &put, nullptr, &ignore, &run_);
  }
  Libraries(const Libraries&) = delete;
  ~Libraries() {
    libdeflate_free_decompressor(inflate_);
    FLAC__stream_decoder_delete(sound_);
    lzma_end(&lzma_);
  }
  void inflate(ByteView coded, std::span<std::byte> out) {
    std::size_t in = 0, n = 0;
    libdeflate_deflate_decompress_ex(inflate_, coded.data(), coded.size(), out.data(), out.size(), &in, &n);
  }
  void unlzma(ByteView coded, std::span<std::byte> out) {
    lzma_options_lzma options;
    const auto chain = lzma_chain(options, out.size());
    if (lzma_raw_decoder(&lzma_, chain.data()) != LZMA_OK) std::abort();
    lzma_.next_in = raw_bytes(coded);
    lzma_.avail_in = coded.size();
    lzma_.next_out = raw_bytes_mut(out);
    lzma_.avail_out = out.size();
    if (lzma_code(&lzma_, LZMA_FINISH) != LZMA_STREAM_END) std::abort();
  }
  /// The bytes of `coded` that were used.
  std::size_t unflac(ByteView coded, std::span<std::byte> out) {
    FLAC__stream_decoder_reset(sound_);
    run_ = {coded, out};
    FLAC__stream_decoder_process_until_end_of_metadata(sound_);
    for (std::size_t before = SIZE_MAX; run_.samples < out.size() / 4 && before != run_.samples;) {
      before = run_.samples;
      FLAC__stream_decoder_process_single(sound_);
    }
    FLAC__uint64 position = 0;
    if (!FLAC__stream_decoder_get_decode_position(sound_, &position)) std::abort();
    return static_cast<std::size_t>(position) - kFlacHead.size();
  }

 private:
  libdeflate_decompressor* inflate_ = libdeflate_alloc_decompressor();
  FLAC__StreamDecoder* sound_ = FLAC__stream_decoder_new();
  lzma_stream lzma_ = LZMA_STREAM_INIT;
  FlacRun run_;
};

void decode(const std::vector<Job>& jobs, std::size_t hunk_bytes, std::atomic<std::size_t>& next) {
  Libraries libraries;
  const std::size_t frames = hunk_bytes / kFrame;  // hunks of less than 64 KiB: the length has two bytes
  Bytes out(hunk_bytes);
  for (std::size_t i = next++; i < jobs.size(); i = next++) {
    const Job& job = jobs[i];
    const bool cd = job.codec.starts_with("cd");
    const std::size_t bytes = cd ? frames * kData : hunk_bytes;
    ByteView coded = job.coded;
    const auto data = std::span(out).first(bytes), subcode = std::span(out).subspan(bytes);
    if (job.codec == "cdfl" || job.codec == "flac") {
      coded = coded.subspan(cd ? 0 : 1);
      const std::size_t used = libraries.unflac(coded, data);
      if (cd) libraries.inflate(coded.subspan(used), subcode);
      continue;
    }
    if (cd) {
      const std::size_t flags = (frames + 7) / 8;
      const std::size_t length = load_be16(coded, flags);
      libraries.inflate(coded.subspan(flags + 2 + length), subcode);
      coded = coded.subspan(flags + 2, length);
    }
    if (job.codec == "cdlz" || job.codec == "lzma")
      libraries.unlzma(coded, data);
    else if (job.codec == "cdzl" || job.codec == "zlib")
      libraries.inflate(coded, data);
  }
}

std::vector<Job> jobs_to_encode(const chd::Chd& file) {
  const auto& h = file.header();
  const bool cd = h.unit_bytes == kFrame;
  std::vector<Job> jobs;
  Bytes hunk(h.hunk_bytes);
  for (std::uint64_t n = 0; n < h.hunk_count; ++n) {
    file.read_hunk(n, hunk);
    Job job;
    if (!cd) {
      job.data = hunk;
    } else {
      for (std::size_t at = 0; at < hunk.size(); at += kFrame) {
        const auto frame = ByteView(hunk).subspan(at, kFrame);
        job.data.insert(job.data.end(), frame.begin(), frame.begin() + kData);
        job.subcode.insert(job.subcode.end(), frame.begin() + kData, frame.end());
      }
      job.cleared = job.data;
      for (std::size_t at = 0; at < job.cleared.size(); at += kData) {
        const auto sector = std::span(job.cleared).subspan(at, kData);
        if (!cd::has_sync(cd::SectorView(sector))) continue;
        std::fill_n(sector.begin(), cd::kSyncBytes, std::byte{0});
        std::fill(sector.begin() + cd::kEccAt, sector.end(), std::byte{0});
      }
    }
    jobs.push_back(std::move(job));
  }
  return jobs;
}

std::vector<Job> jobs_to_decode(const chd::Chd& file, const ByteSource& bytes) {
  std::vector<Job> jobs;
  for (const chd::Hunk& h : file.hunks()) {  // copies of others cost the libraries nothing
    if (h.kind >= chd::HunkKind::stored) continue;
    Job job;
    job.codec = file.kind_name(h);
    job.coded.resize(h.length);
    bytes.read_at(h.place, job.coded);
    jobs.push_back(std::move(job));
  }
  return jobs;
}

}  // namespace
}  // namespace opifex

int main(int argc, char** argv) {
  using namespace opifex;
  if (argc != 4) return 2;
  const bool encoding = std::string(argv[1]) == "encode";
  const SourcePtr bytes = open_file(argv[3]);
  const auto file = chd::Chd::open(bytes, {});
  const std::vector<Job> jobs = encoding ? jobs_to_encode(*file) : jobs_to_decode(*file, *bytes);
  std::atomic<std::size_t> next{0};
  const auto start = std::chrono::steady_clock::now();
  {
    std::vector<std::jthread> threads;
    for (int t = 0; t < std::atoi(argv[2]); ++t)
      threads.emplace_back([&] {
        if (encoding)
          encode(jobs, file->header().codecs, next);
        else
          decode(jobs, file->header().hunk_bytes, next);
      });
  }
  const std::chrono::duration<double> seconds = std::chrono::steady_clock::now() - start;
  std::printf("%.4f\n", seconds.count());
}
