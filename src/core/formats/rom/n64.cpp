// Nintendo 64, words big-endian (shared facts: section 7).
#include <array>
#include <bit>

#include "opifex/core/base/hash.hpp"

#include "fields.hpp"

namespace opifex::rom {
namespace {

namespace n64_at {
constexpr std::size_t kClock = 0x04, kEntry = 0x08, kRelease = 0x0C, kSums = 0x10, kTitle = 0x20, kMedia = 0x3B,
                      kCode = 0x3C, kRegion = 0x3E, kVersion = 0x3F, kBoot = 0x40, kBootEnd = 0x1000,
                      kSummedEnd = 0x101000, kTable = 0x750;
}  // namespace n64_at

struct Boot {
  std::string_view id;
  std::uint32_t crc32, seed;
};
/// 6102 stands first: where only the sums tell the seed, it is the usual one of two that share theirs.
constexpr std::array kBoots = {Boot{"6102", 0x90BB6CB5, 0xF8CA4DDC}, Boot{"6101", 0x6170A4A1, 0xF8CA4DDC},
                               Boot{"6103", 0x0B050EE0, 0xA3886759}, Boot{"6105", 0x98BC2C86, 0xDF26F436},
                               Boot{"6106", 0xACC8580A, 0x1FEA617A}};

std::uint64_t sums_by(const Boot& boot, ByteView rom) {
  std::uint32_t t1 = boot.seed, t2 = t1, t3 = t1, t4 = t1, t5 = t1, t6 = t1;
  const bool table = boot.id == "6105";
  for (std::size_t i = n64_at::kBootEnd; i < n64_at::kSummedEnd; i += 4) {
    const std::uint32_t d = load_be32(rom, i);
    if (t6 + d < t6) t4 += 1;
    t6 += d;
    t3 ^= d;
    const std::uint32_t r = std::rotl(d, static_cast<int>(d & 31));
    t5 += r;
    t2 ^= t2 > d ? r : t6 ^ d;
    t1 += table ? load_be32(rom, n64_at::kTable + (i & 0xFF)) ^ d : t5 ^ d;
  }
  std::uint32_t a = t6 ^ t4 ^ t3, b = t5 ^ t2 ^ t1;
  if (boot.id == "6103") a = (t6 ^ t4) + t3, b = (t5 ^ t2) + t1;
  if (boot.id == "6106") a = t6 * t4 + t3, b = t5 * t2 + t1;
  return std::uint64_t{a} << 32 | b;
}

const Boot* known_boot(ByteView rom) {
  const std::string crc = digest_of("crc32", field(rom, n64_at::kBoot, n64_at::kBootEnd - n64_at::kBoot));
  for (const Boot& boot : kBoots)
    if (crc == fmt::format("{:08x}", boot.crc32)) return &boot;
  return nullptr;
}

/// The sums and the variant of the boot code that they fit.
Checksum judge_sums(ByteView rom, const Boot* boot, std::string& variant) {
  Checksum sum{.key = "crc", .name = "the two checksums of the first MiB"};
  if (rom.size() < n64_at::kSummedEnd) {
    sum.why_not = "the ROM is shorter than what they cover";
    return sum;
  }
  const std::uint64_t told = big_at(rom, n64_at::kSums, 8);
  if (boot) {
    variant = boot->id;
    const Checksum compared = compare_sums(sum.key, sum.name, sums_by(*boot, rom), told, 16, false);
    return compared;
  }
  for (const Boot& each : kBoots)
    if (sums_by(each, rom) == told) {
      variant = each.id;
      return compare_sums(sum.key, sum.name, told, told, 16, false);
    }
  sum.why_not = "the boot code is unknown, and no known way to sum fits";
  return sum;
}

std::string region_name(char c) {
  switch (c) {
    case 'J':
      return "Japan";
    case 'E':
      return "North America";
    case 'P':
      return "Europe";
    case 'D':
      return "Germany";
    case 'F':
      return "France";
    case 'I':
      return "Italy";
    case 'S':
      return "Spain";
    case 'U':
      return "Australia";
    case 'A':
      return "Japan, North America";
    default:
      return "";
  }
}

}  // namespace

Header read_n64(ByteView rom) {
  Header h;
  h.title = kana_field(rom, n64_at::kTitle, 20);
  const std::string media = text_field(rom, n64_at::kMedia, 1), code = text_field(rom, n64_at::kCode, 2),
                    region = text_field(rom, n64_at::kRegion, 1);
  h.code = media + code + region;
  if (region.size() == 1) h.region = region_name(region[0]);
  h.version = fmt::format("{}", byte_at(rom, n64_at::kVersion));
  const Boot* boot = known_boot(rom);
  std::string variant;
  h.checks.push_back(judge_sums(rom, boot, variant));
  FactList facts(h.facts);
  facts.hide("title", h.title);
  facts.hide("media", text_or_none(media));
  facts.hide("code", text_or_none(code));
  facts.hide("region", text_or_none(region));
  facts.hide("version", byte_at(rom, n64_at::kVersion));
  facts.hide("clock", big_at(rom, n64_at::kClock, 4));
  facts.hide("entry", big_at(rom, n64_at::kEntry, 4));
  facts.hide("release", big_at(rom, n64_at::kRelease, 4));
  facts.hide("crc1", big_at(rom, n64_at::kSums, 4));
  facts.hide("crc2", big_at(rom, n64_at::kSums + 4, 4));
  facts.hide("boot_code", boot ? Value(std::string(boot->id)) : Value());
  facts.add("crc_variant", "Boot code", text_or_none(variant),
            variant.empty() ? "unknown"
            : boot          ? variant
                            : fmt::format("unknown, with the sums of {}", variant));
  return h;
}

}  // namespace opifex::rom
