/// The header of Xbox 360 content packages: installed games, downloads, saves. Big-endian. Signatures and licences are
/// not looked at.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/file_space.hpp"

namespace opifex {

using ContentHash = std::array<std::byte, 20>;

/// Where the header has its fields (src/core/volumes/stfs/README.md).
namespace content_at {
inline constexpr std::size_t kContentId = 0x32C, kHeaderBytes = 0x340, kType = 0x344, kMetadataVersion = 0x348,
                             kExecution = 0x354, kMediaId = 0x354, kVersion = 0x358, kBaseVersion = 0x35C,
                             kTitleId = 0x360, kDisc = 0x366, kDiscs = 0x367, kDataFiles = 0x39D, kDataBytes = 0x3A1,
                             kDescriptorType = 0x3A9, kNames = 0x411, kPublisher = 0x1611, kTitleName = 0x1691,
                             kPictureBytes = 0x1712;
}

struct ContentHeader {
  std::string magic;             ///< "LIVE", "PIRS", "CON "
  std::uint64_t size_bytes = 0;  ///< of the header, whole blocks of 4096
  std::uint32_t content_type = 0, media_id = 0, title_id = 0, version = 0, base_version = 0;
  unsigned disc = 0, discs = 0;  ///< from 1; 0: not said
  ContentHash content_id = {};   ///< SHA-1 of what follows it in the header
  bool content_id_fits = true;
  Bytes descriptor = {};              ///< of the volume: 36 bytes
  std::uint32_t descriptor_type = 0;  ///< 0 files in the package itself, 1 a disc in data files
  std::uint32_t data_files = 0;
  std::uint64_t data_bytes = 0;                ///< of all data files, hashes included
  std::map<unsigned, std::string> names = {};  ///< by language, 0 English
  std::string title_name, publisher;
  std::uint32_t picture_bytes[2] = {0, 0};

  /// The display name in English or the first language there is, else the title name; may be empty.
  std::string name() const;
  std::string type_name() const;  ///< "games on demand"; unknown ones in hexadecimal
};

inline constexpr std::uint32_t kContentInstalled = 0x4000, kContentOriginal = 0x5000, kContentOnDemand = 0x7000;
inline constexpr std::size_t kContentDescriptorAt = 0x379, kContentBlock = 0x1000;

/// One of the three magics. Nothing else is looked at.
bool is_content_package(const ByteSource& file);
/// The folder NAME.data beside a header, whatever the case of its name: the package is a disc in data files.
std::optional<std::filesystem::path> content_data_folder(const std::filesystem::path& header, const FileSpace& files);
/// Error (refused, "bad_package") if it is none, or is cut off.
ContentHeader read_content_header(const ByteSource& file);

}  // namespace opifex
