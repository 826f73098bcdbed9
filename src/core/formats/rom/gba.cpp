// Game Boy Advance (shared facts: section 4).
#include <algorithm>
#include <array>

#include "opifex/core/base/hash.hpp"

#include "fields.hpp"

namespace opifex::rom {
namespace {

namespace gba_at {
constexpr std::size_t kLogo = 0x04, kTitle = 0xA0, kCode = 0xAC, kMaker = 0xB0, kFixed = 0xB2, kUnit = 0xB3,
                      kDevice = 0xB4, kVersion = 0xBC, kSum = 0xBD;
}  // namespace gba_at
constexpr unsigned kFixedByte = 0x96;

std::uint32_t header_sum(ByteView rom) {
  std::uint32_t sum = 0x19;
  for (std::size_t a = gba_at::kTitle; a < gba_at::kSum; ++a) sum += byte_at(rom, a);
  return (0 - sum) & 0xFF;
}

struct MarkerKind {
  std::string_view start, kind;
  std::array<std::uint64_t, 2> sizes;  // 0: no second one
};
constexpr std::array kMarkers = {
    MarkerKind{"EEPROM_V", "eeprom", {512, 8192}}, MarkerKind{"SRAM_V", "sram", {32768, 0}},
    MarkerKind{"SRAM_F_V", "sram", {32768, 0}},    MarkerKind{"FLASH_V", "flash", {65536, 0}},
    MarkerKind{"FLASH512_V", "flash", {65536, 0}}, MarkerKind{"FLASH1M_V", "flash", {131072, 0}}};
constexpr std::string_view kClockMark = "SIIRTC_V";

bool three_digits(std::string_view s) {
  return s.size() >= 3 && std::all_of(s.begin(), s.begin() + 3, [](char c) { return c >= '0' && c <= '9'; });
}

/// All marks of the save libraries that stand at a multiple of four.
void find_marks(ByteView rom, SaveMemory& save) {
  const std::string_view text = as_text(rom);
  // Each of them has "_V" in it: that is rare, and the search for two bytes is fast.
  for (std::size_t at = text.find("_V"); at != std::string_view::npos; at = text.find("_V", at + 1)) {
    for (const MarkerKind& m : kMarkers) {
      const std::size_t before = m.start.size() - 2;
      if (at < before || (at - before) % 4 != 0) continue;
      const std::string_view here = text.substr(at - before);
      if (!here.starts_with(m.start) || !three_digits(here.substr(m.start.size()))) continue;
      SaveMarker found{std::string(here.substr(0, m.start.size() + 3)), std::string(m.kind), at - before, {m.sizes[0]}};
      if (m.sizes[1] != 0) found.sizes.push_back(m.sizes[1]);
      save.markers.push_back(std::move(found));
    }
    const std::size_t before = kClockMark.size() - 2;
    if (at >= before && text.substr(at - before).starts_with(kClockMark)) save.clock = true;
  }
}

Logo logo_of(ByteView rom) {
  constexpr std::size_t kBytes = 156;
  constexpr std::string_view kWhole = "08a0153cfd6b0ea54b938f7d209933fa849da0d56f5a34c481060c9ff2fad818";
  return digest_of("sha256", field(rom, gba_at::kLogo, kBytes)) == kWhole ? Logo::right : Logo::other;
}

}  // namespace

Header read_gba(ByteView rom) {
  Header h;
  h.title = text_field(rom, gba_at::kTitle, 12);
  h.code = text_field(rom, gba_at::kCode, 4);
  h.maker = text_field(rom, gba_at::kMaker, 2);
  h.version = fmt::format("{}", byte_at(rom, gba_at::kVersion));
  h.logo = logo_of(rom);
  FactList facts(h.facts);
  facts.hide("title", h.title);
  facts.hide("code", text_or_none(h.code));
  facts.hide("maker", h.maker);
  facts.hide("fixed", byte_at(rom, gba_at::kFixed));
  facts.hide("unit", byte_at(rom, gba_at::kUnit));
  facts.hide("device", byte_at(rom, gba_at::kDevice));
  facts.hide("version", byte_at(rom, gba_at::kVersion));
  facts.hide("header_checksum", byte_at(rom, gba_at::kSum));
  h.checks.push_back(
      compare_sums("fixed_96", "the fixed byte of the header", byte_at(rom, gba_at::kFixed), kFixedByte, 2, false));
  h.checks.push_back(compare_sums("header_checksum", "the checksum of the header", header_sum(rom),
                                  byte_at(rom, gba_at::kSum), 2, false));
  find_marks(rom, h.save);
  // Marks of one kind and size only: then it is known.
  const auto& marks = h.save.markers;
  const bool one =
      !marks.empty() && marks.front().sizes.size() == 1 &&
      std::all_of(marks.begin(), marks.end(), [&](const SaveMarker& m) { return m.sizes == marks[0].sizes; });
  if (one) h.save.bytes = marks.front().sizes.front();
  return h;
}

}  // namespace opifex::rom
