/// What an opened image is, whatever format it came in.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/content.hpp"
#include "opifex/core/io/key_ring.hpp"

namespace opifex {

struct Format;
class Container;

/// A file of the set that forms an image.
struct ImageFile {
  std::filesystem::path path;
  std::string type;  ///< "BINARY", "WAVE" ... for cue sheets; else the format's id
  std::uint64_t size_bytes = 0;
  bool missing = false;
  SourcePtr source = {};  ///< the file as it is; null if missing
};

struct Image {
  const Format* format = nullptr;
  std::filesystem::path path;                     ///< as the user named it; inside an archive: below the archive's path
  std::string name = {};                          ///< what outputs are called; empty: as the file
  std::filesystem::path archive = {};             ///< the archive it is in; empty: none
  std::vector<ImageFile> files = {};              ///< the data files; a cue sheet itself is not among them
  std::vector<std::filesystem::path> parts = {};  ///< of a file that was cut into several; empty: it was not
  std::vector<std::filesystem::path> also_read = {};  ///< other files its bytes come from: a container's parents
  std::vector<Warning> warnings = {};
  bool complete = true;  ///< every file found, every sector there
  Content content = {};
  std::shared_ptr<const Container> container = {};  ///< set if it came in one: its own facts and checksums
  KeyRingPtr keys = {};                             ///< the user's; null: none given

  /// The sectors of a CD; null if it is none.
  const CdImagePtr& cd() const;
  /// The 2048-byte blocks of a disc; null if it is none, or its sectors are stored raw.
  const SourcePtr& blocks() const;
  /// Track whose data is the disc's file system: the first data track; 0 if there is none.
  int main_data_track() const;
  /// The file system's bytes at 2048 * LBA; null if the disc has no data.
  SourcePtr user_data() const;
  /// Makes a disc of 2048-byte blocks of it, a last one that is cut filled with zeros.
  void take_blocks(SourcePtr source);
  /// The file ends within a block: what was in the rest of it is missing.
  void warn_of_partial_sector();
  /// `blocks` as far as the image reaches.
  SourcePtr stored_blocks() const;
  std::uint64_t size_bytes() const;
  /// The file that holds the track's index 01; null if it is missing.
  const ImageFile* file_of(const cd::Track& track) const;
};

}  // namespace opifex
