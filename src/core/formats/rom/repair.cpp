// The checksums of a header put right: for ROMs that were changed on purpose. Nothing else is touched.
#include "fields.hpp"

namespace opifex::rom {
namespace {

/// One after the other: those over the whole ROM cover the header's.
struct Place {
  std::string_view key;
  std::size_t at, size;
  bool little = false;
};

void store(Bytes& rom, const Place& place, const Checksum& sum) {
  std::uint64_t value = 0;
  for (const char c : sum.found) value = value * 16 + static_cast<std::uint64_t>(c <= '9' ? c - '0' : c - 'A' + 10);
  Fields fields(rom);
  place.little ? fields.le(place.at, value, place.size) : fields.be(place.at, value, place.size);
}

std::vector<Place> places_of(const Machine& machine, ByteView rom) {
  if (machine.id == "gb" || machine.id == "gbc") return {{"header_checksum", 0x14D, 1}, {"global_checksum", 0x14E, 2}};
  if (machine.id == "gba") return {{"header_checksum", 0xBD, 1}};
  if (machine.id == "megadrive") return {{"checksum", 0x18E, 2}};
  if (machine.id == "n64") return {{"crc", 0x10, 8}};
  if (const auto at = find_sega_mark(rom); at && machine.copier_header && machine.id != "snes")
    return {{"checksum", *at + 0xA, 2, true}};
  return {};
}

/// Checksum and complement: their four bytes add up to the same whatever they are, if they fit each other.
std::optional<Bytes> with_snes_sums(ByteView rom) {
  constexpr std::size_t kComplement = 0x1C, kSum = 0x1E;
  Bytes out(rom.begin(), rom.end());
  const Header header = read_header(*find_machine("snes"), rom);
  for (const HeaderFact& fact : header.facts) {
    if (fact.key != "header_offset") continue;
    const auto at = static_cast<std::size_t>(std::get<std::uint64_t>(fact.value));
    Fields fields(out);
    fields.le(at + kComplement, 0xFFFF, 2);
    fields.le(at + kSum, 0, 2);
    const std::uint32_t sum = snes_checksum(out);
    fields.le(at + kComplement, sum ^ 0xFFFF, 2);
    fields.le(at + kSum, sum, 2);
    return out;
  }
  return std::nullopt;
}

}  // namespace

std::optional<Bytes> with_right_checksums(const Machine& machine, ByteView rom) {
  if (machine.id == "snes") return with_snes_sums(rom);
  const std::vector<Place> places = places_of(machine, rom);
  if (places.empty()) return std::nullopt;
  Bytes out(rom.begin(), rom.end());
  for (const Place& place : places) {
    if (place.at + place.size > out.size()) return std::nullopt;
    const Header header = read_header(machine, out);
    for (const Checksum& sum : header.checks)
      if (sum.key == place.key && sum.state == SumState::wrong && sum.found.size() == 2 * place.size)
        store(out, place, sum);
  }
  // A sum that covers itself changes as it is stored.
  const Header after = read_header(machine, out);
  for (const Checksum& sum : after.checks)
    for (const Place& place : places)
      if (sum.key == place.key && sum.state == SumState::wrong) return std::nullopt;
  return out;
}

}  // namespace opifex::rom
