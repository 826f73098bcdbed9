/// A small reader of ISO 9660 (ECMA-119): descriptors, directories by name, files whole.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "opifex/core/io/byte_source.hpp"

namespace opifex {

struct IsoFile {
  std::uint32_t lba = 0;
  std::uint32_t size_bytes = 0;
  bool is_folder = false;
};

class Iso9660 {
 public:
  /// Nothing if there is no primary volume descriptor 16 sectors behind `start`. `disc` is addressed by 2048 * LBA.
  static std::optional<Iso9660> open(SourcePtr disc, std::uint64_t start = 0);

  std::string system_id, volume_id, application_id;  ///< without padding
  std::uint32_t sector_count = 0;                    ///< volume space size
  bool xa = false;                                   ///< CD-ROM XA mark

  /// By path from the root, parts separated by `/` or `\`, without case, version (";1") ignored. Nothing if absent or
  /// if the directories are broken.
  std::optional<IsoFile> find(std::string_view path) const;
  /// At most `limit` bytes of a file; as much of it as the disc has.
  Bytes read(const IsoFile& file, std::size_t limit) const;

 private:
  std::optional<IsoFile> find_in(const IsoFile& folder, std::string_view name) const;

  SourcePtr disc_;
  IsoFile root_;
};

}  // namespace opifex
