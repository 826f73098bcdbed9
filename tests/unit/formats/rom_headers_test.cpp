// Headers of each machine, field by field, and checksums computed here by other means than the program's.
#include <bit>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/formats/rom/rom.hpp"

#include "cartridges.hpp"

namespace opifex::rom {
namespace {

using namespace testkit;
using opifex::testkit::Random;

std::string text_fact(const Header& header, std::string_view key) {
  for (const HeaderFact& f : header.facts)
    if (f.key == key)
      if (const auto* text = std::get_if<std::string>(&f.value)) return *text;
  return "(none)";
}
std::uint64_t number_fact(const Header& header, std::string_view key) {
  for (const HeaderFact& f : header.facts)
    if (f.key == key)
      if (const auto* n = std::get_if<std::uint64_t>(&f.value)) return *n;
  return UINT64_MAX;
}
std::optional<bool> flag_fact(const Header& header, std::string_view key) {
  for (const HeaderFact& f : header.facts)
    if (f.key == key)
      if (const auto* b = std::get_if<bool>(&f.value)) return *b;
  return std::nullopt;
}
SumState state_of(const Header& header, std::string_view key) {
  for (const Checksum& sum : header.checks)
    if (sum.key == key) return sum.state;
  return SumState::not_checked;
}

// ---- Game Boy

class GameBoyHeader : public testing::Test {
 protected:
  Random random{81};
  Bytes rom = game_boy(random, 0);
  Header read() { return read_header(machine("gb"), *with_right_checksums(machine("gb"), rom)); }
  void set(std::size_t at, unsigned value) { Fields(rom).byte(at, value); }
};

TEST_F(GameBoyHeader, EverySizeCodeIsKnownAndNoOther) {
  for (unsigned code = 0; code <= 0xFF; ++code) {
    set(0x148, code);
    const auto declared = read().declared_bytes;
    if (code <= 8) {
      EXPECT_EQ(declared, std::uint64_t{32768} << code);
    } else if (code >= 0x52 && code <= 0x54) {
      constexpr std::array<std::uint64_t, 3> kBanks = {72, 80, 96};
      EXPECT_EQ(declared, kBanks[code - 0x52] * 16384);
    } else {
      EXPECT_FALSE(declared) << code;
    }
  }
}

TEST_F(GameBoyHeader, RamCodesTellTheSave) {
  constexpr std::array<std::uint64_t, 6> kKiB = {0, 2, 8, 32, 128, 64};
  for (unsigned code = 0; code < 8; ++code) {
    set(0x149, code);
    const Header h = read();
    if (code < kKiB.size()) {
      EXPECT_EQ(h.save.bytes, kKiB[code] * 1024) << code;
    } else {
      EXPECT_FALSE(h.save.bytes) << "nobody knows code " << code;
    }
  }
}

TEST_F(GameBoyHeader, ACodeIsReadOnlyWhereItCanBeOne) {
  put(rom, 0x134, "NINEBELLS");
  Fields(rom).bytes(0x134 + 9, ByteView(Bytes(7)));
  put(rom, 0x13F, "ZQNE");
  set(0x143, 0xC0);
  set(0x14B, 0x33);
  put(rom, 0x144, "PR");
  const Header colour = read();
  EXPECT_EQ(colour.title, "NINEBELLS");
  EXPECT_EQ(colour.code, "ZQNE");
  EXPECT_EQ(colour.maker, "PR");
  EXPECT_EQ(text_fact(colour, "cgb"), "only");
  set(0x14B, 0x01);  // an old maker: then it is a part of the title
  const Header old = read();
  EXPECT_EQ(old.code, "");
  EXPECT_EQ(old.maker, "01");
  set(0x14B, 0x33);
  set(0x13F, 'z');
  EXPECT_EQ(read().code, "") << "small letters are no code";
}

TEST_F(GameBoyHeader, WhatOnlyANewMakerMeansIsNotReadOtherwise) {
  set(0x146, 0x03);
  set(0x14B, 0x01);
  EXPECT_EQ(flag_fact(read(), "sgb"), false);
  set(0x14B, 0x33);
  EXPECT_EQ(flag_fact(read(), "sgb"), true);
}

// ---- SNES: the checksum by making the console's view of an odd chip whole

/// What the console sees: a chip that is no power of two repeats its rest until it is one.
Bytes seen_by_console(ByteView rom) {
  const std::size_t whole = std::bit_floor(rom.size());
  Bytes all(rom.begin(), rom.end());
  if (whole == rom.size()) return all;
  const Bytes rest = seen_by_console(rom.subspan(whole));
  all.resize(whole);
  while (all.size() < 2 * whole) all.insert(all.end(), rest.begin(), rest.end());
  return all;
}

TEST(SnesChecksum, IsThatOfWhatTheConsoleSees) {
  Random random(82);
  for (const std::size_t kib : {32u, 64u, 96u, 160u, 192u, 224u, 256u, 320u, 384u, 448u, 480u, 768u}) {
    const Bytes rom = snes(random, kib * 1024, 9);
    const Bytes seen = seen_by_console(rom);
    ASSERT_TRUE(std::has_single_bit(seen.size())) << kib;
    std::uint32_t sum = 0;
    for (const std::byte b : seen) sum += std::to_integer<std::uint32_t>(b);
    EXPECT_EQ(load_le16(rom, 0x7FDE), sum & 0xFFFF) << kib << " KiB";
    EXPECT_EQ(load_le16(rom, 0x7FDC) ^ load_le16(rom, 0x7FDE), 0xFFFF);
  }
}

TEST(SnesHeaders, ChipsAndMapsAreNamed) {
  Random random(83);
  struct Case {
    unsigned chips;
    bool ram, battery;
    const char* chip;
  };
  for (const Case& c :
       {Case{0x00, false, false, "(none)"}, Case{0x01, true, false, "(none)"}, Case{0x02, true, true, "(none)"},
        Case{0x03, false, false, "DSP"}, Case{0x13, false, false, "GSU"}, Case{0x15, true, true, "GSU"},
        Case{0x25, true, true, "OBC1"}, Case{0x35, true, true, "SA-1"}, Case{0x43, false, false, "S-DD1"},
        Case{0x55, true, true, "S-RTC"}, Case{0xE3, false, false, "other"}, Case{0xF6, false, true, "custom"}}) {
    Bytes rom = snes(random, 256 << 10, 8);
    Fields(rom).byte(0x7FD6, c.chips);
    const Header h = read_header(machine("snes"), *with_right_checksums(machine("snes"), rom));
    EXPECT_EQ(flag_fact(h, "has_ram"), c.ram) << c.chips;
    EXPECT_EQ(flag_fact(h, "has_battery"), c.battery) << c.chips;
    EXPECT_EQ(text_fact(h, "coprocessor"), c.chip) << c.chips;
    EXPECT_EQ(h.save.clock, std::string_view(c.chip) == "S-RTC");
  }
  for (const auto& [at, mode, layout] :
       {std::tuple(std::size_t{0x7FC0}, 0x20u, "LoROM"), std::tuple(std::size_t{0x7FC0}, 0x30u, "LoROM"),
        std::tuple(std::size_t{0xFFC0}, 0x21u, "HiROM"), std::tuple(std::size_t{0xFFC0}, 0x31u, "HiROM")}) {
    const Header h = read_header(machine("snes"), snes(random, 256 << 10, 8, at, mode));
    EXPECT_EQ(text_fact(h, "layout"), layout);
    EXPECT_EQ(flag_fact(h, "fast"), (mode & 0x10) != 0);
    EXPECT_EQ(number_fact(h, "header_offset"), at);
  }
}

// ---- Mega Drive

TEST(MegaDriveHeaders, ExtraMemoryIsCountedByItsLane) {
  Random random(84);
  struct Case {
    unsigned type, kind;
    std::uint32_t start, end;
    std::optional<std::uint64_t> ram, save;
    const char* lane;
  };
  for (const Case& c : {Case{0xF8, 0x20, 0x200001, 0x203FFF, 8192, 8192, "odd"},
                        Case{0xF0, 0x20, 0x200000, 0x203FFE, 8192, 8192, "even"},
                        Case{0xE0, 0x20, 0x200000, 0x203FFF, 16384, 16384, "both"},
                        Case{0xA0, 0x20, 0x200000, 0x203FFF, 16384, 0, "both"},
                        Case{0xE8, 0x40, 0x200001, 0x200001, std::nullopt, std::nullopt, ""},
                        Case{0xF8, 0x20, 0x203FFF, 0x200001, std::nullopt, std::nullopt, ""},
                        Case{0xF8, 0x20, 0, 0xFFFFFFFF, std::nullopt, std::nullopt, ""}}) {
    Bytes rom = megadrive(random, 128 << 10);
    put(rom, 0x1B0, "RA");
    Fields fields(rom);
    fields.byte(0x1B2, c.type);
    fields.byte(0x1B3, c.kind);
    fields.be(0x1B4, c.start, 4);
    fields.be(0x1B8, c.end, 4);
    const Header h = read_header(machine("megadrive"), rom);
    EXPECT_EQ(h.save.ram_bytes, c.ram) << c.type;
    EXPECT_EQ(h.save.bytes, c.save) << c.type;
    if (*c.lane != '\0') {
      EXPECT_EQ(text_fact(h, "extra_memory.lane"), c.lane);
    }
  }
}

TEST(MegaDriveHeaders, RegionsAreLettersOrADigit) {
  Random random(85);
  for (const auto& [letters, told] :
       {std::pair("JUE", "Japan, Americas, Europe"), std::pair("U", "Americas"), std::pair("E", "Europe"),
        std::pair("4", "Americas"), std::pair("5", "Japan, Americas"), std::pair("F", "Japan, Americas, Europe")}) {
    Bytes rom = megadrive(random, 64 << 10);
    put(rom, 0x1F0, letters);
    EXPECT_EQ(read_header(machine("megadrive"), rom).region, told) << letters;
  }
}

TEST(MegaDriveHeaders, ARomEndBeyondTheFileIsTooShortAndOneThatIsNoneIsNoSize) {
  Random random(86);
  Bytes rom = megadrive(random, 64 << 10);
  Fields(rom).be(0x1A4, 0x1FFFF, 4);
  Fields(rom).be(0x18E, load_be16(rom, 0x18E) ^ 1u, 2);  // else zeros behind it would make it right
  const Header longer = read_header(machine("megadrive"), rom);
  EXPECT_EQ(longer.declared_bytes, 0x20000u);
  EXPECT_EQ(judge_size(machine("megadrive"), rom, longer).status, SizeStatus::underdump);
  for (const std::uint32_t end : {0u, 0x1FFu, 0xFFFEu, 0x1000001u, 0xFFFFFFFFu}) {
    Fields(rom).be(0x1A4, end, 4);
    EXPECT_FALSE(read_header(machine("megadrive"), rom).declared_bytes) << end;
  }
}

TEST(MegaDriveHeaders, AnOddLastByteCountsAsTheHighOne) {
  Random random(87);
  Bytes rom = megadrive(random, 64 << 10);
  Fields(rom).be(0x1A4, 0, 4);  // no size: all of it is summed
  rom.resize(rom.size() - 1);
  std::uint32_t sum = 0;
  for (std::size_t i = 0x200; i < rom.size(); ++i)
    sum += std::to_integer<std::uint32_t>(rom[i]) << (i % 2 == 0 ? 8 : 0);
  Fields(rom).be(0x18E, sum & 0xFFFF, 2);
  EXPECT_EQ(state_of(read_header(machine("megadrive"), rom), "checksum"), SumState::right);
}

// ---- N64: each way to sum, by another program text than the one under test

struct Way {
  const char* id;
  std::uint32_t seed;
};
std::pair<std::uint32_t, std::uint32_t> n64_sums(const Bytes& rom, const Way& way) {
  std::array<std::uint64_t, 7> t{};
  t.fill(way.seed);
  const auto cut = [](std::uint64_t x) { return x & 0xFFFFFFFFu; };
  const std::string_view id = way.id;
  for (std::size_t i = 0x1000; i < 0x101000; i += 4) {
    const std::uint64_t d = load_be32(rom, i);
    if (t[6] + d > 0xFFFFFFFFu) t[4] = cut(t[4] + 1);
    t[6] = cut(t[6] + d);
    t[3] ^= d;
    const unsigned by = static_cast<unsigned>(d & 31);
    const std::uint64_t r = by == 0 ? d : cut(d << by) | d >> (32 - by);
    t[5] = cut(t[5] + r);
    if (t[2] > d)
      t[2] ^= r;
    else
      t[2] ^= t[6] ^ d;
    t[1] = cut(t[1] + (id == "6105" ? load_be32(rom, 0x750 + (i & 0xFF)) ^ d : t[5] ^ d));
  }
  std::uint64_t a = t[6] ^ t[4] ^ t[3], b = t[5] ^ t[2] ^ t[1];
  if (id == "6103") a = (t[6] ^ t[4]) + t[3], b = (t[5] ^ t[2]) + t[1];
  if (id == "6106") a = t[6] * t[4] + t[3], b = t[5] * t[2] + t[1];
  return {static_cast<std::uint32_t>(cut(a)), static_cast<std::uint32_t>(cut(b))};
}

TEST(N64Checksums, EveryWayIsFoundByWhatItGives) {
  Random random(88);
  Bytes rom = n64(random, 0x101000);
  for (const Way& way :
       {Way{"6102", 0xF8CA4DDC}, Way{"6103", 0xA3886759}, Way{"6105", 0xDF26F436}, Way{"6106", 0x1FEA617A}}) {
    const auto [a, b] = n64_sums(rom, way);
    Fields(rom).be(0x10, a, 4);
    Fields(rom).be(0x14, b, 4);
    const Header h = read_header(machine("n64"), rom);
    EXPECT_EQ(state_of(h, "crc"), SumState::right) << way.id;
    EXPECT_EQ(text_fact(h, "crc_variant"), way.id);
    Bytes flipped = rom;
    flipped[0x5000] ^= std::byte{1};
    EXPECT_EQ(state_of(read_header(machine("n64"), flipped), "crc"), SumState::not_checked)
        << "the boot code is unknown: nobody can tell a wrong sum from another way to sum";
  }
}

// ---- Master System

TEST(MasterSystemHeaders, TheSumCoversWhatTheSizeSaysAndLeavesTheHeaderOut) {
  Random random(89);
  struct Case {
    unsigned code;
    std::size_t kib;
  };
  for (const Case& c : {Case{0xA, 8}, Case{0xB, 16}, Case{0xC, 32}, Case{0xE, 64}, Case{0xF, 128}, Case{0x0, 256}}) {
    const std::size_t bytes = c.kib * 1024, at = c.kib == 8 ? 0x1FF0 : c.kib == 16 ? 0x3FF0 : 0x7FF0;
    const Bytes rom = master_system(random, bytes, c.code, at);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < bytes; ++i) {
      const bool small = c.kib <= 48;
      const bool left_out = small ? i >= bytes - 16 : i >= 0x7FF0 && i < 0x8000;
      if (!left_out) sum += std::to_integer<std::uint32_t>(rom[i]);
    }
    EXPECT_EQ(load_le16(rom, at + 0xA), sum & 0xFFFF) << c.kib;
    const Header h = read_header(machine("sms"), rom);
    EXPECT_EQ(h.declared_bytes, bytes);
    EXPECT_EQ(state_of(h, "checksum"), SumState::right);
    const Header cut = read_header(machine("sms"), ByteView(rom).first(bytes - 1));
    EXPECT_NE(state_of(cut, "checksum"), SumState::right) << "what is not there cannot have been summed";
  }
}

TEST(MasterSystemHeaders, ASumThatCoversItselfIsNotPutRight) {
  // Of 48 KiB the header lies within what is summed.
  Random random(92);
  Bytes rom = random.bytes(48 << 10);
  put(rom, 0x7FF0, "TMR SEGA");
  Fields(rom).byte(0x7FFF, 0x4D);
  EXPECT_EQ(read_header(machine("sms"), rom).declared_bytes, 48u << 10);
  EXPECT_FALSE(with_right_checksums(machine("sms"), rom)) << "rather none than one that is wrong";
}

TEST(MasterSystemHeaders, ProductAndRegionAreRead) {
  Random random(90);
  Bytes rom = master_system(random, 32 << 10, 0xC, 0x7FF0);
  Fields fields(rom);
  fields.byte(0x7FFC, 0x23);
  fields.byte(0x7FFD, 0x01);
  fields.byte(0x7FFE, 0x53);
  const Header h = read_header(machine("sms"), rom);
  EXPECT_EQ(h.code, "50123");
  EXPECT_EQ(h.version, "3");
  EXPECT_EQ(h.region, "Master System, export");
  fields.byte(0x7FFF, 0x7C);
  EXPECT_EQ(read_header(machine("gg"), rom).region, "Game Gear, international");
}

// ---- what readers see

TEST(BusHeaders, AreTakenOnlyWhereTheyAreSound) {
  Random random(91);
  const Bytes gb = game_boy(random, 1), md = megadrive(random, 64 << 10), advance = gba(random, 64 << 10),
              cart64 = n64(random, 1 << 20), sega = master_system(random, 32 << 10, 0xC, 0x7FF0),
              nintendo = snes(random, 256 << 10, 8);
  const auto part = [](const Bytes& rom, std::size_t at, std::size_t n, std::uint32_t bus) {
    return BusHeader{
        bus, Bytes(rom.begin() + static_cast<std::ptrdiff_t>(at), rom.begin() + static_cast<std::ptrdiff_t>(at + n))};
  };
  const std::vector<std::pair<std::string_view, BusHeader>> all = {
      {"gb", part(gb, 0, 0x150, 0)},           {"megadrive", part(md, 0, 0x200, 0)},
      {"gba", part(advance, 0, 0xC0, 0)},      {"n64", part(cart64, 0, 0x40, 0)},
      {"sms", part(sega, 0x7FF0, 16, 0x7FF0)}, {"snes", part(nintendo, 0x7FB0, 0x50, 0xFFB0)}};
  for (const auto& [id, raw] : all) {
    EXPECT_TRUE(read_bus_header(machine(id), raw)) << id;
    for (const auto& [other, header] : all)
      if (other != id) {
        EXPECT_FALSE(read_bus_header(machine(id), header)) << other << " taken for " << id;
      }
    EXPECT_FALSE(read_bus_header(machine(id), {raw.at, Bytes(raw.bytes.size(), std::byte{0xFF})})) << id;
    EXPECT_FALSE(read_bus_header(machine(id), {raw.at, {}})) << id;
    EXPECT_FALSE(read_bus_header(machine(id), {0xFFFFFFF0, raw.bytes})) << "no memory is made for a hostile address";
    // One bit of the summed part.
    if (id != "gb" && id != "gba") continue;
    BusHeader flipped = raw;
    flipped.bytes[id == "gb" ? 0x13A : 0xA5] ^= std::byte{4};
    EXPECT_FALSE(read_bus_header(machine(id), flipped)) << id;
  }
  EXPECT_FALSE(read_bus_header(machine("nes"), all[0].second)) << "those cartridges have none";
}

}  // namespace
}  // namespace opifex::rom
