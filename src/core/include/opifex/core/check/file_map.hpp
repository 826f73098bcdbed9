/// Which files of a disc lie in which sectors.
#pragma once

#include <functional>
#include <span>

#include "opifex/core/check/sector_map.hpp"
#include "opifex/core/image/image.hpp"

namespace opifex {

class FileMap {
 public:
  /// Reads the directories. An image without a readable file system has an empty map.
  explicit FileMap(const Image& image);
  /// Paths of the files and folders that touch sectors [first, first + count), in the order they lie.
  std::vector<std::string> hit_by(cd::Lba first, std::uint64_t count) const;
  /// What these ranges, in order and apart from each other, take from each file; in the order in which the files are
  /// hit first. Sectors that several files share count for each of them.
  std::vector<FileHit> suffered(std::span<const DiscRange> damage) const;
  /// The sectors that hold any file, joined.
  std::vector<DiscRange> used() const;
  /// The directories were there and without fault: what they do not name is no file.
  bool complete() const { return complete_; }

 private:
  struct Span {
    std::int64_t first = 0, end = 0;
    std::string path;
  };
  void collect(std::size_t node, std::size_t first, std::size_t width, std::size_t before, std::int64_t begin,
               const std::function<void(const Span&)>& take) const;
  void each_hit(std::int64_t first, std::int64_t end, const std::function<void(const Span&)>& take) const;

  bool complete_ = false;
  std::vector<Span> spans_;  // by first sector
  /// A tree over the spans: the latest end below each node, so that one long file does not make every search long.
  std::vector<std::int64_t> latest_;
  std::size_t width_ = 1;  // spans below the root, a power of two
};

/// "DATA/A.BIN, B.BIN and 3 more"; empty if there is none.
std::string files_text(const std::vector<std::string>& paths);

}  // namespace opifex
