/// Where the loaders of GameCube and Wii games look for images on a drive, and how they want them named.
#pragma once

#include <filesystem>
#include <optional>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/platforms/identity.hpp"

namespace opifex {

/// The root of the drive that a folder shows: itself if it holds the loaders' folders or is a mount point, its parent
/// if it is one of them. Nothing: it is a shelf on which games lie as their owner likes.
std::optional<std::filesystem::path> loader_drive(const std::filesystem::path& folder);

/// What keeps a loader from finding the game. `place` is the image's path below the drive's root.
std::vector<Warning> place_warnings(const std::filesystem::path& place, const Identity& id);

}  // namespace opifex
