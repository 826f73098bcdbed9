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

TEST_F(CartridgeDumping, AnEmptyReaderIsSaid) {
  SimReader reader({.rom = chip});
  reader.unplug();
  SimLink link(reader);
  EXPECT_EQ(error_code([&] { CartridgeDump(request(), link, {}); }), "no_cartridge");
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
