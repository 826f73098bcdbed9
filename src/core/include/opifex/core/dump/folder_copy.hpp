/// The files of a mounted disc, copied and compared. It is no dump: boot area, order, gaps and music stay behind.
#pragma once

#include <filesystem>
#include <functional>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::dump {

struct UnreadableBytes {
  std::uint64_t first = 0, size_bytes = 0;
};

struct CopiedFile {
  std::filesystem::path path;  ///< below the folder
  std::uint64_t size_bytes = 0;
  std::string sha1;
  bool was_there = false;                        ///< copied by an earlier run, and compared again
  std::vector<UnreadableBytes> unreadable = {};  ///< filled with 55h
};

struct FolderCopy {
  std::string file_system;  ///< of the source: "iso9660", "udf", or another if it is no disc
  std::vector<CopiedFile> files;
  std::uint64_t total_bytes = 0;
  std::vector<Warning> warnings;
  bool complete() const;
};

/// What a copy would do, without doing it: sizes only.
FolderCopy plan_folder_copy(const std::filesystem::path& from);

using Opener = std::function<SourcePtr(const std::filesystem::path&)>;

/// Copies what is not there yet, reads it back and compares. A file of the same name and other content is an Error
/// (needs_word) unless it may be replaced. Links are not followed. `open` is for tests of damaged media.
FolderCopy copy_folder(const std::filesystem::path& from, const std::filesystem::path& into, Existing existing,
                       JobContext& context, const Opener& open = &open_file);

/// File system that holds `path`, by /proc/self/mountinfo; empty if that is unknown.
std::string mounted_file_system(const std::filesystem::path& path);

}  // namespace opifex::dump
