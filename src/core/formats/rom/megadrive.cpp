// Mega Drive (shared facts: section 6). All numbers are big-endian.
#include <algorithm>

#include "fields.hpp"

namespace opifex::rom {
namespace {

namespace md_at {
constexpr std::size_t kSystem = 0x100, kMaker = 0x110, kDomestic = 0x120, kOverseas = 0x150, kSerial = 0x180,
                      kSum = 0x18E, kDevices = 0x190, kRomStart = 0x1A0, kRomEnd = 0x1A4, kRamStart = 0x1A8,
                      kRamEnd = 0x1AC, kExtra = 0x1B0, kRegions = 0x1F0, kData = 0x200;
}  // namespace md_at

std::optional<std::uint64_t> declared(ByteView rom) {
  const std::uint64_t start = big_at(rom, md_at::kRomStart, 4), end = big_at(rom, md_at::kRomEnd, 4);
  const bool sound = start == 0 && end % 2 == 1 && end > 0x1FF && end < 0x1000000;
  return sound ? std::optional(end + 1) : std::nullopt;
}

std::string regions_text(const std::string& letters) {
  std::vector<std::string> names;
  const auto has = [&](char c) { return letters.find(c) != std::string::npos; };
  if (has('J')) names.emplace_back("Japan");
  if (has('U')) names.emplace_back("Americas");
  if (has('E') && letters.size() > 1) names.emplace_back("Europe");
  if (!names.empty() && letters.size() <= 3) return fmt::format("{}", fmt::join(names, ", "));
  if (letters.size() != 1) return letters;
  // One letter may be a hexadecimal digit; a lone E is read as the letter it was on most cartridges.
  if (letters == "E") return "Europe";
  const auto digit = std::string_view("0123456789ABCDEF").find(letters[0]);
  if (digit == std::string_view::npos) return letters;
  if ((digit & 1) != 0) names.emplace_back("Japan");
  if ((digit & 4) != 0) names.emplace_back("Americas");
  if ((digit & 8) != 0) names.emplace_back("Europe");
  return names.empty() ? letters : fmt::format("{}", fmt::join(names, ", "));
}

/// The field that tells of memory beside the ROM.
void read_extra(ByteView rom, Header& h, FactList& facts) {
  constexpr unsigned kMark = 0xA0, kMarkBits = 0xA7, kBattery = 0x40, kLane = 0x18, kEven = 0x10, kOdd = 0x18,
                     kSerial = 0x40, kParallel = 0x20;
  h.save.bytes = h.save.ram_bytes = 0;
  const unsigned type = byte_at(rom, md_at::kExtra + 2), kind = byte_at(rom, md_at::kExtra + 3);
  const bool there = as_text(field(rom, md_at::kExtra, 2)) == "RA" && (type & kMarkBits) == kMark &&
                     (kind == kParallel || kind == kSerial);
  if (!there) return facts.hide("extra_memory", {});
  const std::uint64_t start = big_at(rom, md_at::kExtra + 4, 4), end = big_at(rom, md_at::kExtra + 8, 4);
  const bool battery = (type & kBattery) != 0, serial = kind == kSerial;
  const std::string lane = (type & kLane) == kEven ? "even" : (type & kLane) == kOdd ? "odd" : "both";
  constexpr std::uint64_t kMostRam = 4 << 20;
  if (serial || end < start || end - start >= kMostRam) {
    h.save.bytes = h.save.ram_bytes = std::nullopt;
  } else {
    h.save.ram_bytes = lane == "both" ? end - start + 1 : (end - start) / 2 + 1;
    h.save.bytes = battery ? h.save.ram_bytes : 0;
    if (lane != "both") h.save.interleaved = lane;
  }
  facts.add("extra_memory", "Extra RAM", true,
            fmt::format("{:#x} to {:#x}, {} addresses{}{}", start, end, lane, battery ? ", battery" : "",
                        serial ? ", serial EEPROM" : ""));
  facts.hide("extra_memory.battery", battery);
  facts.hide("extra_memory.end", end);
  facts.hide("extra_memory.lane", lane);
  facts.hide("extra_memory.serial", serial);
  facts.hide("extra_memory.start", start);
  facts.hide("extra_memory.type", type);
}

}  // namespace

Header read_megadrive(ByteView rom) {
  Header h;
  const std::string system = text_field(rom, md_at::kSystem, 16), serial = text_field(rom, md_at::kSerial, 14),
                    maker = text_field(rom, md_at::kMaker, 16), regions = text_field(rom, md_at::kRegions, 16),
                    domestic = text_field(rom, md_at::kDomestic, 48), overseas = text_field(rom, md_at::kOverseas, 48);
  h.title = overseas.empty() ? domestic : overseas;
  h.code = serial;
  h.maker = maker;
  h.region = regions_text(regions);
  FactList facts(h.facts);
  facts.hide("system", system);
  facts.hide("date", maker);
  facts.add("title_domestic", domestic == h.title ? "" : "Domestic", domestic);
  facts.hide("title_overseas", overseas);
  facts.hide("serial", serial);
  facts.add("devices", "Devices", text_field(rom, md_at::kDevices, 16));
  facts.hide("rom_start", big_at(rom, md_at::kRomStart, 4));
  facts.hide("rom_end", big_at(rom, md_at::kRomEnd, 4));
  facts.hide("ram_start", big_at(rom, md_at::kRamStart, 4));
  facts.hide("ram_end", big_at(rom, md_at::kRamEnd, 4));
  facts.hide("regions", regions);
  facts.hide("checksum", big_at(rom, md_at::kSum, 2));
  read_extra(rom, h, facts);

  Checksum mark{.key = "system_id", .name = "the system's name in the header", .state = SumState::right};
  const bool named =
      as_text(field(rom, md_at::kSystem, 4)) == "SEGA" || as_text(field(rom, md_at::kSystem + 1, 4)) == "SEGA";
  if (!named) mark.state = SumState::wrong, mark.found = system, mark.expected = "SEGA";
  h.checks.push_back(std::move(mark));
  h.declared_bytes = declared(rom);
  const std::uint64_t end = std::min<std::uint64_t>(h.declared_bytes.value_or(rom.size()), rom.size());
  if (end > md_at::kData)
    h.checks.push_back(compare_sums("checksum", "the checksum of the ROM, from 0x200 on,",
                                    word_sum(rom.subspan(md_at::kData, end - md_at::kData)) & 0xFFFF,
                                    big_at(rom, md_at::kSum, 2), 4, true));
  return h;
}

}  // namespace opifex::rom
