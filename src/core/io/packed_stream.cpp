#include "packed_stream.hpp"

#include <lz4frame.h>
#include <zlib.h>

namespace opifex {
namespace {

constexpr std::size_t kPiece = 256 << 10;

[[noreturn]] void damaged(const ByteSource& packed, std::uint64_t at, const std::string& found) {
  throw Error({.code = "archive_damaged",
               .cause = Cause::archive,
               .what = "the packed file is damaged",
               .file = packed.name(),
               .offset = at,
               .found = found,
               .hint = "copy or download it again"});
}

/// The packed bytes, a piece at a time.
class Feed {
 public:
  explicit Feed(SourcePtr source) : source_(std::move(source)) {}
  /// What is left of the piece; a new one if nothing is. Empty at the end of the file.
  ByteView bytes() {
    if (used_ == piece_.size()) {
      at_ += piece_.size();
      piece_ = read_up_to(*source_, at_, kPiece);
      used_ = 0;
    }
    return ByteView(piece_).subspan(used_);
  }
  void take(std::size_t n) { used_ += n; }
  std::uint64_t position() const { return at_ + used_; }
  const ByteSource& source() const { return *source_; }

 private:
  SourcePtr source_;
  Bytes piece_;
  std::uint64_t at_ = 0;  // of the piece
  std::size_t used_ = 0;
};

class Gzip final : public PackedStream {
 public:
  explicit Gzip(SourcePtr packed) : feed_(std::move(packed)) {
    constexpr int kGzipOnly = 16 + MAX_WBITS;
    if (::inflateInit2(&z_, kGzipOnly) != Z_OK) throw std::bad_alloc();
  }
  Gzip(const Gzip&) = delete;
  Gzip& operator=(const Gzip&) = delete;
  ~Gzip() override { ::inflateEnd(&z_); }

  std::size_t read(std::span<std::byte> out) override {
    std::size_t done = 0;
    while (done < out.size() && !ended_) {
      const ByteView in = feed_.bytes();
      if (in.empty()) damaged(feed_.source(), feed_.position(), "its end in the middle of the data");
      // zlib reads through a pointer that is not const by default.
      z_.next_in = const_cast<Bytef*>(raw_bytes(in));
      z_.avail_in = static_cast<uInt>(in.size());
      z_.next_out = raw_bytes_mut(out.subspan(done));
      z_.avail_out = static_cast<uInt>(out.size() - done);
      const int result = ::inflate(&z_, Z_NO_FLUSH);
      feed_.take(in.size() - z_.avail_in);
      done = out.size() - z_.avail_out;
      if (result == Z_STREAM_END)
        next_member();
      else if (result != Z_OK && result != Z_BUF_ERROR)
        damaged(feed_.source(), feed_.position(), z_.msg ? z_.msg : "no deflate data");
    }
    return done;
  }

 private:
  /// Several packed files one behind the other are one; zeros may fill the last block of a tape.
  void next_member() {
    constexpr std::byte kMagic{0x1F};
    for (ByteView in = feed_.bytes(); !in.empty(); in = feed_.bytes()) {
      if (in[0] == kMagic) {
        if (::inflateReset(&z_) != Z_OK) throw std::bad_alloc();
        return;
      }
      std::size_t zeros = 0;
      while (zeros < in.size() && in[zeros] == std::byte{0}) ++zeros;
      feed_.take(zeros);
      if (zeros < in.size() && in[zeros] != kMagic)
        damaged(feed_.source(), feed_.position(), "other data behind its end");
    }
    ended_ = true;
  }

  Feed feed_;
  z_stream z_ = {};
  bool ended_ = false;
};

class Lz4 final : public PackedStream {
 public:
  explicit Lz4(SourcePtr packed) : feed_(std::move(packed)) {
    if (LZ4F_isError(LZ4F_createDecompressionContext(&context_, LZ4F_VERSION)) != 0) throw std::bad_alloc();
  }
  Lz4(const Lz4&) = delete;
  Lz4& operator=(const Lz4&) = delete;
  ~Lz4() override { LZ4F_freeDecompressionContext(context_); }

  std::size_t read(std::span<std::byte> out) override {
    while (!ended_) {
      const ByteView in = feed_.bytes();
      if (in.empty()) {
        if (open_) damaged(feed_.source(), feed_.position(), "its end in the middle of the data");
        ended_ = true;
        break;
      }
      std::size_t made = out.size(), used = in.size();
      const std::size_t wants = LZ4F_decompress(context_, out.data(), &made, in.data(), &used, nullptr);
      if (LZ4F_isError(wants) != 0) damaged(feed_.source(), feed_.position(), LZ4F_getErrorName(wants));
      feed_.take(used);
      open_ = wants != 0;  // 0: a frame has ended, its checksum fits
      if (made > 0) return made;
    }
    return 0;
  }

 private:
  Feed feed_;
  LZ4F_dctx* context_ = nullptr;
  bool ended_ = false, open_ = false;
};

}  // namespace

std::unique_ptr<PackedStream> unpack(SourcePtr packed, const std::string& kind) {
  if (kind == "gz") return std::make_unique<Gzip>(std::move(packed));
  if (kind == "lz4") return std::make_unique<Lz4>(std::move(packed));
  return nullptr;
}

}  // namespace opifex
