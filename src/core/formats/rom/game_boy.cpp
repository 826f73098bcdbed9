// Game Boy and Game Boy Color (shared facts: section 3).
#include <array>

#include "opifex/core/base/hash.hpp"

#include "fields.hpp"

namespace opifex::rom {
namespace {

namespace gb_at {
constexpr std::size_t kLogo = 0x104, kTitle = 0x134, kCode = 0x13F, kColour = 0x143, kMaker = 0x144, kSuper = 0x146,
                      kType = 0x147, kRomSize = 0x148, kRamSize = 0x149, kRegion = 0x14A, kOldMaker = 0x14B,
                      kVersion = 0x14C, kHeaderSum = 0x14D, kGlobalSum = 0x14E;
}  // namespace gb_at
constexpr unsigned kNewMaker = 0x33, kColourBit = 0x80, kColourOnly = 0x40, kSuperYes = 3;

struct CartridgeType {
  unsigned code;
  std::string_view mapper;
  bool ram, battery, timer, rumble;
};
constexpr std::array kTypes = {
    CartridgeType{0x00, "none", false, false, false, false},  CartridgeType{0x08, "none", true, false, false, false},
    CartridgeType{0x09, "none", true, true, false, false},    CartridgeType{0x01, "MBC1", false, false, false, false},
    CartridgeType{0x02, "MBC1", true, false, false, false},   CartridgeType{0x03, "MBC1", true, true, false, false},
    CartridgeType{0x05, "MBC2", true, false, false, false},   CartridgeType{0x06, "MBC2", true, true, false, false},
    CartridgeType{0x0B, "MMM01", false, false, false, false}, CartridgeType{0x0C, "MMM01", true, false, false, false},
    CartridgeType{0x0D, "MMM01", true, true, false, false},   CartridgeType{0x0F, "MBC3", false, true, true, false},
    CartridgeType{0x10, "MBC3", true, true, true, false},     CartridgeType{0x11, "MBC3", false, false, false, false},
    CartridgeType{0x12, "MBC3", true, false, false, false},   CartridgeType{0x13, "MBC3", true, true, false, false},
    CartridgeType{0x19, "MBC5", false, false, false, false},  CartridgeType{0x1A, "MBC5", true, false, false, false},
    CartridgeType{0x1B, "MBC5", true, true, false, false},    CartridgeType{0x1C, "MBC5", false, false, false, true},
    CartridgeType{0x1D, "MBC5", true, false, false, true},    CartridgeType{0x1E, "MBC5", true, true, false, true},
    CartridgeType{0x20, "MBC6", true, true, false, false},    CartridgeType{0x22, "MBC7", true, true, false, true},
    CartridgeType{0xFC, "camera", true, true, false, false},  CartridgeType{0xFD, "TAMA5", true, true, true, false},
    CartridgeType{0xFE, "HuC3", true, true, true, false},     CartridgeType{0xFF, "HuC1", true, true, false, false}};

const CartridgeType* type_of(unsigned code) {
  for (const CartridgeType& t : kTypes)
    if (t.code == code) return &t;
  return nullptr;
}

std::optional<std::uint64_t> rom_bytes(unsigned code) {
  constexpr std::uint64_t kLeast = 32 << 10, kBank = 16 << 10;
  if (code <= 8) return kLeast << code;
  if (code == 0x52) return 72 * kBank;
  if (code == 0x53) return 80 * kBank;
  if (code == 0x54) return 96 * kBank;
  return std::nullopt;
}

std::optional<std::uint64_t> ram_bytes(const CartridgeType* type, unsigned code) {
  constexpr std::array<std::uint64_t, 6> kSizes = {0, 2 << 10, 8 << 10, 32 << 10, 128 << 10, 64 << 10};
  if (!type) return std::nullopt;
  if (!type->ram) return 0;
  if (type->mapper == "MBC2") return 512;
  if (type->mapper == "MBC7") return 256;
  if (code >= kSizes.size()) return std::nullopt;
  return kSizes[code];
}

Logo logo_of(ByteView rom) {
  constexpr std::size_t kBytes = 48, kHalf = 24;
  constexpr std::string_view kWhole = "daf4cabdc852baa0291849203f0b41fd0b4ecd58e0d7aff4a509f5de4d7f9a2e",
                             kFirst = "bb66a9cb4abb502bbc966828af0f70be5e61cb9eeb5e5ae37f78b0c6660e1b08";
  const ByteView logo = field(rom, gb_at::kLogo, kBytes);
  if (digest_of("sha256", logo) == kWhole) return Logo::right;
  return digest_of("sha256", field(logo, 0, kHalf)) == kFirst ? Logo::first_half : Logo::other;
}

std::uint32_t header_sum(ByteView rom) {
  std::uint32_t x = 0;
  for (std::size_t a = gb_at::kTitle; a < gb_at::kHeaderSum; ++a) x = (x - byte_at(rom, a) - 1) & 0xFF;
  return x;
}

std::uint32_t global_sum(ByteView rom) {
  return (byte_sum(rom) - byte_at(rom, gb_at::kGlobalSum) - byte_at(rom, gb_at::kGlobalSum + 1)) & 0xFFFF;
}

std::string yes_no(bool b) { return b ? "yes" : "no"; }

std::string mapper_text(const CartridgeType* type, unsigned code) {
  if (!type) return fmt::format("unknown ({:02X})", code);
  std::string text(type->mapper);
  for (const auto& [has, name] : {std::pair(type->ram, "RAM"), std::pair(type->battery, "battery"),
                                  std::pair(type->timer, "timer"), std::pair(type->rumble, "rumble")})
    if (has) text += std::string(" + ") + name;
  return text;
}

}  // namespace

Header read_game_boy(ByteView rom) {
  Header h;
  const unsigned colour = byte_at(rom, gb_at::kColour), old_maker = byte_at(rom, gb_at::kOldMaker),
                 code = byte_at(rom, gb_at::kType), ram_code = byte_at(rom, gb_at::kRamSize),
                 rom_code = byte_at(rom, gb_at::kRomSize), region = byte_at(rom, gb_at::kRegion);
  const bool is_colour = (colour & kColourBit) != 0, new_maker = old_maker == kNewMaker;
  const bool has_code = is_colour && new_maker && is_code(field(rom, gb_at::kCode, 4));
  const CartridgeType* type = type_of(code);
  const std::string cgb = !is_colour ? "no" : (colour & kColourOnly) != 0 ? "only" : "yes";

  h.title = text_field(rom, gb_at::kTitle, has_code ? 11 : is_colour ? 15 : 16);
  if (has_code) h.code = text_field(rom, gb_at::kCode, 4);
  h.maker = new_maker ? text_field(rom, gb_at::kMaker, 2) : hex_text(old_maker, 2);
  h.region = region == 0 ? "Japan" : region == 1 ? "outside Japan" : fmt::format("unknown ({:02X})", region);
  h.version = fmt::format("{}", byte_at(rom, gb_at::kVersion));
  h.logo = logo_of(rom);
  if (h.logo == Logo::first_half && cgb == "only") h.logo = Logo::right;  // that console reads no more of it

  FactList facts(h.facts);
  facts.hide("title", h.title);
  facts.hide("code", text_or_none(h.code));
  facts.hide("licensee", h.maker);
  facts.add("mapper", "Mapper", std::string(type ? type->mapper : "unknown"), mapper_text(type, code));
  facts.hide("type_code", code);
  facts.hide("has_ram", type && type->ram);
  facts.hide("has_battery", type && type->battery);
  facts.hide("has_timer", type && type->timer);
  facts.hide("has_rumble", type && type->rumble);
  facts.add("cgb", "Colour", cgb, cgb == "no" ? "no" : cgb == "only" ? "colour console only" : "both consoles");
  facts.hide("cgb_flag", colour);
  const bool super = byte_at(rom, gb_at::kSuper) == kSuperYes && new_maker;
  facts.add("sgb", super ? "Super GB" : "", super, yes_no(super));
  facts.hide("rom_code", rom_code);
  facts.hide("ram_code", ram_code);
  facts.hide("destination", region);
  facts.hide("version", byte_at(rom, gb_at::kVersion));
  facts.hide("header_checksum", byte_at(rom, gb_at::kHeaderSum));
  facts.hide("global_checksum", big_at(rom, gb_at::kGlobalSum, 2));

  h.checks.push_back(compare_sums("header_checksum", "the checksum of the header", header_sum(rom),
                                  byte_at(rom, gb_at::kHeaderSum), 2, false));
  h.checks.push_back(compare_sums("global_checksum", "the checksum of the whole ROM", global_sum(rom),
                                  big_at(rom, gb_at::kGlobalSum, 2), 4, true));
  h.declared_bytes = rom_bytes(rom_code);
  h.save.ram_bytes = ram_bytes(type, ram_code);
  h.save.bytes = type && !type->battery ? std::optional<std::uint64_t>(0) : h.save.ram_bytes;
  h.save.clock = type && type->timer;
  return h;
}

}  // namespace opifex::rom
