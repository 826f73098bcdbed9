// Cartridges and floppies are what they are, and never tracks of a CD.
#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/platforms/identity.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

class CartridgeVectors : public testing::Test {
 protected:
  Image open(const std::string& packed) {
    const fs::path path = folder / (packed.ends_with(".gz") ? fs::path(packed).stem() : fs::path(packed));
    const fs::path vector = vector_path("floppycart/" + packed);
    write_file(path, packed.ends_with(".gz") ? gunzip(vector) : read_file(vector));
    return open_image(path);
  }
  /// With the user's word about the machine where the sample's description has it.
  Image open(const std::string& packed, const nlohmann::json& told) {
    const fs::path path = folder / (packed.ends_with(".gz") ? fs::path(packed).stem() : fs::path(packed));
    const fs::path vector = vector_path("floppycart/" + packed);
    write_file(path, packed.ends_with(".gz") ? gunzip(vector) : read_file(vector));
    OpenOptions options;
    if (told.contains("system_given"))
      options.settings.set(*find_format("rom")->read_settings.front(), told["system_given"].get<std::string>());
    return open_image(path, options);
  }
  rom::Examined examined(const std::string& name, const nlohmann::json& told) {
    const Image image = open(name, told);
    const auto& content = std::get<RomContent>(image.content);
    const rom::Machine* machine = rom::find_machine(content.system);
    EXPECT_EQ(content.system, told["system"]);
    const rom::Container container = rom::container_of(*content.bytes, machine);
    return rom::examine(machine, container, rom::read_rom(*content.bytes, container));
  }
  /// Those that a machine is known of.
  nlohmann::json cartridges() const {
    nlohmann::json known;
    for (const auto& [name, told] : expected.items())
      if (told.value("kind", "") == "cartridge" && told["status"] != "unrecognised") known[name] = told;
    return known;
  }
  const nlohmann::json expected = vector_json("floppycart/expected.json")["files"];
  const TempFolder folder;
};

TEST_F(CartridgeVectors, EachMachineIsKnownByItsHeader) {
  int known = 0;
  for (const auto& [name, told] : expected.items()) {
    if (told.value("kind", "") != "cartridge") continue;
    SCOPED_TRACE(name);
    const Image image = open(name);
    const std::string system = identify_platform(image).platform;
    if (told["status"] == "unrecognised") {
      EXPECT_TRUE(system.empty()) << system;
      continue;
    }
    // Where a bad reading has spoiled the header, the name tells; ".md" is more often a text's.
    if (name == "stuck-d2-high.md.gz") continue;
    const auto* rom = std::get_if<RomContent>(&image.content);
    ASSERT_NE(rom, nullptr);
    EXPECT_EQ(system, told["system"]);
    EXPECT_EQ(rom->bytes->size(), told["size"]);
    ++known;
  }
  EXPECT_GE(known, 16);
}

std::string state_of(const rom::Checksum& sum) {
  return sum.state == rom::SumState::right ? "ok" : sum.state == rom::SumState::wrong ? "bad" : "not-checked";
}

nlohmann::json as_json(const rom::Value& value) {
  return std::visit(Overloaded{[](std::monostate) { return nlohmann::json(); },
                               [](const auto& plain) { return nlohmann::json(plain); }},
                    value);
}

template <typename T>
nlohmann::json or_null(const std::optional<T>& value) {
  return value ? nlohmann::json(*value) : nlohmann::json();
}

TEST_F(CartridgeVectors, EveryFactOfTheHeaderIsRead) {
  int read = 0;
  const nlohmann::json samples = cartridges();
  for (const auto& [name, told] : samples.items()) {
    SCOPED_TRACE(name);
    const rom::Examined rom = examined(name, told);
    std::map<std::string, nlohmann::json> facts;
    for (const rom::HeaderFact& fact : rom.header.facts) facts[fact.key] = as_json(fact.value);
    for (const auto& [key, value] : told["header"].items()) {
      if (value.is_object()) {
        for (const auto& [inner, inner_value] : value.items()) EXPECT_EQ(facts[key + "." + inner], inner_value) << key;
      } else {
        EXPECT_TRUE(facts.contains(key)) << key;
        EXPECT_EQ(facts[key], value) << key;
      }
      ++read;
    }
  }
  EXPECT_GT(read, 500);
}

TEST_F(CartridgeVectors, ChecksumsSizesAndContactsAreJudged) {
  int judged = 0;
  const nlohmann::json samples = cartridges();
  for (const auto& [name, told] : samples.items()) {
    SCOPED_TRACE(name);
    const rom::Examined rom = examined(name, told);
    for (const rom::Checksum& sum : rom.header.checks) EXPECT_EQ(state_of(sum), told["checks"].at(sum.key)) << sum.key;
    EXPECT_EQ(or_null(rom.header.declared_bytes), told["declared_size"]);
    EXPECT_EQ(to_string(rom.size.status), told["size_status"]);
    EXPECT_EQ(rom.size.detail.empty() ? nlohmann::json() : nlohmann::json(rom.size.detail), told["size_detail"]);
    EXPECT_EQ(or_null(rom.size.true_bytes), told["true_size"]);
    EXPECT_EQ(nlohmann::json(rom.faults), told["read_faults"]);
    // Both halves alike and a right checksum over the whole are the one thing that we call good and others do not.
    EXPECT_EQ(rom::problems_of(rom).empty(), told["problems"].empty());
    ++judged;
  }
  EXPECT_GE(judged, 45);
}

TEST_F(CartridgeVectors, SaveMemoryIsToldAsFarAsTheHeaderDoes) {
  const nlohmann::json samples = cartridges();
  for (const auto& [name, told] : samples.items()) {
    SCOPED_TRACE(name);
    const rom::SaveMemory save = examined(name, told).header.save;
    const nlohmann::json& wanted = told["save"];
    if (wanted.contains("bytes")) {
      EXPECT_EQ(or_null(save.bytes), wanted["bytes"]);
    }
    if (wanted.contains("ram_bytes")) {
      EXPECT_EQ(or_null(save.ram_bytes), wanted["ram_bytes"]);
    }
    if (wanted.contains("rtc")) {
      EXPECT_EQ(save.clock, wanted["rtc"].get<bool>());
    }
    if (!wanted.contains("markers")) continue;
    ASSERT_EQ(save.markers.size(), wanted["markers"].size());
    for (std::size_t i = 0; i < save.markers.size(); ++i) {
      EXPECT_EQ(save.markers[i].text, wanted["markers"][i]["marker"]);
      EXPECT_EQ(save.markers[i].kind, wanted["markers"][i]["type"]);
      EXPECT_EQ(save.markers[i].offset, wanted["markers"][i]["offset"]);
      EXPECT_EQ(nlohmann::json(save.markers[i].sizes), wanted["markers"][i]["sizes"]);
    }
  }
}

TEST_F(CartridgeVectors, ContainersAreUndoneBeforeTheRomIsHashed) {
  const nlohmann::json samples = cartridges();
  for (const auto& [name, told] : samples.items()) {
    SCOPED_TRACE(name);
    const Image image = open(name, told);
    QuietContext context;
    const CheckResult result = check_image(image, {{"sha1"}}, context);
    ASSERT_TRUE(result.rom && result.rom_facts);
    EXPECT_EQ(result.files.front().hashes.front().value, told["sha1"]);
    const rom::Container& container = result.rom_facts->container;
    EXPECT_EQ(container.interleaved, told["container"].value("interleaved", false));
    EXPECT_EQ(container.header_bytes == rom::kCopierHeader, told["container"].contains("copier_header"));
    if (told["container"].contains("byte_order")) {
      EXPECT_EQ(to_string(container.order), told["container"]["byte_order"]);
    }
    // Of an NES image there the whole file counts, here what stands in the cartridge.
    if (told["system"] == "nes") {
      EXPECT_EQ(result.rom->size_bytes + 16, told["rom_size"]);
    } else {
      EXPECT_EQ(result.rom->size_bytes, told["rom_size"]);
      EXPECT_EQ(result.rom->hashes.front().value, told["rom_sha1"]);
    }
    EXPECT_EQ(result.verdict == Verdict::intact, told["status"] == "ok") << to_string(result.verdict);
  }
}

TEST_F(CartridgeVectors, RepeatedReadsShowWhichContactFlickers) {
  const auto compare = [&](const char* what, std::initializer_list<const char*> names) {
    SCOPED_TRACE(what);
    std::vector<Bytes> reads;
    for (const char* name : names) reads.push_back(to_bytes(gunzip(vector_path(std::string("floppycart/") + name))));
    const rom::Repeats found = rom::compare_reads(rom::find_machine("gb"), reads);
    const nlohmann::json told = expected[what];
    EXPECT_EQ(found.reads, told["reads"]);
    EXPECT_EQ(found.differing_bytes, told["differing_bytes"]);
    EXPECT_EQ(found.bit_mask, told["differing_bits_mask"]);
    EXPECT_EQ(nlohmann::json(found.first_offsets), told["first_offsets"]);
    EXPECT_EQ(nlohmann::json(found.address_bits_1), told["address_bits_always_1"]);
    EXPECT_EQ(nlohmann::json(found.address_bits_0), told["address_bits_always_0"]);
    EXPECT_EQ(found.majority ? nlohmann::json(digest_of("sha1", *found.majority)) : nlohmann::json(),
              told["majority_sha1"]);
  };
  compare("compare:repeat-a13", {"repeat-a13-1.gb.gz", "repeat-a13-2.gb.gz"});
  compare("compare:repeat-d5", {"repeat-d5-1.gb.gz", "repeat-d5-2.gb.gz", "repeat-d5-3.gb.gz"});
}

TEST_F(CartridgeVectors, FloppiesHaveBlocksOf512Bytes) {
  int floppies = 0;
  for (const auto& [name, told] : expected.items()) {
    if (told.value("kind", "") != "adf") continue;
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
      const Capabilities& holds = target->holds;
      if (!target->plan_write || holds.roms || holds.floppies || holds.saves) continue;
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
      EXPECT_TRUE(identify_platform(image).platform.empty() || identify_platform(image).confidence == "guess") << size;
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
    if (const auto system = rom::detect_system(*noise)) ++taken[system->machine->id];
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
