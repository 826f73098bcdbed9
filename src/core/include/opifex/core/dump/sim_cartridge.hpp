/// A cartridge that is not there: its memories, its contacts, and what goes wrong with them (shared facts:
/// reader-protocol, section 8).
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::dump {

/// Names and values as SIM fault has them: "dirty" "5=0.001".
struct ReaderFault {
  std::string name, value;
};

/// The cartridge, and the reader that it is in.
struct SimReaderSetup {
  Bytes rom = {}, save = {};
  Bytes character = {};         ///< of the nes bus: its second chip
  std::string mapper = {};      ///< that its banks need; empty: any does
  std::string bus = "gb";       ///< that the cartridge is for; of another one nothing is read but FF
  Bytes clock = {};             ///< 5 bytes; empty: it has none
  std::uint64_t header_at = 0;  ///< in the ROM, where the bus shows it somewhere else
  std::vector<ReaderFault> faults = {};
  Bytes other = {};  ///< the ROM of the cartridge that is put in instead; empty: this one with all bits turned
  std::uint64_t seed = 1;
  std::uint32_t chunk = 256;
  std::uint64_t bytes_per_second = 0;  ///< of the cable; 0: as fast as they are taken
  bool sums = true;                    ///< the reader reads again by itself
};

/// The number of a fault. Error (refused, "bad_simulation") if it is none.
std::uint64_t count_of(const ReaderFault& fault);

/// Not safe from several threads at once.
class SimCartridge {
 public:
  enum class Space { rom, ram, chr, rtc };

  explicit SimCartridge(SimReaderSetup setup) : setup_(std::move(setup)), state_(setup_.seed * 2 + 1) {}

  /// False if it is no fault of a cartridge. Error (refused, "bad_simulation") for a value that it cannot have.
  bool take_fault(const ReaderFault& fault);
  void clean();
  /// Another cartridge is put in instead.
  void exchange();
  /// How the reader asks from now on: what every byte depends on, found out once.
  void note_bus(std::string_view bus, std::string_view mapper);

  /// What the reader gets to see.
  std::byte byte_of(Space space, std::uint32_t at);
  /// What is written goes through the same contacts as what is read.
  void write_save(std::uint32_t at, std::byte byte);

  const Bytes& save() const { return setup_.save; }
  std::size_t clock_bytes() const { return setup_.clock.size(); }
  /// The same seed, the same numbers: those of the reader, too.
  std::uint64_t random();

 private:
  std::byte character_byte(std::uint32_t place, std::uint32_t at);
  std::byte rom_byte(std::uint32_t place, std::uint32_t at);
  unsigned spoiled(unsigned byte, Space space, std::uint32_t at);
  std::uint32_t wired(std::uint32_t at);
  double chance();

  SimReaderSetup setup_;  // its half
  std::uint64_t state_;
  bool own_bus_ = false, own_mapper_ = false, wide_ = false, high_first_ = false;
  // Faults, by name.
  std::vector<std::pair<unsigned, double>> dirty_ = {}, dirty_address_ = {};
  std::vector<std::pair<unsigned, unsigned>> stuck_data_ = {};
  std::vector<unsigned> stuck_address_ = {};
  bool no_contact_ = false, dead_battery_ = false;
  std::optional<std::uint32_t> unwritable_ = {};
};

}  // namespace opifex::dump
