/// One file of a ROM made into another: container, byte order, length, checksums.
#pragma once

#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/image/content.hpp"
#include "opifex/core/image/loss.hpp"
#include "opifex/core/image/settings.hpp"

namespace opifex::rom {

/// Which console a cartridge is for: the user's word.
extern const Setting kSystem;
/// Those of the format, in the order in which help lists them.
std::span<const Setting* const> write_settings();

struct Converted {
  const Machine* machine = nullptr;
  Bytes rom;            ///< as read_rom() gives it of the new file
  Container container;  ///< that is going to be around it
  Bytes header;         ///< of the container
  std::vector<Loss> losses;
  std::vector<std::string> steps;
  std::vector<Warning> warnings;
};

/// Reads the whole ROM. Error (refused) if nothing tells the machine ("no_rom_header"), or the machine has no such
/// container or byte order ("not_for_machine").
Converted convert(const RomContent& content, const Settings& settings);

/// The usual ending of a file that holds this, with its dot.
std::string_view usual_extension(const RomContent& content, const Settings& settings);

/// Of a file with its save memory: ".sav", ".srm".
std::string_view usual_save_extension(const Machine& machine);

}  // namespace opifex::rom
