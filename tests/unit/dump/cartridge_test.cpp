// A cartridge in a reader: what is found out before it is read, and what is claimed afterwards.
#include "opifex/core/dump/cartridge.hpp"

#include <gtest/gtest.h>

#include "opifex/core/dump/sim_port.hpp"

#include "cartridge_trial.hpp"
#include "cartridges.hpp"

namespace opifex::dump {
namespace {

using namespace testkit;

class CartridgeDumping : public testing::Test {
 protected:
  Random random{41};
  const Bytes chip = game_boy(random, 1), save = random.bytes(8192);

  CartridgeRequest request() const {
    CartridgeRequest r;
    r.out = folder.path() / "out/";
    return r;
  }
  CartridgeResult dump(std::vector<ReaderFault> faults, CartridgeRequest r) {
    SimReader reader({.rom = chip, .save = save, .faults = std::move(faults)});
    SimLink link(reader);
    CartridgeDump dumping(std::move(r), link, {});
    dumping.check_plan();
    QuietContext context;
    plan = dumping.plan();
    return dumping.run(context);
  }
  CartridgeResult dump(std::vector<ReaderFault> faults = {}) { return dump(std::move(faults), request()); }
  std::string code(std::vector<ReaderFault> faults) {
    return error_code([&] { dump(std::move(faults)); });
  }
  std::size_t files() const { return fs::exists(folder / "out") ? listing(folder / "out").size() : 0; }

  CartridgePlan plan;
  TempFolder folder;
};

TEST_F(CartridgeDumping, ACleanOneIsProvedWithItsSaveBesideIt) {
  const CartridgeResult result = dump();
  EXPECT_EQ(result.verdict, CartridgeVerdict::proved);
  EXPECT_EQ(plan.machine->id, "gb");
  EXPECT_EQ(plan.rom_bytes, chip.size());
  EXPECT_EQ(plan.sized_by, "the header");
  EXPECT_EQ(read_file(folder / "out/QUARRY.gb"), as_text(chip));
  EXPECT_EQ(read_file(folder / "out/QUARRY.sav"), as_text(save));
  EXPECT_EQ(files(), 2u) << "no working file is left";
  EXPECT_EQ(error_code([&] { dump(); }), "exists") << "nothing is ever written over";
}

TEST_F(CartridgeDumping, OnlyThePartThatIsWanted) {
  CartridgeRequest r = request();
  r.part = CartridgePart::save;
  EXPECT_EQ(dump({}, r).verdict, CartridgeVerdict::agreed) << "a save has no checksum";
  EXPECT_EQ(files(), 1u);
  r.part = CartridgePart::rom;
  EXPECT_EQ(dump({}, r).verdict, CartridgeVerdict::proved);
  EXPECT_EQ(files(), 2u);
}

TEST_F(CartridgeDumping, AHeaderThatCannotBeReadIsAdvice) {
  try {
    dump({{"no-contact", ""}});
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::device);
    EXPECT_EQ(e.details.code, "unreadable_header");
    EXPECT_NE(e.details.hint.find("isopropyl"), std::string::npos);
  }
  EXPECT_EQ(code({{"dirty", "3=0.2"}}), "unreadable_header") << "it comes out otherwise each time";
  // Whatever the end, the power is off.
  SimReader reader({.rom = chip, .faults = {{"no-contact", ""}}});
  SimLink link(reader);
  EXPECT_NE(error_code([&] { CartridgeDump(request(), link, {}); }), "");
  reader.receive(as_view(ocr1::line_of(9, "STATE")), link.now_ms());
  EXPECT_NE(as_text(reader.send(link.now_ms() + 1000, 4096)).find("power=off"), std::string_view::npos);
  EXPECT_EQ(files(), 0u);
}

TEST_F(CartridgeDumping, ContactsThatFlickerAreTold) {
  const CartridgeResult result = dump({{"dirty", "5=0.00005"}});
  EXPECT_EQ(result.verdict, CartridgeVerdict::unsure);
  EXPECT_GT(result.unstable.bytes, 0u);
  EXPECT_EQ(result.unstable.data_bits, 0x20u);
  EXPECT_FALSE(result.unstable.first_offsets.empty());
}

TEST_F(CartridgeDumping, AStuckLineIsNamedAndNeverProved) {
  // The header is read through it, too: the user says what it is.
  CartridgeRequest r = request();
  r.machine = rom::find_machine("gb");
  r.rom_bytes = chip.size();
  const CartridgeResult result = dump({{"stuck-data", "3=1"}}, r);
  EXPECT_EQ(result.verdict, CartridgeVerdict::damaged);
  EXPECT_TRUE(std::any_of(result.warnings.begin(), result.warnings.end(),
                          [](const Warning& w) { return w.code == "data-bit-high:3"; }));
  const CartridgeResult line = dump({{"stuck-address", "9"}}, [&] {
    CartridgeRequest other = request();
    other.out = folder.path() / "other.gb";
    return other;
  }());
  EXPECT_EQ(line.verdict, CartridgeVerdict::damaged);
}

TEST_F(CartridgeDumping, PulledInTheMiddleItGoesOnWhereItStopped) {
  EXPECT_EQ(code({{"unplug", "40000"}}), "cart_lost");
  for (const auto& [name, size] : listing(folder / "out")) EXPECT_NE(name.find(".opifex-"), std::string::npos) << name;
  const CartridgeResult result = dump();
  EXPECT_TRUE(result.resumed);
  EXPECT_EQ(result.verdict, CartridgeVerdict::proved);
  EXPECT_EQ(read_file(folder / "out/QUARRY.gb"), as_text(chip));
  EXPECT_EQ(files(), 2u);
}

TEST_F(CartridgeDumping, AnotherCartridgeIsNotMixedIntoAnUnfinishedOne) {
  EXPECT_EQ(code({{"unplug", "40000"}}), "cart_lost");
  Random other(77);
  const Bytes second = game_boy(other, 1);
  SimReader reader({.rom = second, .save = save});
  SimLink link(reader);
  CartridgeDump dumping(request(), link, {});
  EXPECT_FALSE(dumping.plan().resumes_at);
  EXPECT_EQ(error_code([&] { dumping.check_plan(); }), "other_unfinished");
}

TEST_F(CartridgeDumping, ABatteryThatIsEmptyIsSaid) {
  const CartridgeResult result = dump({{"dead-battery", ""}});
  EXPECT_TRUE(result.save_blank);
  EXPECT_EQ(result.verdict, CartridgeVerdict::proved) << "the ROM is";
}

TEST_F(CartridgeDumping, OneThatIsExchangedIsNeverMixed) {
  // Without a checksum, and with one header: a few other bytes in front and behind.
  const Bytes one = gba(random, 128 << 10);
  Bytes two = one;
  for (const std::size_t at : {0x9000u, 0x1F000u}) two[at] ^= std::byte{1};
  for (const bool sums : {true, false})
    for (const char* fault : {"exchange", "exchange-unseen"}) {
      SCOPED_TRACE(fmt::format("{} {}", fault, sums));
      SimReader reader({.rom = one, .bus = "gba", .faults = {{fault, "90000"}}, .other = two, .sums = sums});
      SimLink link(reader);
      CartridgeRequest r = request();
      r.out = folder.path() / fmt::format("{}{}.gba", fault, sums);
      r.machine = rom::find_machine("gba");
      r.rom_bytes = one.size();
      const std::string ended = error_code([&] {
        CartridgeDump dumping(r, link, {});
        QuietContext context;
        EXPECT_EQ(dumping.run(context).verdict, CartridgeVerdict::unsure) << "two bytes may be a flicker";
      });
      const bool is_seen = std::string_view(fault) == "exchange";
      EXPECT_EQ(ended, is_seen ? "cart_lost" : sums ? "cart_changed" : "");
      EXPECT_EQ(fs::exists(fs::path(r.out.string() + ".opifex-dump")), is_seen) << "of a mixture nothing is kept";
    }
  // Another game altogether is no flicker.
  SimReader reader({.rom = one, .bus = "gba", .faults = {{"exchange-unseen", "90000"}}, .sums = false});
  SimLink link(reader);
  CartridgeRequest r = request();
  r.machine = rom::find_machine("gba");
  r.rom_bytes = one.size();
  QuietContext context;
  EXPECT_EQ(error_code([&] { CartridgeDump(r, link, {}).run(context); }), "cart_changed");
}

TEST_F(CartridgeDumping, WithoutSumsAFlickerIsTheMajoritysAndTold) {
  Random seeds(48);
  int unsure = 0, right = 0;
  for (int i = 0; i < 12; ++i) {
    SimReader reader({.rom = chip,
                      .save = save,
                      .faults = {{"dirty", "5=0.00003"}},
                      .seed = 1 + seeds.below(1'000'000),
                      .sums = false});
    SimLink link(reader);
    CartridgeRequest r = request();
    r.existing = Existing::replace;
    CartridgeDump dumping(r, link, {});
    QuietContext context;
    const CartridgeResult result = dumping.run(context);
    const bool same = read_file(folder / "out/QUARRY.gb") == as_text(chip);
    if (result.verdict == CartridgeVerdict::proved) {
      EXPECT_TRUE(same);
      continue;
    }
    EXPECT_EQ(result.verdict, CartridgeVerdict::unsure);
    EXPECT_EQ(result.unstable.data_bits & ~0x20u, 0u);
    ++unsure;
    right += same ? 1 : 0;
  }
  EXPECT_GT(unsure, 3);
  EXPECT_GT(2 * right, unsure) << "most of what was in doubt came out right";
}

TEST_F(CartridgeDumping, AWordThatIsTooSmallIsNeverAgreedTo) {
  // These headers do not tell a size.
  for (const char* id : {"gba", "n64"}) {
    const bool is_gba = std::string_view(id) == "gba";
    const Bytes rom = is_gba ? gba(random, 256 << 10) : n64(random, 4 << 20);
    for (const std::size_t told : {rom.size() / 2, rom.size()}) {
      SimReader reader({.rom = rom, .bus = is_gba ? "gba" : "n64"});
      SimLink link(reader);
      CartridgeRequest r = request();
      r.existing = Existing::replace;
      r.machine = rom::find_machine(id);
      r.rom_bytes = told;
      CartridgeDump dumping(r, link, {});
      QuietContext context;
      EXPECT_EQ(dumping.run(context).verdict, told == rom.size() ? CartridgeVerdict::agreed : CartridgeVerdict::unsure)
          << id << " " << told;
    }
  }
}

TEST_F(CartridgeDumping, AnUnfinishedOneIsNotFinishedWithAnother) {
  const Bytes one = gba(random, 128 << 10);
  Bytes two = one;
  two[0x200] ^= std::byte{1};  // the first block alone is another one
  CartridgeRequest r = request();
  r.machine = rom::find_machine("gba");
  r.rom_bytes = one.size();
  QuietContext context;
  {
    SimReader reader({.rom = one, .bus = "gba", .faults = {{"unplug", "90000"}}});
    SimLink link(reader);
    CartridgeDump dumping(r, link, {});
    EXPECT_EQ(error_code([&] { dumping.run(context); }), "cart_lost");
  }
  SimReader reader({.rom = two, .bus = "gba"});
  SimLink link(reader);
  CartridgeDump dumping(r, link, {});
  const CartridgeResult result = dumping.run(context);
  EXPECT_FALSE(result.resumed);
  EXPECT_EQ(read_file(dumping.plan().rom_file), as_text(two));
}

TEST_F(CartridgeDumping, AReaderThatSaysMoreThanItDeliversIsReadInSmallerPieces) {
  EXPECT_EQ(dump({{"most-read", "4096"}}).verdict, CartridgeVerdict::proved);
  EXPECT_EQ(read_file(folder / "out/QUARRY.gb"), as_text(chip));
}

TEST_F(CartridgeDumping, AnEmptyReaderIsSaid) {
  SimReader reader({.rom = chip});
  reader.unplug();
  SimLink link(reader);
  EXPECT_EQ(error_code([&] { CartridgeDump(request(), link, {}); }), "no_cartridge");
}

TEST_F(CartridgeDumping, ASaveIsNotBelievedThroughALineThatNothingReaches) {
  // No header shows these: they lie above its addresses, or its bytes read the same.
  for (const ReaderFault& fault : {ReaderFault{"stuck-address", "12"}, ReaderFault{"stuck-address", "9"}}) {
    CartridgeRequest r = request();
    r.part = CartridgePart::save;
    r.existing = Existing::replace;
    const CartridgeResult result = dump({fault}, r);
    EXPECT_EQ(result.verdict, CartridgeVerdict::damaged) << fault.value;
    SimReader reader({.rom = chip, .save = save, .faults = {fault}});
    SimLink link(reader);
    CartridgeDump dumping(r, link, {});
    EXPECT_EQ(error_code([&] { dumping.read_save_for_sure(); }), "line_stuck") << fault.value;
    EXPECT_EQ(reader.saves_written(), 0u);
  }
}

TEST_F(CartridgeDumping, AnEmptySaveIsNoDeadLine) {
  SimReader reader({.rom = chip, .save = Bytes(8192, std::byte{0xFF})});
  SimLink link(reader);
  CartridgeRequest r = request();
  r.part = CartridgePart::save;
  CartridgeDump dumping(r, link, {});
  EXPECT_EQ(dumping.read_save_for_sure(), Bytes(8192, std::byte{0xFF})) << "the ROM shows that the lines are there";
}

TEST(QuietLinesOf, ExactlyThoseThatMakeNoDifference) {
  Random random(45);
  for (int i = 0; i < 200; ++i) {
    Bytes bytes = random.bytes(std::size_t{512} << random.below(5));
    const auto lines = static_cast<unsigned>(std::bit_width(bytes.size())) - 1;
    const auto line = static_cast<unsigned>(random.below(lines)), bit = static_cast<unsigned>(random.below(8));
    const Bytes whole = bytes;
    for (std::size_t at = 0; at < bytes.size(); ++at)
      bytes[at] = whole[at & ~(std::size_t{1} << line)] | static_cast<std::byte>(1u << bit);
    const QuietLines quiet = quiet_lines(bytes);
    EXPECT_EQ(quiet.address, std::uint64_t{1} << line);
    EXPECT_EQ(quiet.data, 1u << bit);
    EXPECT_EQ(quiet.text(), fmt::format("data line D{}, address line A{}", bit, line));
    EXPECT_FALSE(quiet_lines(whole).any());
  }
}

TEST_F(CartridgeDumping, FaultsThatKeepStepWithTheAnswersDoNotStopIt) {
  // Every Nth frame spoilt, whatever N: some hit the same frame of each answer.
  for (int n = 3; n < 24; ++n)
    for (const char* slow : {"0", "9"}) {
      CartridgeRequest r = request();
      r.existing = Existing::replace;
      std::vector<ReaderFault> faults = {{"corrupt", std::to_string(n)}};
      if (*slow != '0') faults.push_back({"slow", slow});
      EXPECT_EQ(dump(faults, r).verdict, CartridgeVerdict::proved) << n;
    }
}

class NesCartridge : public testing::Test {
 protected:
  Random random{46};
  const NesChips chips = nes(random, 128 << 10, 16 << 10);
  const Bytes save = random.bytes(8192);

  CartridgeRequest request(std::uint64_t program, std::uint64_t character, unsigned mapper) {
    CartridgeRequest r;
    r.machine = rom::find_machine("nes");
    r.rom_bytes = program;
    r.save_bytes = save.size();
    r.mapper = fmt::format("nes:{}", mapper);
    r.nes = rom::NesWord{.mapper = mapper, .character_bytes = character, .vertical = true};
    r.out = folder.path() / "n.nes";
    r.existing = Existing::replace;
    return r;
  }
  CartridgeResult dump(CartridgeRequest r) {
    SimReader reader(
        {.rom = chips.program, .save = save, .character = chips.character, .mapper = "nes:4", .bus = "nes"});
    SimLink link(reader);
    CartridgeDump dumping(std::move(r), link, {});
    QuietContext context;
    return dumping.run(context);
  }
  TempFolder folder;
};

TEST_F(NesCartridge, BothChipsComeUnderAHeaderOfTheUsersWord) {
  EXPECT_EQ(dump(request(128 << 10, 16 << 10, 4)).verdict, CartridgeVerdict::agreed);
  const std::string file = read_file(folder / "n.nes");
  const rom::NesWord word = rom::nes_word(as_view(file).first(16));
  EXPECT_EQ(word.mapper, 4u);
  EXPECT_TRUE(word.vertical);
  EXPECT_EQ(word.program_bytes, chips.program.size());
  EXPECT_EQ(word.character_bytes, chips.character.size());
  EXPECT_EQ(file.substr(16), std::string(as_text(chips.program)) + std::string(as_text(chips.character)));
  EXPECT_EQ(read_file(folder / "n.sav"), as_text(save));
}

TEST_F(NesCartridge, AWrongWordIsNeverAgreedTo) {
  EXPECT_EQ(dump(request(128 << 10, 16 << 10, 1)).verdict, CartridgeVerdict::damaged) << "another mapper";
  EXPECT_EQ(dump(request(64 << 10, 16 << 10, 4)).verdict, CartridgeVerdict::unsure) << "a chip that goes on";
  EXPECT_EQ(dump(request(128 << 10, 8 << 10, 4)).verdict, CartridgeVerdict::unsure) << "and so its second chip";
  EXPECT_NE(dump(request(256 << 10, 16 << 10, 4)).verdict, CartridgeVerdict::agreed) << "read too far";
  EXPECT_NE(dump(request(128 << 10, 32 << 10, 4)).verdict, CartridgeVerdict::agreed) << "and so its second chip";
  EXPECT_EQ(error_code([&] { dump(request((128 << 10) + 512, 0, 4)); }), "odd_size");
}

TEST(NesHeaders, SayWhatTheyWereMadeOf) {
  Random random(47);
  for (int i = 0; i < 2000; ++i) {
    const rom::NesWord word{.mapper = static_cast<unsigned>(random.below(4096)),
                            .program_bytes = (1 + random.below(0xEFF)) << 14,
                            .character_bytes = random.below(0xF00) << 13,
                            .save_bytes = random.below(2) * 8192,
                            .vertical = random.below(2) == 1,
                            .four_screen = random.below(2) == 1};
    const rom::NesWord back = rom::nes_word(rom::nes_header(word));
    EXPECT_EQ(back.mapper, word.mapper);
    EXPECT_EQ(back.program_bytes, word.program_bytes);
    EXPECT_EQ(back.character_bytes, word.character_bytes);
    EXPECT_EQ(back.save_bytes, word.save_bytes);
    EXPECT_EQ(back.vertical, word.vertical);
    EXPECT_EQ(back.four_screen, word.four_screen);
  }
}

TEST(CartridgePlans, EveryMachineIsKnownByItsHeaderAndItsChip) {
  Random random(42);
  const TempFolder folder;
  struct Case {
    std::string_view id;
    Bytes rom;
    std::uint64_t header_at;
  };
  for (const Case& c :
       {Case{"gb", game_boy(random, 2), 0}, Case{"snes", snes(random, 256 << 10, 8), 0x7FB0},
        Case{"snes", snes(random, 512 << 10, 9, 0xFFC0, 0x21), 0xFFB0},
        Case{"megadrive", megadrive(random, 128 << 10), 0}, Case{"gba", gba(random, 128 << 10), 0},
        Case{"n64", n64(random, 2 << 20), 0}, Case{"sms", master_system(random, 32 << 10, 0xC, 0x7FF0), 0}}) {
    SimReader reader({.rom = c.rom, .bus = std::string(machine(c.id).reader_bus), .header_at = c.header_at});
    SimLink link(reader);
    CartridgeRequest request;
    request.out = folder.path() / "";
    const CartridgeDump dump(request, link, {});
    EXPECT_EQ(dump.plan().machine->id, c.id);
    EXPECT_EQ(dump.plan().rom_bytes, c.rom.size()) << c.id;
  }
}

TEST(CartridgeTrials, EveryClaimIsTrue) {
  campaign::CartridgeCounts counts;
  for (std::uint64_t seed = 1; seed <= 40; ++seed)
    EXPECT_EQ(campaign::cartridge_trial(seed, counts), "") << "seed " << seed;
  EXPECT_GT(counts.ends["proved"], 5u);
}

}  // namespace
}  // namespace opifex::dump
