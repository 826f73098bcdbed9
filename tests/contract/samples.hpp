/// A good file of every registered format, read-only ones too, and of every file system.
#pragma once

#include <algorithm>

#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/file_system.hpp"

#include "testkit.hpp"

namespace opifex::testkit {

/// The richest disc the format can hold without loss, in `folder`. Error for a format that nobody can write.
Image richest_source(const Format& format, const TempFolder& folder);

/// A good file of the format in `folder`: written where it can be, else a vector. Throws if nobody gave it one.
fs::path sample_of(const Format& format, const TempFolder& folder);

/// An image with a volume of this system. Throws if nobody gave it one.
fs::path sample_of(const FileSystem& system, const TempFolder& folder);
/// The keys it may need.
KeyRingPtr keys_for_samples(const TempFolder& folder);

/// The name of a case: hyphens are no part of one.
inline std::string case_name(std::string_view id) {
  std::string name(id);
  std::replace(name.begin(), name.end(), '-', '_');
  return name;
}

/// One file cut at so many bytes, the others of its folder as they are; may ask for a stop once so much of it was read.
class ChangedFiles final : public FileSpace {
 public:
  ChangedFiles(fs::path file, Bytes bytes)
      : file_(std::move(file)), source_(memory_source(std::move(bytes), file_.string())) {}
  SourcePtr open(const fs::path& path) const override { return path == file_ ? source_ : host_files()->open(path); }
  bool is_file(const fs::path& path) const override { return path == file_ || host_files()->is_file(path); }
  bool is_folder(const fs::path& path) const override { return host_files()->is_folder(path); }
  std::vector<fs::path> entries(const fs::path& folder) const override { return host_files()->entries(folder); }
  bool same_file(const fs::path& a, const fs::path& b) const override { return host_files()->same_file(a, b); }

 private:
  fs::path file_;
  SourcePtr source_;
};

}  // namespace opifex::testkit
