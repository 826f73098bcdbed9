/// Which files of a disc lie in which sectors.
#pragma once

#include "opifex/core/image/image.hpp"

namespace opifex {

class FileMap {
 public:
  /// Reads the directories. An image without a readable file system has an empty map.
  explicit FileMap(const Image& image);
  /// Paths of the files and folders that touch sectors [first, first + count), in the order they lie.
  std::vector<std::string> hit_by(cd::Lba first, std::uint64_t count) const;

 private:
  struct Span {
    std::int64_t first = 0, end = 0;
    std::string path;
  };
  std::vector<Span> spans_;            // by first sector
  std::vector<std::int64_t> reaches_;  // the furthest end of a span and all before it
};

/// "DATA/A.BIN, B.BIN and 3 more"; empty if there is none.
std::string files_text(const std::vector<std::string>& paths);

}  // namespace opifex
