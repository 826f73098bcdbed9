// What is told of cartridges: the words that somebody acts on, and the keys that programs read.
#include "opifex/report/cartridge.hpp"

#include <gtest/gtest.h>

#include "opifex/report/dump.hpp"
#include "opifex/report/save.hpp"

#include "cartridges.hpp"

namespace opifex::report {
namespace {

using namespace testkit;

rom::Examined examined(std::string_view id, ByteView rom) { return rom::examine(rom::find_machine(id), {}, rom); }

std::string told_of(const rom::Examined& rom) {
  Facts facts;
  add_cartridge(facts, rom);
  return facts.text();
}

TEST(CartridgeWords, SayWhatTheSizeMeans) {
  Random random(111);
  const Bytes chip = game_boy(random, 1);
  Bytes twice = chip;
  twice.insert(twice.end(), chip.begin(), chip.end());
  EXPECT_NE(told_of(examined("gb", chip)).find("64.0 KiB, as the header says"), std::string::npos);
  EXPECT_NE(told_of(examined("gb", twice)).find("128.0 KiB, but the chip has 64.0 KiB"), std::string::npos);
  EXPECT_NE(told_of(examined("gb", ByteView(chip).first(32 << 10))).find("32.0 KiB, but the chip has 64.0 KiB"),
            std::string::npos);
  EXPECT_NE(told_of(examined("gba", gba(random, 64 << 10))).find("no header tells it"), std::string::npos);
}

TEST(CartridgeWords, OfABlankOneNothingOfItsHeaderIsSaid) {
  const rom::Examined blank = examined("gb", Bytes(32 << 10, std::byte{0xFF}));
  EXPECT_EQ(told_of(blank).find("Mapper"), std::string::npos);
  EXPECT_EQ(told_of(blank).find("Checksums"), std::string::npos);
}

TEST(CartridgeWords, TextOfTheRomCannotSteerATerminal) {
  Random random(112);
  Bytes rom = megadrive(random, 64 << 10);
  put(rom, 0x120, "\x1B[2J\x07 evil");
  const std::string text = told_of(examined("megadrive", rom));
  EXPECT_EQ(text.find('\x1B'), std::string::npos);
  EXPECT_EQ(text.find('\x07'), std::string::npos);
  const std::string json = dump(cartridge_json(examined("megadrive", rom)));
  EXPECT_EQ(json.find('\x1B'), std::string::npos);
}

TEST(CartridgeKeys, AreThereForEveryMachine) {
  Random random(113);
  for (const auto& [id, rom] :
       {std::pair("gb", game_boy(random, 0)), std::pair("snes", snes(random, 256 << 10, 8)),
        std::pair("megadrive", megadrive(random, 64 << 10)), std::pair("gba", gba(random, 64 << 10)),
        std::pair("n64", n64(random, 1 << 20)), std::pair("sms", master_system(random, 32 << 10, 0xC, 0x7FF0))}) {
    const Json json = cartridge_json(examined(id, rom));
    EXPECT_EQ(json["system"], id);
    EXPECT_EQ(json["size_bytes"], rom.size());
    EXPECT_TRUE(json["header"].is_object() && !json["header"].empty()) << id;
    EXPECT_TRUE(json["checks"].is_object()) << id;
    EXPECT_TRUE(json["read_faults"].empty()) << id;
    EXPECT_EQ(json["container"].contains("byte_order"), std::string_view(id) == "n64");
  }
  const Json unknown = cartridge_json(rom::examine(nullptr, {}, random.bytes(4096)));
  EXPECT_TRUE(unknown["system"].is_null());
  EXPECT_TRUE(unknown["size_status"].is_null());
}

TEST(CartridgeKeys, ADottedFactIsAnObjectOfItsOwn) {
  Random random(114);
  Bytes rom = megadrive(random, 64 << 10);
  EXPECT_TRUE(cartridge_json(examined("megadrive", rom))["header"]["extra_memory"].is_null());
  put(rom, 0x1B0, "RA\xF8\x20");
  Fields(rom).be(0x1B4, 0x200001, 4);
  Fields(rom).be(0x1B8, 0x203FFF, 4);
  const Json extra = cartridge_json(examined("megadrive", rom))["header"]["extra_memory"];
  EXPECT_EQ(extra["lane"], "odd");
  EXPECT_EQ(extra["battery"], true);
}

class DumpedWords : public testing::Test {
 protected:
  DumpedWords() {
    plan.machine = rom::find_machine("gb");
    plan.reader.model = "a reader";
    plan.rom_bytes = 65536;
    plan.sized_by = "the header";
    plan.rom_file = "a.gb";
    plan.save_file = "a.sav";
    result.outputs.push_back({"a.gb", 65536, std::string(40, '0')});
  }
  std::string text() const { return cartridge_dump_text(plan, result); }
  dump::CartridgePlan plan;
  dump::CartridgeResult result;
};

TEST_F(DumpedWords, OnlyAProvedOneIsCalledSo) {
  for (const auto& [verdict, word] :
       {std::pair(dump::CartridgeVerdict::proved, "PROVED"),
        std::pair(dump::CartridgeVerdict::agreed, "no checksum over the whole"),
        std::pair(dump::CartridgeVerdict::unsure, "UNSURE"), std::pair(dump::CartridgeVerdict::damaged, "DAMAGED")}) {
    result.verdict = verdict;
    EXPECT_NE(text().find(word), std::string::npos) << word;
    EXPECT_EQ(text().find("PROVED") != std::string::npos, verdict == dump::CartridgeVerdict::proved);
  }
}

TEST_F(DumpedWords, ALineIsBlamedOnlyWhereAllPointsToIt) {
  result.verdict = dump::CartridgeVerdict::unsure;
  result.unstable = {.bytes = 20, .data_bits = 0x20, .first_offsets = {1, 2, 3}};
  EXPECT_NE(text().find("data line D5"), std::string::npos);
  result.unstable.data_bits = 0x21;
  EXPECT_EQ(text().find("data line"), std::string::npos) << "two lines: neither is named";
  result.unstable.address_bits_1 = {13};
  EXPECT_NE(text().find("bit 13"), std::string::npos);
  result.unstable.bytes = 3;
  EXPECT_EQ(text().find("bit 13"), std::string::npos) << "three places have something in common by chance";
}

TEST(SaveWords, AFailedWriteSaysWhatTheCartridgeHolds) {
  jobs::SaveTold told{.action = jobs::SaveAction::write, .path = "new.sav", .other = "sim:x"};
  told.state = "failed";
  told.holds = "neither";
  told.trouble = "verify-failed";
  EXPECT_NE(save_text(told).find("the cartridge holds neither (verify-failed)"), std::string::npos);
  EXPECT_EQ(save_json(told)["holds"], "neither");
  EXPECT_EQ(save_json(told)["state"], "failed");
}

}  // namespace
}  // namespace opifex::report
