// ROMs made here, so that the truth is known: chips of every size read in every wrong way, lines that stick, headers of
// every kind.
#include "opifex/core/formats/rom/rom.hpp"

#include <bit>

#include <gtest/gtest.h>

#include "opifex/core/formats/rom/convert.hpp"

#include "cartridges.hpp"
#include "testkit.hpp"

namespace opifex::rom {
namespace {

using namespace testkit;
using opifex::testkit::Random;

Examined examine_rom(std::string_view id, ByteView rom) {
  const SourcePtr file = memory_source(Bytes(rom.begin(), rom.end()), "a.rom");
  const Container container = container_of(*file, find_machine(id));
  return examine(find_machine(id), container, read_rom(*file, container));
}

Bytes times(const Bytes& chip, std::size_t n) {
  Bytes all;
  for (std::size_t i = 0; i < n; ++i) all.insert(all.end(), chip.begin(), chip.end());
  return all;
}

Bytes filled(Bytes chip, std::size_t size, unsigned value) {
  chip.resize(size, static_cast<std::byte>(value));
  return chip;
}

TEST(RomSizes, AChipThatWasReadTooFarIsFoundAndCutToItself) {
  Random random(18);
  for (int round = 0; round < 60; ++round) {
    const unsigned code = static_cast<unsigned>(random.below(4));
    const Bytes chip = game_boy(random, code);
    const std::size_t n = std::size_t{2} << random.below(3);
    const std::uint64_t how = random.below(3);
    const Bytes read = how == 0   ? times(chip, n)
                       : how == 1 ? filled(chip, chip.size() * n, 0xFF)
                                  : filled(chip, chip.size() * n, 0);
    const Examined rom = examine_rom("gb", read);
    ASSERT_EQ(rom.size.status, SizeStatus::overdump) << chip.size() << " x " << n << ", " << how;
    ASSERT_EQ(rom.size.true_bytes, chip.size());
    EXPECT_TRUE(rom.right_at_true_size);
    EXPECT_TRUE(rom.faults.empty());
    const RomContent content{memory_source(read, "over.gb"), "gb"};
    Settings settings;
    settings.set(*find_setting(write_settings(), "trim"), "");
    const Converted cut = convert(content, settings);
    EXPECT_EQ(cut.rom, chip) << "exactly the chip";
    ASSERT_EQ(cut.losses.size(), 1u);
    EXPECT_EQ(cut.losses[0].kind, "padding");
  }
}

TEST(RomSizes, DataBehindTheEndIsNeverCutOff) {
  Random random(19);
  for (int round = 0; round < 40; ++round) {
    const Bytes chip = game_boy(random, 0);
    // Filler and repetitions with a single byte of something else in them.
    Bytes read = round % 2 == 0 ? times(chip, 2) : filled(chip, 2 * chip.size(), round % 4 == 1 ? 0xFF : 0);
    const std::size_t at = chip.size() + random.below(chip.size());
    read[at] ^= std::byte{static_cast<unsigned char>(1u << random.below(8))};
    const Examined rom = examine_rom("gb", read);
    ASSERT_EQ(rom.size.status, SizeStatus::oversize) << at;
    Settings settings;
    settings.set(*find_setting(write_settings(), "trim"), "");
    EXPECT_EQ(convert({memory_source(read, "over.gb"), "gb"}, settings).rom, read);
  }
}

TEST(RomSizes, ACutRomIsTooShortAndATrimmedOneComesBack) {
  Random random(20);
  for (int round = 0; round < 40; ++round) {
    Bytes chip = game_boy(random, 1);
    const std::size_t cut = 0x150 + random.below(chip.size() - 0x150);
    const bool trimmed = round % 2 == 0;
    const unsigned fill = round % 4 == 0 ? 0xFF : 0;
    if (trimmed) {
      std::fill(chip.begin() + static_cast<std::ptrdiff_t>(cut), chip.end(), static_cast<std::byte>(fill));
      chip = *with_right_checksums(machine("gb"), chip);
    }
    const ByteView read = ByteView(chip).first(cut);
    const Examined rom = examine_rom("gb", read);
    EXPECT_EQ(rom.size.status, trimmed ? SizeStatus::trimmed : SizeStatus::underdump) << cut;
    if (!trimmed) continue;
    Settings settings;
    settings.set(*find_setting(write_settings(), "pad"), fill == 0 ? "00" : "ff");
    const RomContent content{memory_source(Bytes(read.begin(), read.end()), "cut.gb"), "gb"};
    const Converted padded = convert(content, settings);
    EXPECT_EQ(padded.rom, chip);
    EXPECT_TRUE(padded.warnings.empty()) << "the checksum confirms it";
  }
}

TEST(RomSizes, WithoutASizeInTheHeaderOnlyWhatShowsIsSaid) {
  Random random(21);
  const Bytes chip = gba(random, 64 << 10);
  EXPECT_EQ(examine_rom("gba", chip).size.status, SizeStatus::plausible);
  EXPECT_EQ(examine_rom("gba", times(chip, 4)).size.true_bytes, chip.size());
  Bytes open_bus = filled(chip, 256 << 10, 0);
  for (std::size_t a = chip.size(); a < open_bus.size(); a += 2) Fields(open_bus).le(a, a / 2 & 0xFFFF, 2);
  const Examined past = examine_rom("gba", open_bus);
  EXPECT_EQ(past.size.filler, Filler::open_bus);
  EXPECT_EQ(past.size.true_bytes, chip.size());
  const Examined run = examine_rom("gba", filled(chip, 256 << 10, 0xFF));
  EXPECT_EQ(run.size.status, SizeStatus::possible_overdump);
  EXPECT_FALSE(run.size.can_be_trimmed()) << "a chip may end in a long run: nothing proves the contrary";
  EXPECT_EQ(examine_rom("gba", ByteView(chip).first(48 << 10)).size.status, SizeStatus::odd_size);
  // A chip that ends in FF, within the size that its header tells: that belongs to it.
  Bytes ends_in_ff = game_boy(random, 2);
  std::fill(ends_in_ff.begin() + 0x4000, ends_in_ff.end(), std::byte{0xFF});
  const Examined whole = examine_rom("gb", *with_right_checksums(machine("gb"), ends_in_ff));
  EXPECT_EQ(whole.size.status, SizeStatus::exact);
  EXPECT_TRUE(whole.is_confirmed());
}

TEST(RomSizes, ATopLineWithoutContactIsAMirrorAndNoSmallerChip) {
  Random random(22);
  const Bytes chip = game_boy(random, 2);
  Bytes read = chip;
  std::copy_n(chip.begin(), 64 << 10, read.begin() + (64 << 10));
  const Examined rom = examine_rom("gb", read);
  EXPECT_EQ(rom.size.status, SizeStatus::mirrored);
  EXPECT_FALSE(rom.is_confirmed());
  EXPECT_FALSE(rom.size.can_be_trimmed()) << "half of the data is not there: nothing may make it look whole";
}

TEST(RomSizes, ThreeMebibytesAreRightWhereTheHeaderSaysFour) {
  Random random(23);
  const Bytes chip = snes(random, 3 << 20, 12);
  const Examined rom = examine_rom("snes", chip);
  EXPECT_EQ(rom.size.status, SizeStatus::exact);
  EXPECT_TRUE(rom.is_confirmed());
  Bytes tail = chip;
  tail.insert(tail.end(), chip.begin() + (2 << 20), chip.end());
  const Examined over = examine_rom("snes", tail);
  EXPECT_EQ(over.size.filler, Filler::tail_mirror);
  EXPECT_EQ(over.size.true_bytes, chip.size());
  Bytes flipped = chip;
  flipped[12345] ^= std::byte{4};
  EXPECT_EQ(examine_rom("snes", flipped).size.status, SizeStatus::underdump) << "nothing confirms the shorter size";
}

/// One of every machine, right in all that its kind lets one know.
std::vector<std::pair<std::string_view, Bytes>> good_roms() {
  Random random(24);
  return {{"gb", game_boy(random, 1)},
          {"snes", snes(random, 256 << 10, 8)},
          {"snes", snes(random, 512 << 10, 9, 0xFFC0, 0x21)},
          {"megadrive", megadrive(random, 128 << 10)},
          {"gba", gba(random, 256 << 10)},
          {"n64", n64(random, 2 << 20)},
          {"sms", master_system(random, 32 << 10, 0xC, 0x7FF0)},
          {"sms", master_system(random, 16 << 10, 0xB, 0x3FF0)},
          {"sms", master_system(random, 8 << 10, 0xA, 0x1FF0)}};
}

TEST(RomFaults, GoodRomsHaveNone) {
  for (const auto& [id, rom] : good_roms()) {
    const Examined found = examine_rom(id, rom);
    EXPECT_TRUE(problems_of(found).empty()) << id << ": " << problems_of(found).front().message;
    const SourcePtr file = memory_source(rom, "rom");
    const auto system = detect_system(*file);
    ASSERT_TRUE(system) << id;
    EXPECT_EQ(system->machine->id, id);
  }
}

TEST(RomFaults, LinesThatStickAreNamedOneOrTwoAtOnce) {
  Random random(25);
  for (const auto& [id, good] : good_roms()) {
    const BusOrder bus = machine(id).bus;
    const unsigned width = bus == BusOrder::bytes ? 8 : 16;
    for (int round = 0; round < 12; ++round) {
      Bytes rom = good;
      std::set<std::string> wanted;
      for (std::uint64_t lines = 1 + random.below(2); wanted.size() < lines;) {
        const auto bit = static_cast<unsigned>(random.below(width));
        const bool high = random.below(2) == 1;
        if (wanted.contains(fmt::format("data-bit-{}:{}", high ? "low" : "high", bit))) continue;
        wanted.insert(fmt::format("data-bit-{}:{}", high ? "high" : "low", bit));
        // Which byte of a word has it.
        const std::size_t lane = bus == BusOrder::big ? (bit < 8 ? 1 : 0) : bit / 8;
        const auto mask = static_cast<unsigned char>(1u << bit % 8);
        for (std::size_t at = lane; at < rom.size(); at += width / 8)
          rom[at] = high ? rom[at] | std::byte{mask} : rom[at] & ~std::byte{mask};
      }
      const auto faults = read_faults(find_machine(id), rom);
      EXPECT_EQ(std::set<std::string>(faults.begin(), faults.end()), wanted) << id;
    }
  }
}

TEST(RomFaults, AnAddressLineWithoutEffectIsNamed) {
  Random random(26);
  for (const auto& [id, good] : good_roms()) {
    const unsigned first = machine(id).bus == BusOrder::bytes ? 0 : 1,
                   top = static_cast<unsigned>(std::bit_width(good.size())) - 1;
    for (unsigned bit = first; bit + 1 < top; ++bit) {
      Bytes rom = good;
      for (std::size_t at = 0; at < rom.size(); ++at) rom[at] = good[at & ~(std::size_t{1} << bit)];
      const auto faults = read_faults(find_machine(id), rom);
      EXPECT_EQ(faults, std::vector<std::string>{fmt::format("address-bit:{}", bit)}) << id;
    }
  }
}

TEST(RomFaults, ABlankReadingIsToldAlone) {
  for (const auto& [value, told] : {std::pair(0xFF, "all-ff"), std::pair(0, "all-00"), std::pair(0x5A, "all-same:5A")})
    for (const Machine& m : machines()) {
      const Examined rom = examine_rom(m.id, Bytes(64 << 10, static_cast<std::byte>(value)));
      if (m.id == "nes") continue;  // without its header it has no areas
      EXPECT_EQ(rom.faults, std::vector<std::string>{told}) << m.id;
      EXPECT_TRUE(rom.is_blank());
      EXPECT_EQ(problems_of(rom).size(), 1u);
    }
}

TEST(RomFaults, AMajorityOfThreeOrFiveReadingsIsTheChip) {
  Random random(27);
  const Bytes chip = game_boy(random, 0);
  for (const std::size_t reads : {3u, 5u}) {
    std::vector<Bytes> all(reads, chip);
    // Each byte is wrong in fewer than half of them.
    for (std::size_t i = 0; i < 500; ++i) {
      const std::size_t at = random.below(chip.size());
      for (Bytes& read : all) read[at] = chip[at];
      for (std::size_t bad = 0; bad < reads / 2; ++bad) all[(i + bad) % reads][at] ^= std::byte{0x20};
    }
    const Repeats found = compare_reads(find_machine("gb"), all);
    EXPECT_EQ(found.majority, chip) << reads;
    EXPECT_EQ(found.bit_mask, 0x20u);
  }
  EXPECT_FALSE(compare_reads(find_machine("gb"), {chip, chip}).majority) << "two can never be merged";
  EXPECT_FALSE(compare_reads(find_machine("gb"), {chip, chip, chip, chip}).majority);
  EXPECT_EQ(error_code([&] { compare_reads(find_machine("gb"), {chip, Bytes(7)}); }), "other_length");
}

TEST(RomHeaders, EveryChecksumIsPutRightAndFoundWrong) {
  Random random(28);
  for (const auto& [id, good] : good_roms()) {
    if (id == "n64") continue;  // its boot code is made up: no sum is known
    for (int round = 0; round < 20; ++round) {
      Bytes rom = good;
      const std::size_t at = id == "gba" ? 0xA0 + random.below(16) : 0x200 + random.below(rom.size() - 0x200);
      rom[at] ^= std::byte{1};
      const Examined bad = examine_rom(id, rom);
      const bool sum_wrong = std::any_of(bad.header.checks.begin(), bad.header.checks.end(),
                                         [](const Checksum& c) { return c.state == SumState::wrong; });
      // What is no part of the sum: the last bytes of a small Master System ROM, where its header is.
      const bool summed = id != "sms" || at < rom.size() - 16;
      EXPECT_TRUE(sum_wrong || !summed) << id << " " << at;
      const auto fixed = with_right_checksums(machine(id), rom);
      ASSERT_TRUE(fixed);
      for (const Checksum& sum : read_header(machine(id), *fixed).checks)
        EXPECT_NE(sum.state, SumState::wrong) << id << " " << sum.key << " at " << at;
    }
  }
}

TEST(RomHeaders, EveryTypeOfGameBoyCartridgeTellsItsMemory) {
  Random random(29);
  struct Type {
    unsigned code;
    std::uint64_t ram, save;
    bool clock;
  };
  constexpr std::uint64_t k8 = 8192;
  for (const Type& t :
       {Type{0x00, 0, 0, false}, Type{0x08, k8, 0, false}, Type{0x09, k8, k8, false}, Type{0x01, 0, 0, false},
        Type{0x03, k8, k8, false}, Type{0x05, 512, 0, false}, Type{0x06, 512, 512, false}, Type{0x0F, 0, 0, true},
        Type{0x10, k8, k8, true}, Type{0x13, k8, k8, false}, Type{0x1B, k8, k8, false}, Type{0x1D, k8, 0, false},
        Type{0x22, 256, 256, false}, Type{0xFE, k8, k8, true}, Type{0xFF, k8, k8, false}}) {
    const Header h = read_header(machine("gb"), game_boy(random, 0, t.code));
    EXPECT_EQ(h.save.ram_bytes, t.ram) << t.code;
    EXPECT_EQ(h.save.bytes, t.save) << t.code;
    EXPECT_EQ(h.save.clock, t.clock) << t.code;
  }
  const Header strange = read_header(machine("gb"), game_boy(random, 0, 0x44));
  EXPECT_FALSE(strange.save.bytes) << "nobody knows";
}

TEST(RomHeaders, AHeaderLikeOneInAnotherPlaceDoesNotWin) {
  Random random(30);
  Bytes rom = snes(random, 512 << 10, 9);
  // The second bank looks like a HiROM header, but for its checksum.
  put(rom, 0xFFC0, "LOOKS LIKE A TITLE   ");
  Fields(rom).byte(0xFFD5, 0x21);
  rom = *with_right_checksums(machine("snes"), rom);
  const Header h = read_header(machine("snes"), rom);
  EXPECT_EQ(h.title, "KESTREL CIRCUIT");
}

TEST(RomHeaders, HalfWidthKanaAreShownAsSuch) {
  Random random(31);
  Bytes rom = snes(random, 256 << 10, 8);
  put(rom, 0x7FC0, "\xB6\xC5               ");
  EXPECT_EQ(read_header(machine("snes"), rom).title, "\xEF\xBD\xB6\xEF\xBE\x85");
}

Bytes nes(std::size_t program, std::size_t character, Random& random) {
  Bytes file(16);
  put(file, 0, "NES\x1A");
  Fields(file).byte(4, static_cast<unsigned>(program >> 14));
  Fields(file).byte(5, static_cast<unsigned>(character >> 13));
  const Bytes chips = random.bytes(program + character);
  file.insert(file.end(), chips.begin(), chips.end());
  return file;
}

TEST(RomHeaders, NesAreasMayHaveOddSizesAndNeverImpossibleOnes) {
  Random random(32);
  Bytes file = nes(32 << 10, 8 << 10, random);
  EXPECT_EQ(examine_rom("nes", file).size.status, SizeStatus::exact);
  EXPECT_EQ(examine_rom("nes", ByteView(file).first(file.size() - 1)).size.status, SizeStatus::underdump);
  // Version 2, a program of 2^10 * 3 bytes, no character ROM.
  Bytes odd(16);
  put(odd, 0, "NES\x1A");
  Fields fields(odd);
  fields.byte(4, 10 << 2 | 1);
  fields.byte(7, 0x08);
  fields.byte(9, 0x0F);
  const Bytes program = random.bytes(3072);
  odd.insert(odd.end(), program.begin(), program.end());
  EXPECT_EQ(examine_rom("nes", odd).size.status, SizeStatus::exact);
  Fields(odd).byte(4, 0xFF);  // 2^63 * 7
  const Examined huge = examine_rom("nes", odd);
  EXPECT_EQ(huge.size.status, SizeStatus::unknown);
  EXPECT_FALSE(problems_of(huge).empty());
}

TEST(RomHeaders, AnN64RomIsSummedFromExactlyItsFirstMebibyteOn) {
  Random random(33);
  for (const std::size_t bytes : {0x100FFCu, 0x101000u}) {
    const Header h = read_header(machine("n64"), n64(random, bytes));
    ASSERT_EQ(h.checks.size(), 1u);
    EXPECT_EQ(h.checks[0].state, SumState::not_checked);
    EXPECT_EQ(h.checks[0].why_not.find("shorter") != std::string::npos, bytes < 0x101000);
  }
}

TEST(RomHeaders, AnyBytesOfAnyLengthAreReadWithinThemselves) {
  Random random(34);
  for (int round = 0; round < 400; ++round) {
    const Bytes noise = random.bytes(random.below(round % 4 == 0 ? 0x1'2000 : 0x400));
    for (const Machine& m : machines()) {
      const Examined rom = examine_rom(m.id, noise);
      EXPECT_EQ(rom.machine, &m);
      EXPECT_LE(rom.rom_bytes, noise.size());
    }
  }
}

TEST(RomContainers, EveryKindThereAndBackIsTheSameBytes) {
  for (const auto& [id, rom] : good_roms()) {
    const Machine& m = machine(id);
    std::vector<Container> kinds = {{}};
    if (m.copier_header) kinds.push_back({.header_bytes = kCopierHeader});
    if (m.has_byte_orders())
      kinds.push_back({.order = ByteOrder::swapped}), kinds.push_back({.order = ByteOrder::little});
    if (id == "megadrive") kinds.push_back({.header_bytes = kCopierHeader, .interleaved = true});
    for (const Container& kind : kinds) {
      const Bytes header = kind.header_bytes == 0 ? Bytes() : copier_header(rom.size(), kind, m);
      const Bytes file = packed(rom, kind, header);
      const SourcePtr source = memory_source(file, "packed");
      const auto system = detect_system(*source);
      ASSERT_TRUE(system) << id;
      EXPECT_EQ(system->machine, &m);
      const Container found = container_of(*source, &m);
      EXPECT_EQ(found.header_bytes, kind.header_bytes) << id;
      EXPECT_EQ(found.interleaved, kind.interleaved);
      EXPECT_EQ(found.order, kind.order);
      EXPECT_EQ(read_rom(*source, found), rom) << id;
    }
  }
}

TEST(RomContainers, AnInterleavedFileWithoutMarksIsKnownByWhatItHolds) {
  Random random(35);
  const Container kind{.header_bytes = kCopierHeader, .interleaved = true};
  const Bytes rom = megadrive(random, 64 << 10), file = packed(rom, kind, Bytes(kCopierHeader));
  const SourcePtr source = memory_source(file, "a.smd");
  EXPECT_TRUE(container_of(*source, find_machine("megadrive")).interleaved);
  EXPECT_EQ(detect_system(*source)->machine->id, "megadrive");
  EXPECT_EQ(error_code([&] { packed(ByteView(rom).first(rom.size() - 2), kind, {}); }), "odd_size");
}

}  // namespace
}  // namespace opifex::rom
