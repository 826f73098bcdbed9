/// For which machine a cartridge's ROM was made, by the header it carries.
#pragma once

#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "opifex/core/io/byte_source.hpp"

namespace opifex::rom {

/// How its bus numbers the bytes of a word.
enum class BusOrder { bytes, big, little };

/// What every cartridge of a machine has in common.
struct Machine {
  std::string_view id;               ///< "gb", "gbc", "gba", "snes", "megadrive", "n64", "nes", "sms", "gg"
  std::string_view name;             ///< for people
  BusOrder bus = BusOrder::bytes;    ///< 8 bits, or 16 in one of two orders
  std::uint64_t unit_bytes = 0;      ///< no chip is smaller: what repeats in steps below it is data
  std::uint64_t most_bytes = 0;      ///< of the largest cartridge
  std::string_view reader_bus = {};  ///< what cartridge readers call its bus (reader-protocol, section 4)
  bool copier_header = false;        ///< copiers put 512 bytes in front
  bool sized_by_chip = false;        ///< the header does not tell the ROM's size
  bool save_in_rom = false;          ///< nor what it saves: the ROM has marks of that
  bool headerless = false;           ///< only files of its ROMs have a header
  bool low_voltage = false;          ///< 3.3 V
  unsigned clock_registers = 0;      ///< bytes that a cartridge with a clock has for it

  /// Dump programs write its words in different ways.
  bool has_byte_orders() const { return bus == BusOrder::big && sized_by_chip; }
};

std::span<const Machine> machines();
/// Null if there is none of this id.
const Machine* find_machine(std::string_view id);
/// All ids, for settings.
std::vector<std::string> machine_ids();

/// What the header proves.
struct System {
  const Machine* machine = nullptr;
  std::string_view mark;  ///< what it was known by, for people
  int bits = 0;           ///< of proof, as a format's probe counts them
};

/// Nothing if no header fits, or the file is larger than the machine's cartridges. Reads some hundred bytes at places
/// that depend on the size and on a header's pointer; never throws but for an I/O error.
std::optional<System> detect_system(const ByteSource& file);

/// By its size alone: from the shortest header to the largest cartridge, 64 MiB, behind a copier's header.
bool may_be_rom(std::uint64_t bytes);

}  // namespace opifex::rom
