/// Making an ISO 9660 image of a folder (src/core/volumes/README.md has the layout).
#pragma once

#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/image/format.hpp"

namespace opifex {

/// How much of a name the plain tree keeps.
enum class IsoNames {
  level1,  ///< 8 + 3 characters, A to Z, 0 to 9 and _
  level2,  ///< 30 characters of the same
  relaxed  ///< up to 192 printable ASCII characters, for loaders that want names as they are
};

struct IsoOptions {
  std::string volume_id = {};  ///< empty: made of the folder's name
  IsoNames names = IsoNames::level2;
  bool joliet = true;
  std::optional<std::int64_t> fixed_time = {};  ///< seconds since 1970 for every date; nothing: each file's own
  std::uint32_t padding_sectors = 0;
  std::uint64_t largest_section = 0xFFFF'F800;  ///< a file beyond it gets several; a multiple of 2048
  std::vector<std::string> first_files = {};    ///< paths whose data comes first, in this order
  std::filesystem::path system_area = {};       ///< up to 32 768 bytes for sectors 0 to 15
  /// Makes these 32 768 bytes instead, for an image of so many sectors.
  std::function<Bytes(std::uint64_t sectors)> make_system_area = {};
  bool join_parts = false;  ///< NAME.66600, NAME.66601 ... become NAME again
};

/// What the user chose of the settings of this file system's builder. Error if a file of them cannot be read.
IsoOptions iso_options(const Settings& settings);

struct IsoBuild {
  WritePlan plan;
  std::uint64_t files = 0, folders = 0;
  std::vector<std::string> notices = {};  ///< what was left out, and why
};

/// Reads names and sizes, no contents. The same folder and options give the same plan. Error (refused):
/// too_many_folders, too_large, missing_part, record_too_long, name_collisions, no_such_path; (needs_word)
/// "inside_source" if `out` lies in the folder.
IsoBuild plan_iso(const std::filesystem::path& folder, const std::filesystem::path& out, const IsoOptions& options);

}  // namespace opifex
