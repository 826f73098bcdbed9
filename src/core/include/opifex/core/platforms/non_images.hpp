/// What stands among images without being one: packages, PARAM.SFO, images of drives, and folders that are a game.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/platforms/identity.hpp"

namespace opifex {

struct NonImage {
  std::string what;                              ///< "package", "metadata", "container", "drive", "folder", "audio"
  Identity id;                                   ///< `platform` of a drive: "fat32", "ntfs", "gpt" ...
  std::string content_id = {};                   ///< of a package or PARAM.SFO
  std::optional<std::uint64_t> told_bytes = {};  ///< what its header says its size is
  std::uint64_t size_bytes = 0;                  ///< what is there
  std::string size_check = {};                   ///< "exact", "short" (cut off, or one part of several), "long"
  /// Big files that were cut for FAT32 (NAME.66600 ...), by folder.
  struct SplitFile {
    std::string path;
    std::size_t parts = 0;
    std::uint64_t size_bytes = 0;
    bool complete = false;
  };
  std::vector<SplitFile> split_files = {};
};

/// Nothing if it is none of these. Never reads more than headers.
std::optional<NonImage> identify_non_image(const ByteSource& source);

/// What a file no reader knows may be: bare audio, if its length is one of sectors and none of them begins with a sync
/// pattern.
std::optional<NonImage> guess_audio(const ByteSource& source);

/// A folder whose contents are one game; nothing if it is none. Links are not followed.
std::optional<NonImage> identify_game_folder(const std::filesystem::path& folder);

}  // namespace opifex
