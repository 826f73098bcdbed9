/// A folder of the user's with all that is in it, for making images of.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

namespace opifex {

struct FolderNode {
  std::string name;            ///< UTF-8
  std::filesystem::path host;  ///< where it is
  bool folder = false;
  std::uint64_t size_bytes = 0;
  std::vector<FolderNode> children = {};  ///< by name, bytes compared

  /// Null if there is none of this very name.
  const FolderNode* find(std::string_view child) const;
};

struct FolderTree {
  FolderNode root;
  std::uint64_t files = 0, folders = 0;
  std::vector<std::string> notices = {};  ///< what is left out, and why: links, special files, names that are no UTF-8
};

/// Reads names and sizes, no contents; links are not followed. Error: not_a_folder, too_deep, a device error.
FolderTree read_folder(const std::filesystem::path& folder);

/// Error (needs_word, "inside_source") if `out` would lie in the folder it is made of.
void refuse_inside(const std::filesystem::path& folder, const std::filesystem::path& out);

}  // namespace opifex
