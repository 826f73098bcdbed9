/// What a check reads, as one stream of bytes: every file once, then what does not lie in them as it is.
#pragma once

#include <map>
#include <utility>
#include <vector>

#include "opifex/core/check/wii_tree.hpp"
#include "opifex/core/image/image.hpp"

namespace opifex {

/// A run of bytes of the stream: sectors of an extent, or bytes between them (a header, a partial tail).
struct StreamRun {
  std::uint64_t at = 0;  // in the stream
  std::uint64_t size_bytes = 0;
  const ByteSource* source = nullptr;
  std::uint64_t offset = 0;        // in the source
  const Extent* extent = nullptr;  // null: no sectors
  cd::Lba lba = 0;
  bool decoded = false;   // read through the image: audio little-endian
  bool clusters = false;  // whole clusters of a Wii partition; `offset` is that of the disc
  bool hole = false;      // nothing but zeros: not read
};

/// What is read, in order: all files; then tracks whose bytes are not in their files as they are (byte order, audio
/// files).
struct Stream {
  std::vector<StreamRun> stretches;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> files;  // begin and end of each, by file
  std::map<int, std::vector<std::pair<std::uint64_t, std::uint64_t>>> tracks;
  std::pair<std::uint64_t, std::uint64_t> disc;  // inside a container
  std::uint64_t size_bytes = 0;

  void add(StreamRun s) {
    s.at = size_bytes;
    if (s.size_bytes == 0) return;
    size_bytes += s.size_bytes;
    stretches.push_back(s);
  }
  void add_to_track(int track, std::uint64_t begin, std::uint64_t end) {
    auto& ranges = tracks[track];
    if (!ranges.empty() && ranges.back().second == begin)
      ranges.back().second = end;
    else
      ranges.emplace_back(begin, end);
  }
};

/// The disc in a container that is no plain copy of it.
bool holds_disc(const Image& image);

/// `tree` may be null; the image and the tree are referred to as long as the stream is used.
Stream make_stream(const Image& image, const WiiTree* tree);

}  // namespace opifex
