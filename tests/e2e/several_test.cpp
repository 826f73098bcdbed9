// Several images in one command where the words behind the first may be images or paths in them; and sets of GD-ROMs,
// whose tracks are images only together.
#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class Several : public Program {
 protected:
  void SetUp() override {
    for (const char* name : {"joliet.iso", "nested.iso"}) fs::copy_file(vector_path("iso") / name, *this / name);
  }
  void make_gd_rom() { copy_folder(vector_path("iso/dreamcast"), *this / "gd"); }
  std::size_t files_below(const std::string& name) const {
    std::size_t n = 0;
    for (const auto& entry : fs::recursive_directory_iterator(folder / name)) n += entry.is_regular_file() ? 1u : 0u;
    return n;
  }
};

TEST_F(Several, EachImageIsListed) {
  const Outcome run = cli({"files", "joliet.iso", "nested.iso", "--json"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  const json results = run.json()["results"];
  ASSERT_EQ(results.size(), 2u);
  EXPECT_EQ(results[0], cli({"files", "joliet.iso", "--json"}).json()["results"][0]);
  EXPECT_EQ(results[1], cli({"files", "nested.iso", "--json"}).json()["results"][0]);
}

TEST_F(Several, EachImageGetsAFolderOfItsOwn) {
  ASSERT_EQ(cli({"extract", "joliet.iso", "--into", "one"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "nested.iso", "--into", "other"}).exit_code, 0);
  const Outcome run = cli({"extract", "joliet.iso", "nested.iso", "--into", "both"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(listing(*this / "both/joliet"), listing(*this / "one"));
  EXPECT_EQ(listing(*this / "both/nested"), listing(*this / "other"));
}

TEST_F(Several, AWordThatIsNoImageIsAPathInAllOfThem) {
  const Outcome run = cli({"extract", "joliet.iso", "nested.iso", "**/*.txt", "--into", "texts"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  EXPECT_GT(files_below("texts/nested"), 0u);
  write_file(*this / "notes.txt", "no image");
  EXPECT_EQ(cli({"files", "joliet.iso", "notes.txt"}).exit_code, 2) << "a text beside it is taken as a path: not there";
}

TEST_F(Several, APathInTheFirstImageIsMeantWhateverLiesHere) {
  // A folder of this name is here too; to take it for one of images would leave out nothing, and write everything.
  const json entries = cli({"files", "nested.iso", "--json"}).json()["results"][0]["entries"];
  std::string inside;
  for (const json& e : entries)
    if (e["kind"] == "folder") {
      inside = e["path"];
      break;
    }
  ASSERT_FALSE(inside.empty());
  fs::create_directories(folder.path() / inside);
  fs::copy_file(*this / "joliet.iso", folder.path() / inside / "trap.iso");
  const Outcome run = cli({"files", "nested.iso", inside, "--json"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  ASSERT_EQ(run.json()["results"].size(), 1u);
  EXPECT_LT(run.json()["results"][0]["entries"].size(), entries.size());
}

TEST_F(Several, OneThatCannotBeReadDoesNotKeepTheOthersBack) {
  write_file(*this / "broken.iso", std::string(40'960, '\0'));
  const Outcome run = cli({"files", "joliet.iso", "broken.iso", "nested.iso", "--json"});
  EXPECT_NE(run.exit_code, 0) << "it is not all well";
  EXPECT_EQ(run.json()["results"].size(), 2u);
  EXPECT_TRUE(contains(run.err + run.out, "broken.iso"));
  const Outcome missing = cli({"extract", "joliet.iso", "nobody.iso", "--into", "x"});
  EXPECT_EQ(missing.exit_code, 2) << "a name that is nowhere is a path that fits nothing";
}

TEST_F(Several, TheSameImageTwiceIsOneOrATwofoldName) {
  const Outcome run = cli({"extract", "joliet.iso", "./joliet.iso", "--into", "x"});
  EXPECT_EQ(run.exit_code, 2) << "two would go into one folder";
  EXPECT_EQ(cli({"files", "joliet.iso", "joliet.iso", "--json"}).json()["results"].size(), 1u);
}

TEST_F(Several, TwoPathsOfAListAreOneTooMany) {
  const Outcome run = cli({"files", "joliet.iso", "a", "b"});
  EXPECT_EQ(run.exit_code, 2);
  EXPECT_TRUE(contains(run.err, "at most one path")) << run.err;
}

TEST_F(Several, AGdRomIsOneImageInAFolder) {
  make_gd_rom();
  const Outcome run = cli({"check", "gd", "--json"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(run.json()["results"].size(), 1u);
  const Outcome plan = cli({"convert", "gd", "--to", "chd", "--out", "out/", "--plan"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_TRUE(contains(plan.out, "1 image")) << plan.out;
}

TEST_F(Several, AGdRomIsOneImageInAnArchive) {
  make_gd_rom();
  ASSERT_EQ(
      run_program("/usr/bin/bsdtar",
                  {"-a", "-cf", "../gd.zip", "disc.gdi", "track01.iso", "track 02.raw", "track03.iso"}, *this / "gd")
          .exit_code,
      0);
  const Outcome run = cli({"check", "gd.zip", "--json"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(run.json()["results"].size(), 1u) << "its tracks are no images of their own";
  EXPECT_EQ(cli({"convert", "gd.zip", "--to", "chd", "--out", "a.chd"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "gd/disc.gdi", "--to", "chd", "--out", "b.chd"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "a.chd"), sha256_file(*this / "b.chd"));
}

TEST_F(Several, AGdRomIsRenamedWithItsTracks) {
  make_gd_rom();
  const Outcome before = cli({"check", "gd/disc.gdi", "--hashes", "sha1", "--json"});
  const Outcome run = cli({"rename", "gd/disc.gdi", "Quarry Lights"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  EXPECT_TRUE(contains(run.out, "track03.iso -> Quarry Lights (Track 3).iso")) << run.out;
  EXPECT_EQ(files_below("gd"), 4u);
  const Outcome after = cli({"check", "gd/Quarry Lights.gdi", "--hashes", "sha1", "--json"});
  ASSERT_EQ(after.exit_code, 0) << after.err;
  EXPECT_EQ(after.json()["results"][0]["tracks"], before.json()["results"][0]["tracks"]) << "the same bytes";
}

TEST_F(Several, AFileThatWentSinceIsNotRenamedInSilence) {
  make_gd_rom();
  fs::remove(*this / "gd/track 02.raw");
  const auto before = listing(*this / "gd");
  EXPECT_EQ(cli({"rename", "gd/disc.gdi", "New"}).exit_code, 3);
  EXPECT_EQ(listing(*this / "gd"), before);
}

class RepairingSeveral : public Program {
 protected:
  void SetUp() override {
    make_workshop();
    fs::create_directories(*this / "shelf");
    for (const char* name : {"good", "bad", "worse", "lost"}) {
      const fs::path copy = folder / fmt::format("shelf/{}.bin", name);
      fs::copy_file(*this / kestrel2, copy);
    }
    damage("bad", 1);
    damage("worse", 3);
    const std::string lost = read_file(*this / "shelf/lost.bin");
    write_file(*this / "shelf/lost.bin",
               lost.substr(0, 60 * 2352) + std::string(20 * 2352, 'x') + lost.substr(80 * 2352));
  }
  /// So many sectors with a few wrong bytes each.
  void damage(const std::string& name, int sectors) {
    for (int i = 0; i < sectors; ++i)
      for (int byte = 0; byte < 3; ++byte)
        flip_byte(folder / fmt::format("shelf/{}.bin", name),
                  static_cast<std::uint64_t>((40 + 7 * i) * 2352 + 500 + 90 * byte));
  }
};

TEST_F(RepairingSeveral, TheDamagedOnesAreMendedAndTheOthersToldWhy) {
  const auto before = listing(*this / "shelf");
  const std::string whole = sha256_file(*this / "shelf/good.bin");
  const Outcome run = cli({"check", "shelf", "--repair", "--out", "mended/"});
  EXPECT_NE(run.exit_code, 0) << "one of them cannot be mended";
  EXPECT_EQ(sha256_file(*this / "mended/bad.bin"), whole);
  EXPECT_EQ(sha256_file(*this / "mended/worse.bin"), whole);
  EXPECT_FALSE(fs::exists(*this / "mended/good.bin"));
  EXPECT_TRUE(contains(run.out, "good.bin: it is intact")) << run.out;
  EXPECT_EQ(listing(*this / "shelf"), before) << "the inputs are never changed";
}

TEST_F(RepairingSeveral, WhereAllCanBeMendedItIsGoodNews) {
  fs::remove(*this / "shelf/lost.bin");
  const Outcome run =
      cli({"check", "shelf/bad.bin", "shelf/worse.bin", "shelf/good.bin", "--repair", "--out", "mended/"});
  EXPECT_EQ(run.exit_code, 0) << run.err << run.out;
  EXPECT_EQ(listing(*this / "mended").size(), 2u);
  const auto copies = listing(*this / "mended");
  EXPECT_EQ(cli({"check", "shelf", "--repair", "--out", "mended/"}).exit_code, 4) << "they are there already";
  EXPECT_EQ(listing(*this / "mended"), copies);
}

TEST_F(RepairingSeveral, NothingIsWrittenBeforeAllIsKnown) {
  write_file(*this / "mended/worse.bin", "mine");
  EXPECT_EQ(cli({"check", "shelf", "--repair", "--out", "mended/"}).exit_code, 4);
  EXPECT_EQ(listing(*this / "mended").size(), 1u) << "bad.bin was not begun either";
  EXPECT_EQ(cli({"check", "shelf", "--repair", "--out", "one.bin"}).exit_code, 2);
  EXPECT_EQ(cli({"check", "shelf", "--repair", "--out", "shelf/"}).exit_code, 4) << "inputs are not overwritten";
  EXPECT_EQ(cli({"check", "shelf", "--repair", "--overwrite", "--out", "shelf/"}).exit_code, 4);
}

TEST_F(RepairingSeveral, TwoOfOneNameAreRefusedTogether) {
  fs::create_directories(*this / "other");
  fs::copy_file(*this / "shelf/bad.bin", *this / "other/bad.bin");
  const Outcome run = cli({"check", "shelf/bad.bin", "other/bad.bin", "--repair", "--out", "mended/"});
  EXPECT_EQ(run.exit_code, 4) << run.err;
  EXPECT_TRUE(contains(run.err, "copies of the same name")) << run.err;
  EXPECT_FALSE(fs::exists(*this / "mended"));
}

}  // namespace
}  // namespace opifex::testkit
