#include "archive_reader.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <locale.h>

#include "opifex/core/base/text.hpp"

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

ArchiveReader::ArchiveReader(const std::vector<std::filesystem::path>& volumes, const std::string& kind)
    : file_(volumes.front().string()), archive_(::archive_read_new()) {
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
  if (kind.starts_with("tar") || is_packed_file(kind)) {
    ::archive_read_support_filter_gzip(a);
    ::archive_read_support_filter_xz(a);
    ::archive_read_support_filter_zstd(a);
    ::archive_read_support_filter_bzip2(a);
    ::archive_read_support_filter_lz4(a);
  }
  std::vector<std::string> names;
  std::vector<const char*> pointers;
  for (const auto& v : volumes) names.push_back(v.string());
  for (const std::string& n : names) pointers.push_back(n.c_str());
  pointers.push_back(nullptr);
  constexpr std::size_t kBlock = 256 << 10;
  if (::archive_read_open_filenames(a, pointers.data(), kBlock) != ARCHIVE_OK) fail();
}

ArchiveReader::~ArchiveReader() = default;

archive_entry* ArchiveReader::next() {
  const Utf8 locale;
  archive_entry* entry = nullptr;
  for (int tries = 0; tries < 10; ++tries) {
    const int result = ::archive_read_next_header(archive_.get(), &entry);
    if (result == ARCHIVE_RETRY) continue;
    if (result == ARCHIVE_EOF) return nullptr;
    if (result < ARCHIVE_WARN) fail();
    const char* name = ::archive_entry_pathname(entry);
    entry_name_ = name ? name : "";
    return entry;
  }
  fail();
}

bool ArchiveReader::read(ByteView& block, std::uint64_t& offset) {
  const void* data = nullptr;
  std::size_t size = 0;
  la_int64_t at = 0;
  const int result = ::archive_read_data_block(archive_.get(), &data, &size, &at);
  if (result == ARCHIVE_EOF) return false;
  // A wrong checksum comes as a warning together with the last block.
  if (result != ARCHIVE_OK) fail();
  block = {static_cast<const std::byte*>(data), size};
  offset = static_cast<std::uint64_t>(std::max<la_int64_t>(at, 0));
  return true;
}

void ArchiveReader::skip() {
  if (::archive_read_data_skip(archive_.get()) < ARCHIVE_WARN) fail();
}

void ArchiveReader::fail() const {
  const char* text = ::archive_error_string(archive_.get());
  const std::string why = text ? text : "it ends too early";
  const std::string folded = fold_case(why);
  const bool secret = folded.find("encrypt") != std::string::npos || folded.find("passphrase") != std::string::npos;
  if (secret)
    throw Error({.code = "archive_encrypted",
                 .what = "the archive is encrypted",
                 .file = file_,
                 .hint = "unpack it with the program that made it, and give its contents"});
  throw Error({.code = "archive_damaged",
               .what = entry_name_.empty() ? "the archive is damaged"
                                           : fmt::format("{} in the archive is damaged", printable(entry_name_)),
               .file = file_,
               .found = printable(why),
               .hint = "copy or download the archive again"});
}

}  // namespace opifex
