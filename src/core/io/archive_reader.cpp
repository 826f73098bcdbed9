#include "archive_reader.hpp"

#include <algorithm>
#include <cstdio>
#include <exception>

#include <archive.h>
#include <archive_entry.h>
#include <locale.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"

#include "packed_stream.hpp"

namespace opifex {

/// Without a UTF-8 locale the library has no names for what is not ASCII.
struct ArchiveReader::Utf8 {
  Utf8() : before(::uselocale(utf8())) {}
  ~Utf8() { ::uselocale(before); }
  Utf8(const Utf8&) = delete;
  Utf8& operator=(const Utf8&) = delete;
  static locale_t utf8() {
    static const locale_t locale = ::newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr);
    return locale ? locale : LC_GLOBAL_LOCALE;
  }
  locale_t before;
};

void ArchiveReader::Free::operator()(archive* a) const { ::archive_read_free(a); }

bool is_packed_file(const std::string& kind) {
  return kind == "gz" || kind == "xz" || kind == "zst" || kind == "bz2" || kind == "lz4";
}

/// The bytes of the archive as the library asks for them. A failure waits here until the library returns.
class ArchiveReader::Feed {
 public:
  Feed(const std::vector<std::filesystem::path>& volumes, const std::string& kind) {
    std::vector<SourcePtr> parts;
    for (const auto& v : volumes) parts.push_back(open_file(v));
    source_ = concat_source(std::move(parts), volumes.front().string());
    unpacked_ = unpack(source_, kind.starts_with("tar.") ? kind.substr(4) : kind);
  }

  bool packed() const { return unpacked_ != nullptr; }
  const std::exception_ptr& failure() const { return failure_; }

  la_ssize_t read(const void** out) {
    try {
      buffer_.resize(kBlock);
      if (unpacked_) {
        buffer_.resize(unpacked_->read(buffer_));
      } else {
        buffer_.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kBlock, source_->size() - at_)));
        source_->read_at(at_, buffer_);
      }
      at_ += buffer_.size();
      *out = buffer_.data();
      return static_cast<la_ssize_t>(buffer_.size());
    } catch (...) {
      failure_ = std::current_exception();
      return -1;
    }
  }
  la_int64_t seek(la_int64_t offset, int whence) {
    const auto size = static_cast<la_int64_t>(source_->size());
    const la_int64_t from = whence == SEEK_SET ? 0 : whence == SEEK_CUR ? static_cast<la_int64_t>(at_) : size;
    la_int64_t place = 0;
    if (__builtin_add_overflow(from, offset, &place) || place < 0 || place > size) return ARCHIVE_FATAL;
    at_ = static_cast<std::uint64_t>(place);
    return place;
  }
  la_int64_t skip(la_int64_t request) {
    const auto n = std::min<std::uint64_t>(static_cast<std::uint64_t>(request), source_->size() - at_);
    at_ += n;
    return static_cast<la_int64_t>(n);
  }
  /// Reads on to the end; true if the last block of 512 bytes held only zeros.
  bool ends_in_zeros() {
    if (!unpacked_) {
      constexpr std::uint64_t kEndBytes = 512;
      const std::uint64_t from = source_->size() > kEndBytes ? source_->size() - kEndBytes : 0;
      return all_zero(read_up_to(*source_, from, kEndBytes));
    }
    bool zeros = all_zero(tail());
    const void* more = nullptr;
    while (read(&more) > 0) zeros = all_zero(tail());
    if (failure_) std::rethrow_exception(failure_);
    return zeros;
  }

 private:
  static constexpr std::size_t kBlock = 256 << 10;
  ByteView tail() const { return ByteView(buffer_).last(std::min<std::size_t>(buffer_.size(), 512)); }

  SourcePtr source_;
  std::unique_ptr<PackedStream> unpacked_;  // null: the bytes as they are
  Bytes buffer_;
  std::uint64_t at_ = 0;
  std::exception_ptr failure_;
};

namespace {

template <typename Feed>
void set_callbacks(archive* a, Feed& feed) {
  ::archive_read_set_callback_data(a, &feed);
  ::archive_read_set_read_callback(
      a, [](archive*, void* data, const void** out) { return static_cast<Feed*>(data)->read(out); });
  if (feed.packed()) return;
  ::archive_read_set_seek_callback(a, [](archive*, void* data, la_int64_t offset, int whence) {
    return static_cast<Feed*>(data)->seek(offset, whence);
  });
  ::archive_read_set_skip_callback(
      a, [](archive*, void* data, la_int64_t request) { return static_cast<Feed*>(data)->skip(request); });
}

}  // namespace

ArchiveReader::ArchiveReader(const std::vector<std::filesystem::path>& volumes, const std::string& kind)
    : file_(volumes.front().string()),
      kind_(kind),
      feed_(std::make_unique<Feed>(volumes, kind)),
      archive_(::archive_read_new()) {
  const Utf8 locale;
  archive* const a = archive_.get();
  if (!a) throw std::bad_alloc();
  // Only what the contents said: registered all together, any file of zeros would be an empty archive.
  if (kind == "zip") ::archive_read_support_format_zip(a);
  if (kind == "7z") ::archive_read_support_format_7zip(a);
  if (kind == "rar4") ::archive_read_support_format_rar(a);
  if (kind == "rar5") ::archive_read_support_format_rar5(a);
  if (kind.starts_with("tar")) ::archive_read_support_format_tar(a);
  if (is_packed_file(kind)) ::archive_read_support_format_raw(a);
  if (kind.ends_with("xz")) ::archive_read_support_filter_xz(a);
  if (kind.ends_with("zst")) ::archive_read_support_filter_zstd(a);
  if (kind.ends_with("bz2")) ::archive_read_support_filter_bzip2(a);
  set_callbacks(a, *feed_);
  if (::archive_read_open1(a) != ARCHIVE_OK) fail();
  rethrow_device_error();
}

ArchiveReader::~ArchiveReader() = default;

void ArchiveReader::rethrow_device_error() const {
  if (feed_->failure()) std::rethrow_exception(feed_->failure());
}

archive_entry* ArchiveReader::next() {
  const Utf8 locale;
  archive_entry* entry = nullptr;
  const int result = ::archive_read_next_header(archive_.get(), &entry);
  rethrow_device_error();
  if (result == ARCHIVE_EOF) return nullptr;
  // A header that is passed over ("retry") is a member that would be missing.
  if (result < ARCHIVE_WARN) fail();
  const char* name = ::archive_entry_pathname(entry);
  entry_name_ = name ? name : "";
  return entry;
}

void ArchiveReader::finish() {
  if (!kind_.starts_with("tar")) return;
  entry_name_.clear();
  bool zeros = feed_->ends_in_zeros();
  if (kind_.size() > 3 && !feed_->packed()) zeros = true;  // the library's own unpackers end where the tar does
  if (!zeros)
    throw Error({.code = "archive_damaged",
                 .cause = Cause::archive,
                 .what = "the archive is cut off: the mark that ends it is missing",
                 .file = file_,
                 .hint = "copy or download the archive again"});
}

bool ArchiveReader::read(ByteView& block, std::uint64_t& offset) {
  const void* data = nullptr;
  std::size_t size = 0;
  la_int64_t at = 0;
  const int result = ::archive_read_data_block(archive_.get(), &data, &size, &at);
  rethrow_device_error();
  if (result == ARCHIVE_EOF) return false;
  // A wrong checksum comes as a warning together with the last block.
  if (result != ARCHIVE_OK) fail();
  block = {static_cast<const std::byte*>(data), size};
  offset = static_cast<std::uint64_t>(std::max<la_int64_t>(at, 0));
  return true;
}

void ArchiveReader::skip() {
  const int result = ::archive_read_data_skip(archive_.get());
  rethrow_device_error();
  if (result < ARCHIVE_WARN) fail();
}

void ArchiveReader::fail() const {
  rethrow_device_error();
  const char* text = ::archive_error_string(archive_.get());
  const std::string why = text ? text : "it ends too early";
  const std::string folded = fold_case(why);
  const bool secret = folded.find("encrypt") != std::string::npos || folded.find("passphrase") != std::string::npos;
  if (secret)
    throw Error({.code = "archive_encrypted",
                 .cause = Cause::archive,
                 .what = "the archive is encrypted",
                 .file = file_,
                 .hint = "unpack it with the program that made it, and give its contents"});
  throw Error({.code = "archive_damaged",
               .cause = Cause::archive,
               .what = entry_name_.empty() ? "the archive is damaged"
                                           : fmt::format("{} in the archive is damaged", printable(entry_name_)),
               .file = file_,
               .found = printable(why),
               .hint = "copy or download the archive again"});
}

}  // namespace opifex
