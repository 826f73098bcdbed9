/// What the executables of Xbox games (XBE, little-endian) and Xbox 360 games (XEX2, big-endian) tell in clear text.
/// Code and keys are never touched.
#pragma once

#include <array>
#include <optional>
#include <string>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

struct XboxExecutable {
  bool second = false;  ///< Xbox 360
  std::optional<std::uint32_t> title_id, media_id;
  std::string name;              ///< only of the first console
  std::string version;           ///< "2.0.1.1"; of the first console a number
  std::string base_version;      ///< of the second
  std::string region;            ///< "North America, Japan"; empty: none said
  unsigned disc = 0, discs = 0;  ///< from 1; 0: not said
  /// Media id to save-game id as they stand in the executable: what the header of a container wants.
  std::array<std::byte, 24> execution = {};
};

/// Error (refused, "bad_executable") if it is neither, or contradicts itself.
XboxExecutable read_xbox_executable(const ByteSource& file);

/// The executable in the root of a game: default.xex before default.xbe; nothing if there is none that can be read.
std::optional<XboxExecutable> executable_of(const Volume& volume);

/// "505207D1"
std::string title_id_text(std::uint32_t id);
/// "PR-001" of the first console, "PR-2001" of the second; empty if the id has no letters.
std::string short_title_id(std::uint32_t id, bool second);

}  // namespace opifex
