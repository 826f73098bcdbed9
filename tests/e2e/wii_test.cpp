// GameCube and Wii discs as their owners meet them.
#include <fstream>

#include <gtest/gtest.h>

#include "opifex/demo/wii_disc.hpp"

#include "program.hpp"

namespace opifex {
namespace {

using namespace testkit;

constexpr std::uint64_t kSingleLayer = 4'699'979'776, kDualLayer = 8'511'160'320;
constexpr std::uint64_t kBeyondFourGiB = 5'500'010'496;  // a whole cluster; on the second layer

class WiiDiscs : public Program {
 protected:
  void SetUp() override {
    write_file(folder / "keys.toml", demo::demo_key_file());
    write_file(folder / "wrong.toml", "[common-keys]\nwii = \"000102030405060708090a0b0c0d0e0f\"\n");
  }

  /// An update of one cluster, and a game of 70 whose last file lies behind the first group.
  void make_disc(const std::string& name, std::uint64_t game_at, std::uint64_t size) {
    demo::WiiRecipe recipe;
    recipe.partitions.push_back({.type = 1, .offset = 0x50000, .clusters = 1, .title = "Update", .files = {}});
    recipe.partitions.push_back({.type = 0,
                                 .offset = game_at,
                                 .clusters = 70,
                                 .title = recipe.title,
                                 .files = {{"coast.bin", 0x8000, 90'000}, {"maps/far.bin", 65 * 0x7C00, 5'000}}});
    recipe.disc_bytes = size;
    demo::write_wii_disc(recipe, folder / name);
  }
};

TEST_F(WiiDiscs, ADualLayerDiscIsSparseAllTheWay) {
  make_disc("big.iso", kBeyondFourGiB, kDualLayer);
  const auto facts = cli({"identify", "big.iso", "--key-file", "keys.toml", "--json"}).json()["results"][0];
  EXPECT_EQ(facts["medium"], "dual layer");
  EXPECT_EQ(facts["state"], "full");
  ASSERT_EQ(facts["partitions"].size(), 2u);
  EXPECT_EQ(facts["partitions"][1]["offset"], kBeyondFourGiB);
  EXPECT_EQ(facts["partitions"][1]["key"], "right");
  EXPECT_EQ(facts["partitions"][1]["files"], 7u);

  // To FAT32 it goes in parts; three blocks of 2 MiB are all that is written.
  const auto made = cli({"convert", "big.iso", "--to", "wbfs", "--out", "drive/ZW7EPR.wbfs", "--limit", "3M", "--fs",
                         "fat32", "--prove", "--json"});
  ASSERT_EQ(made.exit_code, 0) << made.err;
  const auto outputs = made.json()["results"][0]["outputs"];
  ASSERT_EQ(outputs.size(), 3u) << made.out;
  EXPECT_EQ(outputs[2]["size_bytes"], 2u << 20);
  EXPECT_NE(made.json()["results"][0]["proof_sha1"], nullptr);

  // Any part will do to read it.
  const auto back = cli({"convert", "drive/ZW7EPR.wbf1", "--to", "iso", "--out", "back.iso"});
  ASSERT_EQ(back.exit_code, 0) << back.err;
  EXPECT_EQ(cli({"check", "back.iso", "--same-as", "big.iso"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "drive/ZW7EPR.wbfs", "--key-file", "keys.toml", "--hashes", "none"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(folder / "back.iso"), kDualLayer);
}

TEST_F(WiiDiscs, AFileThatDoesNotFitFat32IsRefusedBeforeItIsWritten) {
  make_disc("big.iso", kBeyondFourGiB, kDualLayer);
  const auto before = listing(folder.path());
  const auto refused = cli({"convert", "big.iso", "--to", "iso", "--out", "copy.iso", "--fs", "fat32"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_NE(refused.err.find("--limit fat32"), std::string::npos) << refused.err;
  EXPECT_EQ(listing(folder.path()), before);
  const auto plan = cli({"convert", "big.iso", "--to", "iso", "--out", "copy.iso", "--fs", "fat32", "--limit", "fat32",
                         "--plan", "--json"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_EQ(plan.json()["results"][0]["outputs"][0]["size_bytes"], 4'294'934'528u);
  EXPECT_EQ(listing(folder.path()), before);
}

TEST_F(WiiDiscs, SplittingAndMergingGiveTheSameBytes) {
  make_disc("game.iso", 0xF8'0000, 0);
  const std::string hash = sha256_file(folder / "game.iso");
  ASSERT_EQ(cli({"split", "game.iso", "--limit", "1M", "--out", "parts/"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(folder / "parts/game.part0.iso"));
  // Read directly, from a part in the middle.
  EXPECT_EQ(cli({"check", "parts/game.part3.iso", "--same-as", "game.iso"}).exit_code, 0);
  ASSERT_EQ(cli({"merge", "parts/game.part2.iso", "--out", "whole.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(folder / "whole.iso"), hash);
  fs::remove(folder / "parts/game.part1.iso");
  const auto gap = cli({"identify", "parts/game.part2.iso"});
  EXPECT_NE(gap.exit_code, 0);
  EXPECT_NE(gap.err.find("game.part1.iso"), std::string::npos) << gap.err;
}

TEST_F(WiiDiscs, APartOfAnEarlierSplitIsNoPartOfTheNewFile) {
  make_disc("game.iso", 0xF8'0000, 0);
  write_file(folder / "out.wbf1", "left over");
  const auto refused = cli({"convert", "game.iso", "--to", "wbfs", "--out", "out.wbfs"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_NE(refused.err.find("out.wbf1"), std::string::npos) << refused.err;
  EXPECT_FALSE(fs::exists(folder / "out.wbfs"));
}

TEST_F(WiiDiscs, FilesNeedTheRightKey) {
  make_disc("game.iso", 0xF8'0000, 0);
  const auto locked = cli({"files", "game.iso"});
  EXPECT_EQ(locked.exit_code, 3);
  EXPECT_NE(locked.err.find("--key-file"), std::string::npos) << locked.err;
  const auto before = listing(folder.path());
  const auto wrong = cli({"extract", "game.iso", "--into", "out", "--key-file", "wrong.toml"});
  EXPECT_EQ(wrong.exit_code, 3);
  EXPECT_NE(wrong.err.find("does not fit"), std::string::npos) << wrong.err;
  EXPECT_EQ(listing(folder.path()), before) << "nothing is written with a wrong key";
  EXPECT_EQ(cli({"identify", "game.iso", "--key-file", "wrong.toml"}).exit_code, 1);

  ASSERT_EQ(cli({"extract", "game.iso", "--into", "out", "--key-file", "keys.toml", "--check"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(folder / "out/data/maps/far.bin"), 5'000u);
  EXPECT_TRUE(fs::exists(folder / "out/data/system/main.dol"));
  EXPECT_TRUE(fs::exists(folder / "out/update/system/header.bin"));
  const auto again = cli({"build", "out/data", "--as", "gamecube-iso", "--out", "new.iso"});
  EXPECT_EQ(again.exit_code, 3);
  EXPECT_NE(again.err.find("Wii partition"), std::string::npos) << again.err;
}

TEST_F(WiiDiscs, DamageIsNamedByClusterAndFile) {
  make_disc("game.iso", 0xF8'0000, 0);
  constexpr std::uint64_t kData = 0xF8'0000 + 0x20000;
  flip_byte(folder / "game.iso", kData + 65 * 0x8000 + 0x400 + 100);
  const auto checked = cli({"check", "game.iso", "--key-file", "keys.toml", "--hashes", "none", "--json"});
  EXPECT_EQ(checked.exit_code, 1);
  const auto result = checked.json()["results"][0];
  EXPECT_EQ(result["verdict"], "damaged");
  EXPECT_EQ(result["findings"][0]["code"], "hash_h0");
  EXPECT_EQ(result["findings"][0]["offset"], kData + 65 * 0x8000);
  EXPECT_EQ(result["findings"][0]["files"], nlohmann::json::array({"data/maps/far.bin"}));
  // Without the key the same damage cannot be seen, and that is said.
  const auto blind = cli({"check", "game.iso", "--hashes", "none"});
  EXPECT_EQ(blind.exit_code, 0);
  EXPECT_NE(blind.out.find("without its key"), std::string::npos) << blind.out;
}

TEST_F(WiiDiscs, ScrubbingKeepsEveryFile) {
  make_disc("game.iso", 0xF8'0000, kSingleLayer);
  EXPECT_EQ(cli({"convert", "game.iso", "--to", "iso", "--out", "s.iso", "--scrub"}).exit_code, 3) << "needs the key";
  const auto done = cli({"convert", "game.iso", "--to", "iso", "--out", "s.iso", "--scrub", "--keep", "game",
                         "--key-file", "keys.toml", "--prove", "--json"});
  ASSERT_EQ(done.exit_code, 0) << done.err;
  std::vector<std::string> kinds;
  const auto losses = done.json()["results"][0]["losses"];
  for (const auto& loss : losses) kinds.push_back(loss["kind"]);
  EXPECT_EQ(kinds, (std::vector<std::string>{"scrubbed", "partitions"}));
  const auto facts = cli({"identify", "s.iso", "--key-file", "keys.toml", "--json"}).json()["results"][0];
  EXPECT_EQ(facts["scrubbed"], true);
  EXPECT_EQ(cli({"check", "s.iso", "--key-file", "keys.toml", "--hashes", "none"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "game.iso", "data/maps/**", "data/coast.bin", "--into", "a", "--key-file", "keys.toml"})
                .exit_code,
            0);
  ASSERT_EQ(
      cli({"extract", "s.iso", "data/maps/**", "data/coast.bin", "--into", "b", "--key-file", "keys.toml"}).exit_code,
      0);
  for (const char* file : {"data/maps/far.bin", "data/coast.bin"})
    EXPECT_EQ(sha256_file(folder / "a" / file), sha256_file(folder / "b" / file)) << file;
}

TEST_F(WiiDiscs, AChangedGameCubeDiscIsMadeAgain) {
  fs::copy_file(vector_path("wii/gc-moth.iso"), folder / "moth.iso");
  ASSERT_EQ(cli({"extract", "moth.iso", "--into", "moth"}).exit_code, 0);
  ASSERT_EQ(cli({"build", "moth", "--as", "gamecube-iso", "--out", "same.iso"}).exit_code, 0);
  const std::string original = read_file(folder / "moth.iso");
  EXPECT_EQ(read_file(folder / "same.iso").substr(0, original.size()), original) << "unchanged: the same bytes";

  write_file(folder / "moth/movie/intro.thp", std::string(70'000, 'n'));
  write_file(folder / "moth/data/new.txt", "a file that was not there");
  fs::remove(folder / "moth/credits.txt");
  const auto plan = cli({"build", "moth", "--as", "gamecube-iso", "--out", "new.iso", "--plan"});
  EXPECT_NE(plan.out.find("1 of them"), std::string::npos) << plan.out;
  ASSERT_EQ(cli({"build", "moth", "--as", "gamecube-iso", "--out", "new.iso", "--full"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(folder / "new.iso"), 1'459'978'240u);
  EXPECT_EQ(cli({"check", "new.iso", "--hashes", "none"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "new.iso", "--into", "again"}).exit_code, 0);
  fs::remove_all(folder / "moth/system");
  fs::remove_all(folder / "again/system");
  EXPECT_EQ(listing(folder / "again"), listing(folder / "moth"));
  EXPECT_EQ(read_file(folder / "again/movie/intro.thp"), std::string(70'000, 'n'));
  EXPECT_EQ(cli({"build", "again", "--as", "gamecube-iso"}).exit_code, 3) << "without the system files";
}

TEST_F(WiiDiscs, ADriveTellsWhatLoadersDoNotFind) {
  make_disc("game.iso", 0xF8'0000, 0);
  fs::create_directories(folder / "drive/wbfs/Tidewater Courier [ZW7EPR]");
  fs::create_directories(folder / "drive/wbfs/Unnamed");
  fs::create_directories(folder / "drive/games/Kestrel Circuit [ZG2PPR]");
  const std::string place = "drive/wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs";
  ASSERT_EQ(cli({"convert", "game.iso", "--to", "wbfs", "--out", place, "--limit", "2M"}).exit_code, 0);
  fs::copy_file(folder / "game.iso", folder / "drive/wbfs/Unnamed/game.iso");
  fs::copy_file(vector_path("wii/gc-kestrel-disc1.iso"), folder / "drive/games/Kestrel Circuit [ZG2PPR]/game.iso");
  fs::copy_file(vector_path("wii/gc-kestrel-disc2.iso"), folder / "drive/games/Kestrel Circuit [ZG2PPR]/second.iso");
  fs::copy_file(vector_path("wii/gc-moth.iso"), folder / "drive/moth.iso");

  const auto survey = cli({"identify", "drive", "--fs", "fat32", "--json"}).json()["results"][0];
  std::map<std::string, std::vector<std::string>> codes;
  std::map<std::string, std::uint64_t> parts;
  for (const auto& game : survey["games"]) {
    const std::string path = fs::path(game["path"]).lexically_relative("drive").string();
    codes[path];
    parts[path] = game["parts"];
    for (const auto& w : game["warnings"]) codes[path].push_back(w["code"]);
  }
  using Codes = std::vector<std::string>;
  EXPECT_EQ(codes.at("wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs"), Codes{});
  EXPECT_GE(parts.at("wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs"), 3u);
  EXPECT_EQ(codes.at("wbfs/Unnamed/game.iso"), (Codes{"wrong_folder_name", "wrong_name"}));
  EXPECT_EQ(codes.at("games/Kestrel Circuit [ZG2PPR]/game.iso"), Codes{});
  EXPECT_EQ(codes.at("games/Kestrel Circuit [ZG2PPR]/second.iso"), Codes{"wrong_name"});
  EXPECT_EQ(codes.at("moth.iso"), Codes{"wrong_folder"});
  // The same games on a shelf that is no loader's drive may lie as they like.
  fs::rename(folder / "drive/moth.iso", folder / "moth.iso");
  const auto shelf = cli({"identify", ".", "--json"}).json()["results"][0];
  for (const auto& game : shelf["games"]) EXPECT_TRUE(game["warnings"].empty()) << game;

  fs::remove(folder / "drive/wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbf1");
  const auto broken = cli({"identify", "drive"});
  EXPECT_EQ(broken.exit_code, 1);
  EXPECT_NE(broken.out.find("ZW7EPR.wbf1"), std::string::npos) << broken.out;
}

}  // namespace
}  // namespace opifex
