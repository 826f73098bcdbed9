// Master System and Game Gear (shared facts: section 9).
#include <algorithm>
#include <array>

#include "fields.hpp"

namespace opifex::rom {
namespace {

namespace sms_at {
constexpr std::size_t kSum = 0xA, kProduct = 0xC, kVersion = 0xE, kRegion = 0xF, kEnd = 0x10;
}  // namespace sms_at

std::optional<std::uint64_t> size_of(unsigned code) {
  constexpr std::array<std::uint64_t, 16> kKiB = {256, 512, 1024, 0, 0, 0, 0, 0, 0, 0, 8, 16, 32, 48, 64, 128};
  return kKiB[code & 15] == 0 ? std::nullopt : std::optional(kKiB[code & 15] << 10);
}

/// Nothing if the ROM is shorter than what the sum covers.
std::optional<std::uint32_t> sum_of(ByteView rom, std::uint64_t size) {
  constexpr std::uint64_t kSmall = 48 << 10, kHole = 0x7FF0, kBehind = 0x8000;
  if (size > rom.size()) return std::nullopt;
  if (size <= kSmall) return byte_sum(rom.first(size - sms_at::kEnd)) & 0xFFFF;
  return (byte_sum(rom.first(kHole)) + byte_sum(rom.subspan(kBehind, size - kBehind))) & 0xFFFF;
}

struct Region {
  std::string_view key, text;
};
Region region_of(unsigned code) {
  switch (code) {
    case 3:
      return {"japan", "Master System, Japan"};
    case 4:
      return {"export", "Master System, export"};
    case 5:
      return {"japan", "Game Gear, Japan"};
    case 6:
      return {"export", "Game Gear, export"};
    case 7:
      return {"international", "Game Gear, international"};
    default:
      return {"unknown", "unknown"};
  }
}

}  // namespace

std::optional<std::size_t> find_sega_mark(ByteView rom) {
  for (const std::size_t at : {std::size_t{0x7FF0}, std::size_t{0x3FF0}, std::size_t{0x1FF0}})
    if (as_text(field(rom, at, 8)) == "TMR SEGA" && field(rom, at, sms_at::kEnd).size() == sms_at::kEnd) return at;
  return std::nullopt;
}

Header read_master_system(ByteView rom) {
  Header h;
  const auto at = find_sega_mark(rom);
  if (!at) return h;  // many cartridges have none
  const ByteView head = rom.subspan(*at, sms_at::kEnd);
  const unsigned last = byte_at(head, sms_at::kVersion), kind = byte_at(head, sms_at::kRegion), high = last >> 4;
  const Region region = region_of(kind >> 4);
  const std::string low =
      fmt::format("{:02X}{:02X}", byte_at(head, sms_at::kProduct + 1), byte_at(head, sms_at::kProduct));
  h.code = high == 0 ? low : fmt::format("{}{}", high, low);
  h.region = region.text;
  h.version = fmt::format("{}", last & 15);
  h.declared_bytes = size_of(kind);
  FactList facts(h.facts);
  facts.hide("header_offset", std::uint64_t{*at});
  facts.hide("product", h.code);
  facts.hide("version", last & 15u);
  facts.hide("region", std::string(region.key));
  facts.hide("region_code", kind >> 4);
  facts.hide("size_code", kind & 15u);
  facts.hide("checksum", little16_at(head, sms_at::kSum));
  const std::uint32_t told = little16_at(head, sms_at::kSum);
  const auto sum = h.declared_bytes ? sum_of(rom, *h.declared_bytes) : std::nullopt;
  Checksum check{.key = "checksum", .name = "the checksum of the ROM"};
  if (sum)
    // It covers the size told: of a larger ROM only the front.
    check = compare_sums(check.key, check.name, *sum, told, 4, *h.declared_bytes == rom.size());
  else if (h.declared_bytes)
    check.state = SumState::wrong, check.found = "a shorter ROM", check.expected = hex_text(told, 4);
  else
    check.why_not = "the header does not tell how much it covers";
  h.checks.push_back(std::move(check));
  return h;
}

}  // namespace opifex::rom
