// Cartridges and floppies are what they are, and never tracks of a CD.
#include <gtest/gtest.h>

#include "opifex/core/convert/plan.hpp"
#include "opifex/core/formats/rom/systems.hpp"
#include "opifex/core/platforms/identity.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

class CartridgeVectors : public testing::Test {
 protected:
  Image open(const std::string& packed) {
    const fs::path path = folder / fs::path(packed).stem();
    write_file(path, gunzip(vector_path("floppycart/" + packed)));
    return open_image(path);
  }
  const nlohmann::json expected = vector_json("floppycart/expected.json")["files"];
  const TempFolder folder;
};

TEST_F(CartridgeVectors, EachMachineIsKnownByItsHeader) {
  int known = 0;
  for (const auto& [name, told] : expected.items()) {
    if (told["kind"] != "cartridge") continue;
    SCOPED_TRACE(name);
    const Image image = open(name);
    // What only the user's word tells may stay unknown, but it is not taken for another machine.
    const std::string system = identify_platform(image).platform;
    const bool by_word = told.contains("system_given") && told["status"] != "ok";
    if (told["status"] == "unrecognised" || by_word) {
      EXPECT_TRUE(system.empty()) << system;
      continue;
    }
    const auto* rom = std::get_if<RomContent>(&image.content);
    ASSERT_NE(rom, nullptr);
    EXPECT_EQ(system, told["system"]);
    EXPECT_EQ(rom->bytes->size(), told["size"]);
    ++known;
  }
  EXPECT_GE(known, 16);
}

TEST_F(CartridgeVectors, FloppiesHaveBlocksOf512Bytes) {
  int floppies = 0;
  for (const auto& [name, told] : expected.items()) {
    if (told["kind"] != "adf") continue;
    SCOPED_TRACE(name);
    const Image image = open(name);
    const auto* blocks = std::get_if<BlockContent>(&image.content);
    ASSERT_NE(blocks, nullptr);
    EXPECT_EQ(blocks->medium, BlockMedium::floppy);
    EXPECT_EQ(blocks->block_bytes, 512u);
    EXPECT_EQ(blocks->bytes->size(), told["size"]);
    EXPECT_EQ(image.blocks(), nullptr) << "no disc of 2048-byte blocks";
    EXPECT_EQ(identify_platform(image).platform, "amiga");
    ++floppies;
  }
  EXPECT_GE(floppies, 4);
}

TEST_F(CartridgeVectors, NoFormatOfDiscsTakesThem) {
  for (const char* name : {"kestrel.sfc.gz", "moth.gb.gz", "blank-ofs.adf.gz"}) {
    const Image image = open(name);
    for (const Format* target : formats()) {
      if (!target->plan_write) continue;
      SCOPED_TRACE(fmt::format("{} to {}", name, target->id));
      QuietContext context;
      try {
        plan_conversion(image, {target, folder / "out"}, context);
        ADD_FAILURE() << "was taken";
      } catch (const Error& e) {
        EXPECT_EQ(e.details.code, "not_a_disc");
        EXPECT_NE(std::string(e.what()).find(describe(image.content)), std::string::npos) << e.what();
      }
    }
  }
}

TEST_F(CartridgeVectors, ACutFileIsNeverReadOutOfRange) {
  const std::string whole = gunzip(vector_path("floppycart/kestrel-copier.smc.gz"));
  for (const std::size_t size : {1u, 4u, 0xBDu, 0xC0u, 0x101u, 0x104u, 0x14Eu, 0x150u, 0x7FFFu, 0x81DFu}) {
    write_file(folder / "cut.smc", whole.substr(0, size));
    try {
      const Image image = open_image(folder / "cut.smc");
      EXPECT_EQ(identify_platform(image).platform, "") << size;
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::refused) << size;
    }
  }
}

TEST_F(CartridgeVectors, BytesThatMeanNothingAreNoRom) {
  // One in a million may look like a header: then it happens once at most.
  Random random(77);
  std::map<std::string_view, int> taken;
  for (int i = 0; i < 60'000; ++i) {
    const SourcePtr noise = memory_source(random.bytes(0x200), "noise");
    if (const auto system = rom::detect_system(*noise)) ++taken[system->id];
  }
  for (const auto& [id, times] : taken) EXPECT_LE(times, 1) << id;
}

TEST(AnImagesContent, IsCalledByItsKind) {
  EXPECT_EQ(describe(NoContent{}), "nothing");
  EXPECT_EQ(describe(CdContent{}), "a CD");
  EXPECT_EQ(describe(BlockContent{}), "a disc of 2048-byte blocks");
  EXPECT_EQ(describe(BlockContent{.medium = BlockMedium::floppy, .block_bytes = 512}),
            "a floppy disk of 512-byte blocks");
  EXPECT_EQ(describe(BlockContent{.medium = BlockMedium::memory_card, .block_bytes = 128}),
            "a memory card of 128-byte blocks");
  EXPECT_EQ(describe(RomContent{}), "a ROM");
  EXPECT_EQ(describe(FileContent{"package"}), "a package of files");
}

TEST(AnImagesContent, IsAskedForByKind) {
  Image image;
  const SourcePtr bytes = memory_source(Bytes(4096), "bytes");
  for (const Content& content :
       {Content{NoContent{}}, Content{RomContent{bytes}}, Content{FileContent{"package"}},
        Content{BlockContent{.bytes = bytes, .medium = BlockMedium::floppy, .block_bytes = 512}}}) {
    image.content = content;
    EXPECT_EQ(image.cd(), nullptr);
    EXPECT_EQ(image.blocks(), nullptr);
    EXPECT_EQ(image.user_data(), nullptr);
    EXPECT_EQ(image.stored_blocks(), nullptr);
    EXPECT_EQ(image.main_data_track(), 0);
  }
  image.take_blocks(memory_source(Bytes(3000), "cut"));
  EXPECT_EQ(image.blocks()->size(), 4096u);
  EXPECT_EQ(image.stored_blocks()->size(), 3000u);
}

}  // namespace
}  // namespace opifex
