#include "cartridges.hpp"

#include <algorithm>

namespace opifex::testkit {

Bytes game_boy(Random& random, unsigned code, unsigned type, unsigned ram) {
  Bytes rom = random.bytes(std::size_t{32 << 10} << code);
  std::fill_n(rom.begin() + 0x134, 16, std::byte{0});
  put(rom, 0x134, "QUARRY");
  Fields fields(rom);
  fields.byte(0x147, type);
  fields.byte(0x148, code);
  fields.byte(0x149, ram);
  return *rom::with_right_checksums(machine("gb"), rom);
}

Bytes snes(Random& random, std::size_t bytes, unsigned code, std::size_t at, unsigned mode) {
  Bytes rom = random.bytes(bytes);
  std::fill_n(rom.begin() + static_cast<std::ptrdiff_t>(at), 0x20, std::byte{0x20});
  put(rom, at, "KESTREL CIRCUIT      ");
  Fields fields(rom);
  fields.byte(at + 0x15, mode);
  fields.byte(at + 0x16, 2);
  fields.byte(at + 0x17, code);
  fields.byte(at + 0x18, 3);
  fields.byte(at + 0x1A, 1);
  fields.le(at + 0x3C, 0x8000, 2);
  fields.byte(at & ~std::size_t{0x7FFF}, 0x78);
  fields.le(at + 0x1C, 0xFFFF, 2);
  fields.le(at + 0x1E, 0, 2);
  return *rom::with_right_checksums(machine("snes"), rom);
}

Bytes megadrive(Random& random, std::size_t bytes) {
  Bytes rom = random.bytes(bytes);
  std::fill_n(rom.begin() + 0x100, 0x100, std::byte{0x20});
  put(rom, 0x100, "SEGA MEGA DRIVE");
  put(rom, 0x150, "MOTH & LANTERN");
  Fields fields(rom);
  fields.be(0x1A0, 0, 4);
  fields.be(0x1A4, bytes - 1, 4);
  return *rom::with_right_checksums(machine("megadrive"), rom);
}

Bytes gba(Random& random, std::size_t bytes) {
  Bytes rom = random.bytes(bytes);
  Fields fields(rom);
  fields.byte(3, 0xEA);
  put(rom, 0xA0, "TIDEWATER");
  fields.byte(0xB2, 0x96);
  return *rom::with_right_checksums(machine("gba"), rom);
}

NesChips nes(Random& random, std::size_t program, std::size_t character) {
  return {random.bytes(program), random.bytes(character)};
}

Bytes n64(Random& random, std::size_t bytes) {
  Bytes rom = random.bytes(bytes);
  Fields(rom).be(0, 0x80371240, 4);
  return rom;
}

Bytes master_system(Random& random, std::size_t bytes, unsigned code, std::size_t at) {
  Bytes rom = random.bytes(bytes);
  put(rom, at, "TMR SEGA");
  Fields(rom).byte(at + 15, 0x40 | code);
  return *rom::with_right_checksums(machine("sms"), rom);
}

}  // namespace opifex::testkit
