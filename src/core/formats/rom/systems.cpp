#include "opifex/core/formats/rom/systems.hpp"

#include <algorithm>
#include <array>

#include "fields.hpp"

namespace opifex::rom {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kMiB = 1 << 20, kSmallest = 0xC0, kLargest = 64 * kMiB;

constexpr std::array kMachines = {Machine{.id = "nes",
                                          .name = "NES",
                                          .unit_bytes = 16 << 10,
                                          .most_bytes = 64 * kMiB,
                                          .reader_bus = "nes",
                                          .headerless = true},
                                  Machine{.id = "n64",
                                          .name = "Nintendo 64",
                                          .bus = BusOrder::big,
                                          .unit_bytes = kMiB,
                                          .most_bytes = 64 * kMiB,
                                          .reader_bus = "n64",
                                          .sized_by_chip = true,
                                          .low_voltage = true},
                                  Machine{.id = "gba",
                                          .name = "Game Boy Advance",
                                          .bus = BusOrder::little,
                                          .unit_bytes = 32 << 10,
                                          .most_bytes = 32 * kMiB,
                                          .reader_bus = "gba",
                                          .sized_by_chip = true,
                                          .save_in_rom = true,
                                          .low_voltage = true},
                                  Machine{.id = "megadrive",
                                          .name = "Mega Drive",
                                          .bus = BusOrder::big,
                                          .unit_bytes = 8 << 10,
                                          .most_bytes = 16 * kMiB,
                                          .reader_bus = "md"},
                                  Machine{.id = "sms",
                                          .name = "Master System",
                                          .unit_bytes = 8 << 10,
                                          .most_bytes = 16 * kMiB,
                                          .reader_bus = "sms",
                                          .copier_header = true},
                                  Machine{.id = "gg",
                                          .name = "Game Gear",
                                          .unit_bytes = 8 << 10,
                                          .most_bytes = 16 * kMiB,
                                          .reader_bus = "sms",
                                          .copier_header = true},
                                  Machine{.id = "gb",
                                          .name = "Game Boy",
                                          .unit_bytes = 32 << 10,
                                          .most_bytes = 16 * kMiB,
                                          .reader_bus = "gb",
                                          .clock_registers = 5},
                                  Machine{.id = "gbc",
                                          .name = "Game Boy Color",
                                          .unit_bytes = 32 << 10,
                                          .most_bytes = 16 * kMiB,
                                          .reader_bus = "gb",
                                          .clock_registers = 5},
                                  Machine{.id = "snes",
                                          .name = "SNES",
                                          .unit_bytes = 32 << 10,
                                          .most_bytes = 16 * kMiB,
                                          .reader_bus = "snes",
                                          .copier_header = true}};

std::optional<System> known(std::string_view id, std::string_view mark, int bits) {
  return System{find_machine(id), mark, bits};
}

std::optional<System> nes(const ByteSource& file) {
  if (as_text(read_up_to(file, 0, 4)) != "NES\x1A"sv) return std::nullopt;
  return known("nes", "the header of an NES image", 32);
}

/// The first word in each of the three byte orders.
std::optional<System> n64(const ByteSource& file) {
  const Bytes head = read_up_to(file, 0, 4);
  if (head.size() < 4) return std::nullopt;
  const std::uint32_t word = load_be32(head, 0);
  if (word == 0x80371240) return known("n64", "the first word, big-endian", 32);
  if (word == 0x37804012) return known("n64", "the first word, bytes swapped in pairs", 32);
  if (word == 0x40123780) return known("n64", "the first word, little-endian", 32);
  return std::nullopt;
}

std::optional<System> gba(const ByteSource& file) {
  constexpr std::size_t kBranch = 3, kFrom = 0xA0, kFixed = 0xB2, kSum = 0xBD;
  const Bytes head = read_up_to(file, 0, kSum + 1);
  if (head.size() <= kSum || byte_at(head, kFixed) != 0x96 || byte_at(head, kBranch) != 0xEA) return std::nullopt;
  unsigned sum = 0x19;
  for (std::size_t i = kFrom; i < kSum; ++i) sum += byte_at(head, i);
  if (((0 - sum) & 0xFF) != byte_at(head, kSum)) return std::nullopt;
  return known("gba", "a header whose checksum is right", 24);
}

std::optional<System> megadrive(const ByteSource& file) {
  constexpr std::uint64_t kName = 0x100;
  const Bytes name = read_up_to(file, kName, 5);
  const std::string_view text = as_text(name);
  // Discs for the CD unit carry the same name behind their boot sector.
  if (as_text(read_up_to(file, 0, 4)) == "SEGA"sv) return std::nullopt;
  if (text.starts_with("SEGA") || text.ends_with("SEGA")) return known("megadrive", "the system's name at 0x100", 32);
  if (!container_of(file, find_machine("megadrive")).interleaved) return std::nullopt;
  const Bytes marks = read_up_to(file, 8, 2);
  if (byte_at(marks, 0) == 0xAA && byte_at(marks, 1) == 0xBB)
    return known("megadrive", "a copier's header in front of interleaved blocks", 24);
  return known("megadrive", "the system's name at 0x100 of interleaved blocks", 32);
}

std::uint64_t copier_header_of(const ByteSource& file) {
  return file.size() % 1024 == kCopierHeader ? kCopierHeader : 0;
}

std::optional<System> master_system(const ByteSource& file) {
  const std::uint64_t skip = copier_header_of(file);
  for (const std::uint64_t at : {0x7FF0u, 0x3FF0u, 0x1FF0u}) {
    const Bytes head = read_up_to(file, skip + at, 16);
    if (head.size() < 16 || !as_text(head).starts_with("TMR SEGA")) continue;
    constexpr std::size_t kRegion = 15;
    constexpr unsigned kFirstGameGear = 5, kLastGameGear = 7;
    const unsigned region = byte_at(head, kRegion) >> 4;
    const bool game_gear = region >= kFirstGameGear && region <= kLastGameGear;
    return known(game_gear ? "gg"sv : "sms"sv, "the mark of its header", 64);
  }
  return std::nullopt;
}

std::optional<System> game_boy(const ByteSource& file) {
  constexpr std::size_t kHeader = 0x134, kColour = 0x143 - kHeader, kType = 0x147 - kHeader, kRomSize = 0x148 - kHeader,
                        kRamSize = 0x149 - kHeader, kSum = 0x14D - kHeader;
  constexpr std::string_view kTypes =
      "\x00\x01\x02\x03\x05\x06\x08\x09\x0B\x0C\x0D\x0F\x10\x11\x12\x13\x19\x1A\x1B\x1C\x1D\x1E\x20\x22\xFC\xFD\xFE\xFF"sv;
  constexpr unsigned kMostRam = 5;
  const Bytes head = read_up_to(file, kHeader, kSum + 1);
  if (head.size() <= kSum || file.size() < 0x150) return std::nullopt;
  // One byte of checksum is little: the codes beside it have to be known as well.
  if (kTypes.find(as_text(head)[kType]) == std::string_view::npos || byte_at(head, kRamSize) > kMostRam)
    return std::nullopt;
  unsigned sum = 0;
  for (std::size_t i = 0; i < kSum; ++i) sum = (sum - byte_at(head, i) - 1) & 0xFF;
  const unsigned size = byte_at(head, kRomSize);
  const bool known_size = size <= 8 || (size >= 0x52 && size <= 0x54);
  if (sum != byte_at(head, kSum) || !known_size) return std::nullopt;
  const bool colour = (byte_at(head, kColour) & 0x80) != 0;
  return known(colour ? "gbc"sv : "gb"sv, "a header whose checksum is right", 20);
}

std::optional<System> snes(const ByteSource& file) {
  const std::uint64_t skip = copier_header_of(file);
  const auto found = find_snes_header(file.size() - skip, [&](std::uint64_t at, std::size_t n) {
    return at < file.size() - skip ? read_up_to(file, skip + at, n) : Bytes();
  });
  if (!found || found->score < kSnesScore) return std::nullopt;
  constexpr int kWithSums = 11;  // checksum and complement, and a map mode that fits the place, or nearly as much
  if (found->score >= kWithSums) return known("snes", "a header with checksum and complement at its place", 24);
  return known("snes", "what looks like a header, without a checksum that fits its complement", 10);
}

}  // namespace

std::span<const Machine> machines() { return kMachines; }

const Machine* find_machine(std::string_view id) {
  for (const Machine& machine : kMachines)
    if (machine.id == id) return &machine;
  return nullptr;
}

std::vector<std::string> machine_ids() {
  std::vector<std::string> ids;
  for (const Machine& machine : kMachines) ids.emplace_back(machine.id);
  return ids;
}

bool may_be_rom(std::uint64_t bytes) { return bytes >= kSmallest && bytes <= kLargest + kCopierHeader; }

std::optional<System> detect_system(const ByteSource& file) {
  if (!may_be_rom(file.size())) return std::nullopt;
  for (const auto detect : {&nes, &n64, &gba, &megadrive, &master_system, &game_boy, &snes})
    if (const auto system = detect(file); system && file.size() <= system->machine->most_bytes + kCopierHeader)
      return system;
  return std::nullopt;
}

}  // namespace opifex::rom
