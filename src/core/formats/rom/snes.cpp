// SNES (shared facts: section 5).
#include <algorithm>
#include <array>
#include <bit>

#include "fields.hpp"

namespace opifex::rom {
namespace {

namespace snes_at {
// From the header's place on; the extended one lies before it.
constexpr std::size_t kTitle = 0x00, kMode = 0x15, kChips = 0x16, kRomSize = 0x17, kRamSize = 0x18, kCountry = 0x19,
                      kMaker = 0x1A, kVersion = 0x1B, kComplement = 0x1C, kSum = 0x1E, kReset = 0x3C, kEnd = 0x40;
constexpr std::size_t kExtendedBefore = 0x10, kExtendedMaker = 0, kExtendedCode = 2;
}  // namespace snes_at
constexpr std::size_t kTitleBytes = 21;
constexpr unsigned kExtended = 0x33;

struct Place {
  std::size_t at;
  std::string_view layout;
  std::string_view modes;
};
using namespace std::string_view_literals;
constexpr std::array kPlaces = {
    Place{0x7FC0, "LoROM", "\x20\x30\x22\x32\x23\x33"sv}, Place{0xFFC0, "HiROM", "\x21\x31\x2A\x3A"sv},
    Place{0x407FC0, "ExLoROM", "\x20\x30\x22\x32"sv}, Place{0x40FFC0, "ExHiROM", "\x25\x35"sv}};

/// Where the reset vector's code lies in the ROM.
std::uint64_t code_place(const Place& place, unsigned vector) {
  const bool low = place.layout.ends_with("LoROM");
  return low ? (vector & 0x7FFF) + (place.at & ~std::size_t{0x7FFF}) : vector + (place.at & ~std::size_t{0xFFFF});
}

int opcode_points(unsigned op) {
  constexpr std::string_view kUsual = "\x78\x18\x38\x9C\x4C\x5C"sv,
                             kLikely = "\xC2\xE2\xA9\xA2\xA0\xAD\xAE\xAC\x20\x22"sv,
                             kUnlikely = "\x00\x02\xDB\x42\xFF"sv;
  const char c = static_cast<char>(op);
  if (kUsual.find(c) != std::string_view::npos) return 2;
  if (kLikely.find(c) != std::string_view::npos) return 1;
  return kUnlikely.find(c) != std::string_view::npos ? -2 : 0;
}

int title_points(ByteView title) {
  const auto readable = [](std::byte b) {
    const auto c = std::to_integer<unsigned>(b);
    return (c >= 0x20 && c <= 0x7E) || (c >= 0xA1 && c <= 0xDF);
  };
  if (std::all_of(title.begin(), title.end(), readable)) return 2;
  return std::all_of(title.begin(), title.end(), [&](std::byte b) { return b == title[0]; }) ? -2 : 0;
}

int score_of(const Place& place, ByteView head, std::uint64_t rom_bytes, const ReadRom& read) {
  constexpr unsigned kLeastSize = 7, kMostSize = 13, kMostRam = 8;
  int score = 0;
  const unsigned sum = little16_at(head, snes_at::kSum), complement = little16_at(head, snes_at::kComplement);
  if ((sum ^ complement) == 0xFFFF) score += sum == 0 || sum == 0xFFFF ? 1 : 4;
  if (place.modes.find(static_cast<char>(byte_at(head, snes_at::kMode))) != std::string_view::npos) score += 3;
  const unsigned vector = little16_at(head, snes_at::kReset);
  if (vector < 0x8000) {
    score -= 4;
  } else {
    score += 1;
    const Bytes code = read(code_place(place, vector), 1);
    if (!code.empty()) score += opcode_points(byte_at(code, 0));
  }
  const unsigned size = byte_at(head, snes_at::kRomSize);
  if (size >= kLeastSize && size <= kMostSize && (std::uint64_t{1024} << size) >= rom_bytes / 2) score += 1;
  if (byte_at(head, snes_at::kRamSize) <= kMostRam) score += 1;
  return score + title_points(head.first(kTitleBytes));
}

std::string_view coprocessor(unsigned chips) {
  if ((chips & 0x0F) < 3) return "";
  constexpr std::array kNames = {"DSP", "GSU", "OBC1", "SA-1", "S-DD1", "S-RTC"};
  const unsigned high = chips >> 4;
  if (high < kNames.size()) return kNames[high];
  return high == 0xE ? "other" : high == 0xF ? "custom" : "unknown";
}

std::string region_name(unsigned country) {
  constexpr std::array kNames = {"Japan",     "North America", "Europe", "Scandinavia", "Finland", "Denmark",
                                 "France",    "Netherlands",   "Spain",  "Germany",     "Italy",   "China",
                                 "Indonesia", "Korea",         "",       "Canada",      "Brazil",  "Australia"};
  return country < kNames.size() && *kNames[country] ? kNames[country] : fmt::format("unknown ({:02X})", country);
}

std::string chips_text(bool ram, bool battery, std::string_view chip) {
  std::string text = "ROM";
  if (ram) text += " + RAM";
  if (battery) text += " + battery";
  if (!chip.empty()) text += fmt::format(" + {}", chip);
  return text;
}

}  // namespace

std::optional<SnesHeader> find_snes_header(std::uint64_t rom_bytes, const ReadRom& read) {
  std::optional<SnesHeader> best;
  for (const Place& place : kPlaces) {
    const Bytes head = read(place.at, snes_at::kEnd);
    if (head.size() < snes_at::kEnd) continue;
    const int score = score_of(place, head, rom_bytes, read);
    if (!best || score > best->score) best = SnesHeader{place.at, score, place.layout};
  }
  return best;
}

std::uint32_t snes_checksum(ByteView rom) {
  const std::uint64_t n = rom.size();
  if (n == 0) return 0;
  const std::uint64_t p = std::bit_floor(n), rest = n - p;
  if (rest == 0) return byte_sum(rom) & 0xFFFF;
  const auto times = static_cast<std::uint32_t>(p / std::bit_ceil(rest));
  return (byte_sum(rom.first(p)) + snes_checksum(rom.subspan(p)) * times) & 0xFFFF;
}

Header read_snes(ByteView rom) {
  Header h;
  const auto found = find_snes_header(rom.size(), [&](std::uint64_t at, std::size_t n) {
    const ByteView v = at < rom.size() ? field(rom, static_cast<std::size_t>(at), n) : ByteView();
    return Bytes(v.begin(), v.end());
  });
  if (!found) return h;
  const ByteView head = rom.subspan(found->at, snes_at::kEnd);
  const unsigned mode = byte_at(head, snes_at::kMode), chips = byte_at(head, snes_at::kChips),
                 size = byte_at(head, snes_at::kRomSize), ram_code = byte_at(head, snes_at::kRamSize),
                 maker = byte_at(head, snes_at::kMaker), low = chips & 0x0F;
  const bool ram = low == 1 || low == 2 || low == 4 || low == 5, battery = low == 2 || low == 5 || low == 6;
  h.title = kana_field(head, snes_at::kTitle, kTitleBytes);
  h.maker = hex_text(maker, 2);
  if (maker == kExtended) {
    const ByteView extended = rom.subspan(found->at - snes_at::kExtendedBefore, snes_at::kExtendedBefore);
    h.maker = text_field(extended, snes_at::kExtendedMaker, 2);
    h.code = text_field(extended, snes_at::kExtendedCode, 4);
  }
  h.region = region_name(byte_at(head, snes_at::kCountry));
  h.version = fmt::format("{}", byte_at(head, snes_at::kVersion));

  const unsigned sum = little16_at(head, snes_at::kSum), complement = little16_at(head, snes_at::kComplement);
  const bool fast = (mode & 0x10) != 0;
  const std::string_view chip = coprocessor(chips);
  FactList facts(h.facts);
  facts.hide("title", h.title);
  facts.hide("code", text_or_none(h.code));
  facts.hide("developer", h.maker);
  facts.add("layout", "Mapping", std::string(found->layout),
            fmt::format("{}{}, header at {:#x}", found->layout, fast ? ", fast" : "", found->at));
  facts.hide("header_offset", std::uint64_t{found->at});
  facts.hide("score", static_cast<std::uint64_t>(std::max(0, found->score)));
  facts.hide("map_mode", mode);
  facts.hide("fast", fast);
  facts.add("chipset", "Chips", chips, chips_text(ram, battery, chip));
  facts.hide("coprocessor", text_or_none(std::string(chip)));
  facts.hide("has_ram", ram);
  facts.hide("has_battery", battery);
  facts.hide("rom_code", size);
  facts.hide("ram_code", ram_code);
  facts.hide("region", byte_at(head, snes_at::kCountry));
  facts.hide("version", byte_at(head, snes_at::kVersion));
  facts.hide("complement", complement);
  facts.hide("checksum", sum);

  h.checks.push_back(compare_sums("complement", "the complement of the checksum", complement, sum ^ 0xFFFF, 4, false));
  h.checks.push_back(compare_sums("checksum", "the checksum of the whole ROM", snes_checksum(rom), sum, 4, true));
  constexpr unsigned kLeastSize = 5, kMostSize = 13, kMostRam = 8;
  if (size >= kLeastSize && size <= kMostSize) h.declared_bytes = std::uint64_t{1024} << size;
  if (ram_code <= kMostRam) h.save.ram_bytes = ram && ram_code > 0 ? std::uint64_t{1024} << ram_code : 0;
  h.save.bytes = battery ? h.save.ram_bytes : std::optional<std::uint64_t>(0);
  h.save.clock = chip == "S-RTC";
  return h;
}

}  // namespace opifex::rom
