// The header of a cartridge as a reader sees it: alone, and where the console's bus has it.
#include <algorithm>

#include "fields.hpp"

namespace opifex::rom {
namespace {

bool all_alike(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [&](std::byte b) { return b == bytes.front(); });
}

bool is_right(const Header& header, std::string_view key) {
  return std::any_of(header.checks.begin(), header.checks.end(),
                     [&](const Checksum& c) { return c.key == key && c.state == SumState::right; });
}

const Value* fact_of(const Header& header, std::string_view key) {
  const auto at =
      std::find_if(header.facts.begin(), header.facts.end(), [&](const HeaderFact& f) { return f.key == key; });
  return at == header.facts.end() ? nullptr : &at->value;
}

bool is_sound(const Machine& machine, ByteView rom, const Header& header) {
  constexpr std::uint32_t kFirstWord = 0x80371240;
  if (machine.id == "n64") return rom.size() >= 4 && load_be32(rom, 0) == kFirstWord;
  // Where the bus shows it no place fits the map mode of a LoROM: its size and its complement have to do.
  if (machine.id == "snes") return is_right(header, "complement") && header.declared_bytes && !header.title.empty();
  if (machine.id == "sms" || machine.id == "gg") return !header.facts.empty();
  if (machine.id == "megadrive") return is_right(header, "system_id");
  if (machine.id == "gba") return is_right(header, "fixed_96") && is_right(header, "header_checksum");
  return is_right(header, "header_checksum") && header.declared_bytes.has_value();
}

}  // namespace

std::optional<Header> read_bus_header(const Machine& machine, const BusHeader& raw) {
  constexpr std::size_t kFurthest = 1 << 20;
  if (raw.bytes.empty() || raw.at > kFurthest || all_alike(raw.bytes) || machine.headerless) return std::nullopt;
  Bytes rom(raw.at + raw.bytes.size());
  std::copy(raw.bytes.begin(), raw.bytes.end(), rom.begin() + raw.at);
  Header header = read_header(machine, rom);
  if (!is_sound(machine, rom, header)) return std::nullopt;
  return header;
}

const Machine& machine_by_header(const Machine& machine, const Header& header) {
  const Value* colour = fact_of(header, "cgb");
  const auto* text = colour ? std::get_if<std::string>(colour) : nullptr;
  if (machine.id == "gb" && text && *text != "no") return *find_machine("gbc");
  if (machine.id == "sms" && header.region.starts_with("Game Gear")) return *find_machine("gg");
  return machine;
}

std::uint64_t bus_header_in_rom(const Machine& machine, ByteView rom) {
  constexpr std::uint64_t kBefore = 0x10, kUsual = 0xFFB0;
  if (machine.id != "snes") return 0;
  const Header header = read_header(machine, rom);
  const Value* at = fact_of(header, "header_offset");
  return at ? std::get<std::uint64_t>(*at) - kBefore : kUsual;
}

}  // namespace opifex::rom
