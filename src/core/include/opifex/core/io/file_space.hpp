/// Where files are found by their paths: the folders of this computer, or the members of an archive.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <vector>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {

class FileSpace {
 public:
  virtual ~FileSpace() = default;
  /// Error as open_file.
  virtual SourcePtr open(const std::filesystem::path& path) const = 0;
  virtual bool is_file(const std::filesystem::path& path) const = 0;
  virtual bool is_folder(const std::filesystem::path& path) const = 0;
  /// What is in a folder, sorted; empty if it cannot be listed.
  virtual std::vector<std::filesystem::path> entries(const std::filesystem::path& folder) const = 0;
  virtual bool same_file(const std::filesystem::path& a, const std::filesystem::path& b) const = 0;
};
using FileSpacePtr = std::shared_ptr<const FileSpace>;

/// The host's folders. A part of a plain split file (X.iso.001, X.iso.part0 ...) opens as the whole; Error
/// (missing_part) if one is not there.
FileSpacePtr host_files();

/// Disc 1 and disc 2 of a game may be called X.1.iso and X.2.iso as well as two parts of one: true if the parts of this
/// set, of the folder of `path`, are one image.
bool is_one_image(const std::filesystem::path& path, const PartSet& set);

/// The host's folders with files that are still called otherwise: by the name they are going to have, where they are.
FileSpacePtr staged_files(const std::map<std::filesystem::path, std::filesystem::path>& where);

}  // namespace opifex
