/// One pass over an archive through libarchive: entries in order, their bytes block by block.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"

struct archive;
struct archive_entry;

namespace opifex {

class ArchiveReader {
 public:
  /// `kind` as archive_kind() says. Error: archive_damaged, archive_encrypted.
  ArchiveReader(const std::vector<std::filesystem::path>& volumes, const std::string& kind);
  ~ArchiveReader();
  ArchiveReader(const ArchiveReader&) = delete;
  ArchiveReader& operator=(const ArchiveReader&) = delete;

  /// The next entry; null at the end.
  archive_entry* next();
  /// The next bytes of the entry, valid until the next call, at `offset` of it (before it are zeros); false at its end.
  bool read(ByteView& block, std::uint64_t& offset);
  void skip();
  /// Behind the last entry: what follows it up to the end of a packed stream, whose checksum stands there. Error
  /// (archive_damaged) if that does not fit, or if the mark that ends a tar is missing.
  void finish();

 private:
  class Feed;
  [[noreturn]] void fail() const;
  /// A device that failed while the library was reading is no end of the archive, whatever the library makes of it.
  void rethrow_device_error() const;
  struct Free {
    void operator()(archive* a) const;
  };
  struct Utf8;  // names are converted by the locale of the thread
  std::string file_, kind_, entry_name_;
  std::unique_ptr<Feed> feed_;  // outlives the archive
  std::unique_ptr<archive, Free> archive_;
};

/// "gz", "xz", "zst", "bz2" and "lz4" hold one file without a listing.
bool is_packed_file(const std::string& kind);

}  // namespace opifex
