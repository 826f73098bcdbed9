/// The files a job reads, in whatever role: none of them is ever written.
#pragma once

#include <filesystem>
#include <map>
#include <optional>
#include <utility>
#include <vector>

namespace opifex {

/// Files are known by device and inode: another name, a link or a bind mount of one is still the same file.
class InputFiles {
 public:
  InputFiles() = default;
  explicit InputFiles(const std::vector<std::filesystem::path>& paths) { add(paths); }

  /// What is not there is not remembered.
  void add(const std::filesystem::path& path);
  void add(const std::vector<std::filesystem::path>& paths);
  void add(const InputFiles& others);
  /// Every file below the folder; links are not followed.
  void add_folder(const std::filesystem::path& folder);

  /// The name under which `target` is read; nothing if it is not there or none of the inputs.
  std::optional<std::filesystem::path> read_as(const std::filesystem::path& target) const;

 private:
  std::map<std::pair<std::uint64_t, std::uint64_t>, std::filesystem::path> files_;  // by device and inode
};

}  // namespace opifex
