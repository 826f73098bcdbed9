// Xbox and Xbox 360 games as their owners meet them: images, folders, and what the console installs.
#include <fstream>

#include <gtest/gtest.h>

#include "program.hpp"

namespace opifex {
namespace {

using namespace testkit;

constexpr std::uint64_t kFullDump = 7'838'695'424, kPartitionAt = 0x0FD9'0000;
const std::string kHeader = "00FF00AA5052", kImage = "modern.iso";

class XboxGames : public Program {
 protected:
  void SetUp() override {
    fs::copy_file(vector_path("xbox/modern.iso"), folder / "modern.iso");
    copy_folder(vector_path("xbox/god-enhanced"), folder / "usb");
  }
  fs::path container() const { return folder.path() / kContainer; }
  const std::string kContainer = "usb/Content/0000000000000000/505207D1/00004000/" + kHeader;

  /// A pressed disc's dump, most of it a hole.
  void make_full_dump(const std::string& name) {
    write_file(folder / name, "");
    fs::resize_file(folder / name, kFullDump);
    std::fstream file(folder / name, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(kPartitionAt));
    const std::string game = read_file(folder / "modern.iso");
    file.write(game.data(), static_cast<std::streamsize>(game.size()));
  }
};

TEST_F(XboxGames, AContainerBecomesAnImageNamedByItsTitle) {
  const auto facts = cli({"identify", kContainer, "--json"}).json()["results"][0];
  EXPECT_EQ(facts["format"], "god");
  EXPECT_EQ(facts["title"], "Brass Orchard");
  EXPECT_EQ(facts["title_id"], "505207D1");
  EXPECT_EQ(facts["category"], "installed game");
  EXPECT_EQ(cli({"check", kContainer}).exit_code, 0);
  ASSERT_EQ(cli({"convert", kContainer, "--to", "xiso", "--out", "games/", "--minimal", "--prove"}).exit_code, 0);
  EXPECT_EQ(sha256_file(folder / "games/Brass Orchard.iso"), sha256_file(folder / "modern.iso"));
  // Or to a folder, or a single file of it.
  ASSERT_EQ(cli({"extract", kContainer, "--into", "files", "--check"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "modern.iso", "--same-as", "files"}).exit_code, 0);
}

TEST_F(XboxGames, AnImageOrAFolderBecomesAContainerWithoutAnythingBetween) {
  const auto made =
      cli({"convert", kImage, "--to", "god", "--out", "drive", "--title", "Brass Orchard", "--prove", "--json"});
  ASSERT_EQ(made.exit_code, 0) << made.err;
  const auto outputs = made.json()["results"][0]["outputs"];
  const std::string header = outputs.back()["path"];
  EXPECT_NE(header.find("drive/Content/0000000000000000/505207D1/00007000/"), std::string::npos) << header;
  EXPECT_EQ(cli({"check", header, "--hashes", "none"}).exit_code, 0);
  EXPECT_EQ(cli({"identify", header, "--json"}).json()["results"][0]["title"], "Brass Orchard");
  // Nothing is written over another game of the same name.
  EXPECT_EQ(cli({"convert", kImage, "--to", "god", "--out", "drive", "--title", "Brass Orchard"}).exit_code, 4);

  ASSERT_EQ(cli({"extract", "modern.iso", "--into", "modern"}).exit_code, 0);
  const auto before = listing(folder.path());
  const auto built = cli({"build", "modern", "--as", "god", "--out", "drive2", "--json"});
  ASSERT_EQ(built.exit_code, 0) << built.err;
  const std::string second = built.json()["results"][0]["outputs"].back()["path"];
  EXPECT_EQ(cli({"check", second, "--same-as", "modern"}).exit_code, 0);
  std::size_t new_files = 0;
  for (const auto& [path, size] : listing(folder.path()))
    new_files += !before.contains(path) && fs::is_regular_file(folder / path) ? 1u : 0u;
  EXPECT_EQ(new_files, 2u) << "a header and one data file, and no image between";
  const auto nothing = cli({"build", "usb", "--as", "god", "--out", "drive3"});
  EXPECT_EQ(nothing.exit_code, 3);
  EXPECT_NE(nothing.err.find("default.xex"), std::string::npos) << nothing.err;
}

TEST_F(XboxGames, AFolderIsMadeAnImageAndBack) {
  ASSERT_EQ(cli({"extract", "modern.iso", "--into", "modern"}).exit_code, 0);
  ASSERT_EQ(cli({"build", "modern", "--as", "xiso", "--out", "a.iso"}).exit_code, 0);
  ASSERT_EQ(cli({"build", "modern", "--as", "xiso", "--out", "b.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(folder / "a.iso"), sha256_file(folder / "b.iso"));
  EXPECT_EQ(fs::file_size(folder / "a.iso") % 65536, 0u);
  EXPECT_EQ(cli({"check", "a.iso", "--same-as", "modern"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "a.iso", "--hashes", "none"}).exit_code, 0);
  EXPECT_EQ(cli({"build", "modern", "--as", "xiso", "--out", "modern/in.iso"}).exit_code, 4);
}

TEST_F(XboxGames, AFullDumpLosesItsVideoPartOnlyByTheUsersWord) {
  make_full_dump("full.iso");
  EXPECT_EQ(cli({"identify", "full.iso", "--json"}).json()["results"][0]["state"], "full");
  const auto refused = cli({"convert", "full.iso", "--to", "xiso", "--out", "game.iso"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_NE(refused.err.find("partitions"), std::string::npos) << refused.err;
  EXPECT_FALSE(fs::exists(folder / "game.iso"));
  ASSERT_EQ(cli({"convert", "full.iso", "--to", "xiso", "--out", "game.iso", "--accept", "partitions", "--minimal"})
                .exit_code,
            0);
  EXPECT_EQ(sha256_file(folder / "game.iso"), sha256_file(folder / "modern.iso"));
  const auto rebuilt = cli(
      {"convert", "full.iso", "--to", "xiso", "--out", "small.iso", "--accept", "partitions", "--rebuild", "--json"});
  ASSERT_EQ(rebuilt.exit_code, 0) << rebuilt.err;
  EXPECT_EQ(cli({"check", "small.iso", "--same-as", "modern.iso"}).exit_code, 0);
}

TEST_F(XboxGames, PartsAreNamedByTheirCustom) {
  ASSERT_EQ(cli({"split", "modern.iso", "--limit", "64K", "--out", "parts/"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(folder / "parts/modern.1.iso"));
  EXPECT_TRUE(fs::exists(folder / "parts/modern.2.iso"));
  EXPECT_EQ(cli({"check", "parts/modern.2.iso", "--same-as", "modern.iso"}).exit_code, 0);
}

TEST_F(XboxGames, DamageNamesTheFilesItHits) {
  flip_byte(container().string() + ".data/Data0000", 0x2000 + 9 * 0x1000);
  const auto checked = cli({"check", kContainer, "--hashes", "none", "--json"});
  EXPECT_EQ(checked.exit_code, 1);
  const auto finding = checked.json()["results"][0]["findings"][0];
  EXPECT_EQ(finding["code"], "hash_data");
  EXPECT_FALSE(finding["files"].empty()) << finding;
  fs::remove(container().string() + ".data/Data0000");
  EXPECT_EQ(cli({"identify", kContainer}).exit_code, 1);
  const auto missing = cli({"convert", kContainer, "--to", "xiso", "--out", "x.iso"});
  EXPECT_EQ(missing.exit_code, 3);
  EXPECT_NE(missing.err.find("Data0000"), std::string::npos) << missing.err;
}

TEST_F(XboxGames, ADriveShowsItsGamesByName) {
  fs::create_directories(folder / "usb/Content/0000000000000000/50520900");
  fs::create_directories(folder / "usb/Content/0000000000000000/50520001/00005000");
  copy_folder(vector_path("xbox/stfs"), folder / "usb/Content/0000000000000000/50520900/000D0000");
  copy_folder(vector_path("xbox/god-original/ORIGINAL.data"),
              folder / "usb/Content/0000000000000000/50520001/00005000/LOST.data");
  const auto survey = cli({"identify", "usb", "--json"}).json()["results"][0];
  std::map<std::string, std::string> games;
  for (const auto& game : survey["games"]) games[game["title"]] = game["category"];
  EXPECT_EQ(games, (std::map<std::string, std::string>{{"Brass Orchard", "installed game"},
                                                       {"Quarry Lights", "arcade title"}}));
  ASSERT_EQ(survey["warnings"].size(), 1u);
  EXPECT_EQ(survey["warnings"][0]["code"], "no_header");
}

TEST_F(XboxGames, APackageOfFilesIsListedCheckedAndExtracted) {
  fs::copy_file(vector_path("xbox/stfs/ARCADE"), folder / "ARCADE");
  EXPECT_EQ(cli({"files", "ARCADE", "media/a.png"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "ARCADE"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "ARCADE", "--into", "arcade", "--check"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(folder / "arcade/media/maps/1.map"), 9'000u);
  const auto refused = cli({"convert", "ARCADE", "--to", "xiso", "--out", "x.iso"});
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_NE(refused.err.find("extract"), std::string::npos) << refused.err;
}

TEST_F(XboxGames, TheConsolesDriveHasShortNames) {
  fs::copy_file(vector_path("xbox/orchard.iso"), folder / "orchard.iso");
  const auto refused = cli({"extract", "orchard.iso", "--into", "out", "--fs", "fatx"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_NE(refused.err.find("42"), std::string::npos) << refused.err;
}

TEST_F(XboxGames, AContainerIsCopiedToAnotherDriveAsItIs) {
  ASSERT_EQ(cli({"convert", kContainer, "--to", "god", "--out", "usb2", "--prove"}).exit_code, 0);
  for (const char* file : {"", ".data/Data0000"})
    EXPECT_EQ(sha256_file(folder / ("usb2" + kContainer.substr(3) + file)), sha256_file(container().string() + file));
  // What is there already is never written over without a word.
  EXPECT_EQ(cli({"convert", kContainer, "--to", "god", "--out", "usb2"}).exit_code, 4);
}

TEST_F(XboxGames, AWholeDriveIsConvertedOrMergedIntoAnother) {
  fs::create_directories(folder / "usb/Content/0000000000000000/50520900");
  copy_folder(vector_path("xbox/stfs"), folder / "usb/Content/0000000000000000/50520900/000D0000");
  ASSERT_EQ(cli({"convert", "usb", "--to", "god", "--out", "usb2"}).exit_code, 0);
  EXPECT_EQ(listing(folder / "usb2"), listing(folder / "usb")) << "every file, in the console's folders";
  const auto again = cli({"convert", "usb", "--to", "god", "--out", "usb2", "--json"});
  EXPECT_EQ(again.exit_code, 4);
  ASSERT_EQ(again.json()["errors"].size(), 1u) << "one question for all of them";
  EXPECT_TRUE(again.json()["errors"][0]["what"].get<std::string>().ends_with("2 of the batch"));
  // To images only what is a disc: the rest says why not, and does not stop the others.
  const auto images = cli({"convert", "usb", "--to", "xiso", "--out", "games/"});
  EXPECT_EQ(images.exit_code, 3);
  EXPECT_TRUE(fs::exists(folder / "games/Brass Orchard.iso"));
  EXPECT_EQ(cli({"convert", ".", "--to", "xiso", "--out", "one.iso"}).exit_code, 2);
}

TEST_F(XboxGames, ManyAtOnceAndTheUsersTitles) {
  copy_folder(vector_path("xbox/god-plain"), folder / "usb2");
  std::string other;
  for (const auto& entry : fs::recursive_directory_iterator(folder / "usb2"))
    if (entry.is_regular_file() && entry.path().filename() != "Data0000") other = entry.path().string();
  const auto made = cli({"convert", kContainer, other, "--to", "xiso", "--out", "all/"});
  EXPECT_EQ(made.exit_code, 4) << "both are called Brass Orchard: neither is written";
  EXPECT_NE(made.err.find("several images would get the same name"), std::string::npos) << made.err;
  EXPECT_FALSE(fs::exists(folder / "all"));
  EXPECT_EQ(cli({"convert", kContainer, other, "--to", "xiso", "--out", "one.iso"}).exit_code, 2);
}

TEST_F(XboxGames, AnImageThatEndsWithinASectorWasCutOff) {
  ASSERT_EQ(cli({"check", kImage}).exit_code, 0);
  ASSERT_TRUE(cli({"identify", kImage, "--json"}).json()["results"][0]["complete"]);
  const std::uint64_t whole = fs::file_size(folder / kImage);
  // Only padding is lost; but whoever cut that off may have cut off more.
  for (const std::uint64_t lost : {1u, 100u, 2047u}) {
    fs::resize_file(folder / kImage, whole - lost);
    const Outcome check = cli({"check", kImage, "--json"});
    EXPECT_EQ(check.exit_code, 1) << lost;
    EXPECT_EQ(check.json()["results"][0]["verdict"], "incomplete") << lost;
    EXPECT_EQ(cli({"identify", kImage, "--json"}).json()["results"][0]["complete"], false) << lost;
    const Outcome converted = cli({"convert", kImage, "--to", "xiso", "--out", fmt::format("out{}.iso", lost)});
    EXPECT_EQ(converted.exit_code, 1) << "written as far as it can be read, and told";
    EXPECT_NE(converted.out.find("the input is damaged"), std::string::npos) << converted.out;
    EXPECT_NE(cli({"convert", kImage, "--to", "xiso", "--out", "no.iso", "--strict"}).exit_code, 0);
    EXPECT_FALSE(fs::exists(folder / "no.iso")) << lost;
  }
  fs::resize_file(folder / kImage, whole);
  EXPECT_EQ(cli({"check", kImage}).exit_code, 0);
}

TEST_F(XboxGames, OfAFolderTheImageThatWasCutOffIsLeftOutAndTold) {
  fs::create_directories(folder / "shelf");
  fs::copy_file(folder / kImage, folder / "shelf/whole.iso");
  fs::copy_file(folder / kImage, folder / "shelf/cut.iso");
  fs::resize_file(folder / "shelf/cut.iso", fs::file_size(folder / kImage) - 1);
  const Outcome run = cli({"convert", "shelf", "--to", "xiso", "--out", "packed/"});
  EXPECT_EQ(run.exit_code, 3) << run.err;
  EXPECT_NE((run.out + run.err).find("cut.iso"), std::string::npos);
  EXPECT_TRUE(fs::exists(folder / "packed/whole.iso"));
  EXPECT_FALSE(fs::exists(folder / "packed/cut.iso"));
  const Outcome check = cli({"check", "shelf", "--json"});
  EXPECT_EQ(check.exit_code, 1) << "one of the two is no good news";
  std::map<std::string, int> verdicts;
  const auto document = check.json();
  for (const auto& r : document["results"]) ++verdicts[r["verdict"].get<std::string>()];
  EXPECT_EQ(verdicts["intact"], 1);
  EXPECT_EQ(verdicts["incomplete"], 1);
}

}  // namespace
}  // namespace opifex
