/// For which machine a cartridge's ROM was made, by the header it carries.
#pragma once

#include <optional>
#include <string_view>

#include "opifex/core/io/byte_source.hpp"

namespace opifex::rom {

/// What the header proves.
struct System {
  std::string_view id;    ///< "gb", "gbc", "gba", "snes", "megadrive", "n64", "nes", "sms", "gg"
  std::string_view mark;  ///< what it was known by, for people
  int bits = 0;           ///< of proof, as a format's probe counts them
};

/// Nothing if no header fits. Reads some tens of bytes, at places that depend on the size alone; never throws but for
/// an I/O error.
std::optional<System> detect_system(const ByteSource& file);

/// By its size alone: from the shortest header to the largest cartridge, 64 MiB, behind a copier's header.
bool may_be_rom(std::uint64_t bytes);

}  // namespace opifex::rom
