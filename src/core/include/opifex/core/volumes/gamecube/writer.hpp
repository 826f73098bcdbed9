/// Making a GameCube disc image of a folder that was extracted from one, changed or not.
#pragma once

#include <filesystem>

#include "opifex/core/image/format.hpp"

namespace opifex {

struct GameCubeOptions {
  bool full = false;  ///< filled up with zeros to the size of a pressed disc; else it ends behind the last file
};

struct GameCubeBuild {
  WritePlan plan;
  std::uint64_t files = 0, folders = 0;
  std::uint64_t moved = 0;                ///< files that could not stay where they were on the disc
  std::vector<std::string> notices = {};  ///< what was left out, and why
};

/// The folder needs the folder `system` of an extracted disc with header.bin, info.bin, loader.bin and main.dol. With
/// its files.fst everything that fits stays in its place: an unchanged folder gives the bytes it came from. Error
/// (refused): no_system_files, wii_not_built, bad_system_file, bad_name, too_large; (needs_word) inside_source.
GameCubeBuild plan_gamecube(const std::filesystem::path& folder, const std::filesystem::path& out,
                            const GameCubeOptions& options);

}  // namespace opifex
