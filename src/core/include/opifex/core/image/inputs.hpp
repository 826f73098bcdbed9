/// The images behind a path the user gave: the file itself, or those in an archive.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/image/format.hpp"
#include "opifex/core/io/archive.hpp"

namespace opifex {

/// For open_image().
struct Input {
  std::filesystem::path path;
  OpenOptions options;
};

struct Inputs {
  ArchivePtr archive = {};  ///< null: the path is an image
  std::vector<Input> images;
};

/// The archive a path is, or is a part of; null if it is none.
ArchivePtr open_archive(const std::filesystem::path& path, const std::filesystem::path& spool_folder);

/// `pick`: only images whose path in the archive fits the pattern; empty: all. A sheet stands for the files it names.
/// Error: those of Archive::open; no_image (nothing in the archive is one); no_such_path (nothing fits `pick`).
Inputs find_inputs(const std::filesystem::path& path, const OpenOptions& options, const std::string& pick = {},
                   const std::filesystem::path& spool_folder = {});

/// The same for an archive that is open.
Inputs images_in(ArchivePtr archive, const OpenOptions& options, const std::string& pick = {});

}  // namespace opifex
