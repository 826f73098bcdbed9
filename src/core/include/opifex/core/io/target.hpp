/// What a target folder can take: free space, largest file, longest name.
#pragma once

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/file_names.hpp"

namespace opifex {

struct TargetFacts {
  std::string file_system = "unknown";            ///< "fat32", "exfat", "ext4" ...
  std::uint64_t free_bytes = UINT64_MAX;          ///< for the user, not for root
  std::uint64_t largest_file_bytes = UINT64_MAX;  ///< 4 GiB - 1 on FAT32
  std::size_t longest_name = 255;                 ///< UTF-16 units
  bool read_only = false;

  /// Case does not tell names apart, and some characters cannot stand in them: FAT, exFAT, NTFS, FATX.
  bool limits_names() const;
  NameRules name_rules() const;
};

/// Asks the system about the folder, or about its nearest existing parent.
TargetFacts target_facts(const std::filesystem::path& folder);

/// Those whose limits are known: "fat32", "exfat", "ntfs", "ext4", "fatx".
const std::vector<std::string>& target_file_systems();

/// `facts` with the limits of one of them; Error (usage) if the name is none.
TargetFacts with_file_system(TargetFacts facts, const std::string& name);

/// A file a job is going to write.
struct PlannedFile {
  std::filesystem::path path;
  std::uint64_t size_bytes = 0;
};

/// Whether what a job is going to write fits, file by file.
class PlannedTotal {
 public:
  explicit PlannedTotal(const TargetFacts& facts) : facts_(facts) {}
  /// Error (needs_word) if the file is too large or its name too long for the target.
  void add(const PlannedFile& file);
  /// Error (needs_word) if the drive cannot be written or all files together do not fit.
  void check() const;

 private:
  TargetFacts facts_;
  std::uint64_t files_ = 0, bytes_ = 0;
  std::string folder_ = {};  // of the first file
};

/// Error (needs_word) if a file is too large or its name too long for the target, or all together do not fit.
void check_fits(const std::vector<PlannedFile>& files, const TargetFacts& facts);

}  // namespace opifex
