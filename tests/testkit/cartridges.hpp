/// Cartridges made here, so that the truth is known: right in all that their kind lets one know, random in the rest.
#pragma once

#include "opifex/core/formats/rom/rom.hpp"

#include "testkit.hpp"

namespace opifex::testkit {

inline const rom::Machine& machine(std::string_view id) { return *rom::find_machine(id); }
inline void put(Bytes& rom, std::size_t at, std::string_view text) { Fields(rom).bytes(at, as_view(text)); }

/// 32 KiB << code.
Bytes game_boy(Random& random, unsigned code, unsigned type = 0x03, unsigned ram = 2);
/// `code`: 1 KiB << code is what the header says; `at`: where the header stands.
Bytes snes(Random& random, std::size_t bytes, unsigned code, std::size_t at = 0x7FC0, unsigned mode = 0x20);
Bytes megadrive(Random& random, std::size_t bytes);
Bytes gba(Random& random, std::size_t bytes);
/// Its boot code is made up: no checksum of it is known.
Bytes n64(Random& random, std::size_t bytes);
/// PRG and CHR as the cartridge has them: without a header.
struct NesChips {
  Bytes program, character;
};
NesChips nes(Random& random, std::size_t program, std::size_t character);
/// `code`: of the size; `at`: where the header stands.
Bytes master_system(Random& random, std::size_t bytes, unsigned code, std::size_t at);

}  // namespace opifex::testkit
