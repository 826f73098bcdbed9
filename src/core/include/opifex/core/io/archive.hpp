/// Archives in which dumps come: zip, 7z, RAR 4 and 5, tar, and single files packed with gzip, xz, zstd or bzip2. Sets
/// of several volumes open from any of them.
#pragma once

#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/io/file_space.hpp"

namespace opifex {

/// "zip", "7z", "rar4", "rar5", "tar", "gz", "xz", "zst", "bz2", "lz4"; empty: no archive. By content: an image that is
/// called .7z is none, and files of zeros are no empty tar.
std::string archive_kind(const ByteSource& source);

struct ArchiveMember {
  std::string name;  ///< as the archive has it, parts separated by '/'
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified = {};  ///< seconds since 1970
  bool folder = false;
  std::string refused = {};  ///< why it is not taken: a link, a name that leads elsewhere ...; empty: it is sound
};

class Archive {
 public:
  /// Lists the archive. Copies are made in `spool_folder` (empty: the system's folder for temporary files). Error:
  /// missing_part (names the file), archive_encrypted, archive_damaged, archive_empty, not_an_archive.
  static std::shared_ptr<const Archive> open(const std::filesystem::path& path,
                                             const std::filesystem::path& spool_folder = {});
  virtual ~Archive() = default;

  virtual const std::string& kind() const = 0;
  /// One packed file, without a directory: gz and its kin.
  bool is_stream() const {
    const std::string& k = kind();
    return k == "gz" || k == "xz" || k == "zst" || k == "bz2" || k == "lz4";
  }
  /// In the order of the archive.
  virtual const std::vector<ArchiveMember>& members() const = 0;
  /// The files it consists of, in order.
  virtual const std::vector<std::filesystem::path>& volumes() const = 0;
  /// The bytes of a member that is no folder and not refused. Read from the front once they come straight out of the
  /// archive; whoever jumps back often makes a copy in `spool_folder` (deleted when it is closed). Error on reading:
  /// archive_damaged, no_space.
  virtual SourcePtr open_member(std::size_t index) const = 0;
};
using ArchivePtr = std::shared_ptr<const Archive>;

/// The members as files: paths are the archive's own path and the name inside.
FileSpacePtr archive_files(ArchivePtr archive, const std::filesystem::path& root);

}  // namespace opifex
