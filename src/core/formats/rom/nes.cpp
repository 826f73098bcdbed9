// NES files: a header that no cartridge has, then PRG and CHR (shared facts: section 8).
#include <algorithm>
#include <array>

#include "fields.hpp"

namespace opifex::rom {
namespace {

constexpr std::uint64_t kProgramUnit = 16 << 10, kCharacterUnit = 8 << 10, kMostArea = 64 << 20;

bool is_v2(ByteView head) { return (byte_at(head, 7) & 0x0C) == 0x08; }

bool is_archaic(ByteView head) {
  return !is_v2(head) && (byte_at(head, 12) | byte_at(head, 13) | byte_at(head, 14) | byte_at(head, 15)) != 0;
}

/// Nothing above 64 MiB.
std::optional<std::uint64_t> area_v2(unsigned low, unsigned high, std::uint64_t unit) {
  if (high != 0xF) return (high << 8 | low) * unit;
  const unsigned exponent = low >> 2, multiplier = (low & 3) * 2 + 1;
  if (exponent > 26) return std::nullopt;
  const std::uint64_t bytes = (std::uint64_t{1} << exponent) * multiplier;
  return bytes > kMostArea ? std::nullopt : std::optional(bytes);
}

/// Nothing if it is no whole number of units, or of too many.
std::optional<unsigned> units(std::uint64_t bytes, std::uint64_t unit, unsigned most) {
  if (bytes % unit != 0 || bytes / unit > most) return std::nullopt;
  return static_cast<unsigned>(bytes / unit);
}

std::uint64_t shifted_ram(unsigned shift) { return shift == 0 ? 0 : std::uint64_t{64} << shift; }

}  // namespace

Bytes nes_header(const NesWord& word) {
  constexpr unsigned kMostV1 = 0xFF, kMostV2 = 0xEFF, kMapperV1 = 0xFF, kMapperV2 = 0xFFF;
  const auto program = units(word.program_bytes, kProgramUnit, kMostV2),
             character = units(word.character_bytes, kCharacterUnit, kMostV2);
  if (!program || !character || word.mapper > kMapperV2)
    throw Error({.code = "odd_size",
                 .what = "the header of an NES file cannot say these sizes",
                 .found = fmt::format("PRG {} bytes, CHR {} bytes, mapper {}", word.program_bytes, word.character_bytes,
                                      word.mapper),
                 .expected = "PRG a multiple of 16 KiB, CHR of 8 KiB, mapper 0 to 4095"});
  Bytes head(kNesHeader);
  Fields f(head);
  f.bytes(0, as_view("NES\x1A"));
  const unsigned mapper = word.mapper, low = (mapper & 15) << 4;
  f.byte(4, *program & 0xFF);
  f.byte(5, *character & 0xFF);
  f.byte(6, low | (word.four_screen ? 8u : 0u) | (word.save_bytes > 0 ? 2u : 0u) | (word.vertical ? 1u : 0u));
  f.byte(7, mapper & 0xF0);
  // Version 1 means 8 KiB of saves; whatever else there is version 2 has a place for.
  constexpr std::uint64_t kSaveV1 = 8 << 10;
  const bool v1 = *program <= kMostV1 && *character <= kMostV1 && mapper <= kMapperV1 &&
                  (word.save_bytes == 0 || word.save_bytes == kSaveV1);
  if (v1) return head;
  f.byte(7, (mapper & 0xF0) | 0x08);
  f.byte(8, mapper >> 8);
  f.byte(9, *program >> 8 | (*character >> 8) << 4);
  unsigned shift = 0;
  while (shift < 15 && shifted_ram(shift) < word.save_bytes) ++shift;
  f.byte(10, shift << 4);
  return head;
}

NesWord nes_word(ByteView header) {
  const NesAreas areas = nes_areas(header);
  const unsigned six = byte_at(header, 6), seven = areas.archaic ? 0 : byte_at(header, 7);
  return {.mapper = six >> 4 | (seven & 0xF0) | (areas.v2 ? (byte_at(header, 8) & 15) << 8 : 0),
          .program_bytes = areas.program,
          .character_bytes = areas.character,
          .save_bytes = (six & 2) != 0 ? 8u << 10 : 0u,
          .vertical = (six & 1) != 0,
          .four_screen = (six & 8) != 0};
}

NesAreas nes_areas(ByteView file) {
  NesAreas areas;
  const ByteView head = field(file, 0, kNesHeader);
  areas.v2 = is_v2(head);
  areas.archaic = is_archaic(head);
  areas.trainer = (byte_at(head, 6) & 4) != 0 ? kNesTrainer : 0;
  if (!areas.v2) {
    areas.program = byte_at(head, 4) * kProgramUnit;
    areas.character = byte_at(head, 5) * kCharacterUnit;
    return areas;
  }
  const auto program = area_v2(byte_at(head, 4), byte_at(head, 9) & 15, kProgramUnit),
             character = area_v2(byte_at(head, 5), byte_at(head, 9) >> 4, kCharacterUnit);
  areas.too_large = !program || !character || *program + *character > kMostArea;
  areas.program = program.value_or(0);
  areas.character = character.value_or(0);
  areas.further = byte_at(head, 14) & 3;
  return areas;
}

Header read_nes(ByteView file) {
  Header h;
  const NesAreas areas = nes_areas(file);
  const ByteView head = field(file, 0, kNesHeader);
  const unsigned six = byte_at(head, 6), seven = areas.archaic ? 0 : byte_at(head, 7), eight = byte_at(head, 8);
  std::uint64_t mapper = six >> 4 | (seven & 0xF0);
  if (areas.v2) mapper |= std::uint64_t{eight & 15} << 8;
  const bool battery = (six & 2) != 0;
  const std::string mirroring = (six & 8) != 0 ? "four-screen" : (six & 1) != 0 ? "vertical" : "horizontal";
  constexpr std::array kTimings = {"ntsc", "pal", "both", "other"};
  const unsigned timing = areas.v2 ? byte_at(head, 12) & 3 : areas.archaic ? 0 : byte_at(head, 9) & 1;
  const std::uint64_t v1_ram = std::uint64_t{areas.archaic || eight == 0 ? 1 : eight} << 13;
  const unsigned ten = byte_at(head, 10), eleven = byte_at(head, 11);
  const std::uint64_t ram = areas.v2 ? shifted_ram(ten & 15) : v1_ram, saved = areas.v2 ? shifted_ram(ten >> 4) : 0,
                      chr_saved = areas.v2 ? shifted_ram(eleven >> 4) : 0;

  FactList facts(h.facts);
  facts.add("mapper", "Mapper", mapper,
            areas.v2 ? fmt::format("{}, submapper {}", mapper, eight >> 4) : fmt::format("{}", mapper));
  facts.hide("submapper", areas.v2 ? std::uint64_t{eight >> 4} : 0);
  facts.add("prg", "PRG", areas.program, fmt::format("{} KiB", areas.program >> 10));
  facts.add("chr", "CHR", areas.character, areas.character == 0 ? "RAM" : fmt::format("{} KiB", areas.character >> 10));
  facts.add("mirroring", "Mirroring", mirroring);
  facts.add("timing", "Timing", std::string(kTimings[timing]));
  facts.hide("trainer", areas.trainer != 0);
  facts.hide("battery", battery);
  facts.hide("console_type", std::uint64_t{seven & 3});
  facts.hide("prg_ram", ram);
  facts.add("version", "Header", std::uint64_t{areas.v2 ? 2u : 1u},
            areas.v2        ? "version 2"
            : areas.archaic ? "version 1, archaic: text in bytes 7 to 15"
                            : "version 1");
  facts.hide("archaic", areas.archaic);
  if (areas.v2) {
    facts.hide("prg_nvram", saved);
    facts.hide("chr_ram", shifted_ram(eleven & 15));
    facts.hide("chr_nvram", chr_saved);
    facts.hide("console_detail", byte_at(head, 13));
    facts.hide("misc_roms", std::uint64_t{areas.further});
    facts.hide("default_device", byte_at(head, 15) & 0x3Fu);
  }
  if (!areas.too_large && areas.program + areas.character > 0) h.declared_bytes = areas.program + areas.character;
  h.save.bytes = areas.v2 ? saved + chr_saved : battery ? ram : 0;
  h.save.ram_bytes = areas.v2 ? ram + saved : ram;
  return h;
}

}  // namespace opifex::rom
