/// What an opened image is, whatever format it came in.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/cd_image.hpp"
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
  bool complete = true;                             ///< every file found, every sector there
  CdImagePtr cd = {};                               ///< set if it is a CD
  std::shared_ptr<const Container> container = {};  ///< set if it came in one: its own facts and checksums
  SourcePtr blocks = {};           ///< set if it is a disc of 2048-byte blocks (an ISO); may go with `cd`
  std::uint64_t tail_padding = 0;  ///< zeros at the end of `blocks` that are not in the image: they make a whole block
  KeyRingPtr keys = {};            ///< the user's; null: none given

  /// Track whose data is the disc's file system: the first data track; 0 if there is none.
  int main_data_track() const;
  /// The file system's bytes at 2048 * LBA; null if the disc has no data.
  SourcePtr user_data() const;
  /// Makes a disc of 2048-byte blocks of it, a last one that is cut filled with zeros.
  void take_blocks(SourcePtr source);
  /// `blocks` as far as the image reaches.
  SourcePtr stored_blocks() const;
  std::uint64_t size_bytes() const;
  /// The file that holds the track's index 01; null if it is missing.
  const ImageFile* file_of(const cd::Track& track) const;
};

}  // namespace opifex
