#include "program.hpp"

namespace opifex::testkit {
namespace {

class ConvertTest : public Program {
 protected:
  void SetUp() override { make_workshop(); }
};

TEST_F(ConvertTest, AnIsoThatWouldLoseTheMusicIsRefusedAndNothingIsWritten) {
  const auto before = listing(folder.path());
  const Outcome run = cli({"convert", moth, "--to", "iso"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_EQ(
      run.err,
      "opifex: audio and form2 would be lost in iso\n"
      "  where: Moth & Lantern.cue: found audio (tracks 2 to 4), form2 (24 sectors, the first at 00:02:27 (LBA 27))\n"
      "  try: add --accept audio,form2 if that is meant; --to cue loses nothing\n");
  EXPECT_EQ(listing(folder.path()), before);
}

TEST_F(ConvertTest, AcceptingOneLossIsNotAcceptingTheOther) {
  const Outcome run = cli({"convert", moth, "--to", "iso", "--accept", "audio"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_TRUE(contains(run.err, "form2 would be lost")) << run.err;
  EXPECT_EQ(cli({"convert", moth, "--to", "iso", "--accept=form2,audio"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(*this / "Moth & Lantern.iso"), 300u * 2048u);
}

TEST_F(ConvertTest, APlanTellsAllAndWritesNothing) {
  const auto before = listing(folder.path());
  const Outcome plan = cli({"convert", moth, "--to", "vcd", "--plan"});
  EXPECT_EQ(plan.exit_code, 0);
  EXPECT_TRUE(contains(plan.out, "loss        none")) << plan.out;
  EXPECT_TRUE(contains(plan.out, "space       4.5 MiB needed")) << plan.out;
  const Outcome refused = cli({"convert", moth, "--to", "iso", "--plan", "--json"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_EQ(refused.json()["results"][0]["losses"][0]["kind"], "audio");
  EXPECT_EQ(refused.json()["results"][0]["losses"][0]["accepted"], false);
  EXPECT_EQ(refused.json()["results"][0]["planned_only"], true);
  EXPECT_EQ(listing(folder.path()), before);
}

TEST_F(ConvertTest, AnExistingFileIsKept) {
  write_file(*this / "mine.vcd", "precious");
  const Outcome run = cli({"convert", moth, "--to", "vcd", "--out", "mine.vcd"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_EQ(read_file(*this / "mine.vcd"), "precious");
  EXPECT_EQ(cli({"convert", moth, "--to", "vcd", "--out", "mine.vcd", "--overwrite"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(*this / "mine.vcd"), 0x100000u + 1575u * 2352u);
}

TEST_F(ConvertTest, TheInputIsNeverOverwritten) {
  const std::string before = sha256_file(*this / "Kestrel Circuit (Disc 1).bin");
  const Outcome run = cli({"convert", kestrel1, "--to", "cue", "--overwrite"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_TRUE(contains(run.err, "overwrite its own input")) << run.err;
  EXPECT_EQ(sha256_file(*this / "Kestrel Circuit (Disc 1).bin"), before);
}

TEST_F(ConvertTest, ALoneBinGetsASheet) {
  const Outcome run = cli({"convert", kestrel2, "--to", "cue", "--out", "sheets/", "--prove"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(read_file(*this / "sheets/Kestrel Circuit (Disc 2).cue"),
            "FILE \"Kestrel Circuit (Disc 2).bin\" BINARY\r\n  TRACK 01 MODE2/2352\r\n    INDEX 01 00:00:00\r\n");
  EXPECT_EQ(sha256_file(*this / "sheets/Kestrel Circuit (Disc 2).bin"), sha256_file(*this / kestrel2));
}

TEST_F(ConvertTest, OtherExtensionsOfRawImagesAreTreatedAlike) {
  for (const char* extension : {".img", ".raw", ".iso", ".dat"}) {
    const std::string name = std::string("copy") + extension;
    fs::copy_file(*this / kestrel2, *this / name);
    EXPECT_EQ(cli({"identify", name, "--json"}).json()["results"][0]["format"], "bin")
        << "content tells, not " << extension;
  }
}

TEST_F(ConvertTest, IsoToBinToIsoGivesTheSameBytes) {
  EXPECT_EQ(cli({"convert", kestrel1, "--to", "iso", "--out", "a.iso"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "a.iso", "--to", "bin", "--out", "b.bin"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "b.bin", "--to", "iso", "--out", "c.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "a.iso"), sha256_file(*this / "c.iso"));
}

TEST_F(ConvertTest, ATargetDriveWithTooSmallRulesIsToldBeforehand) {
  // 5 GiB of holes: a DVD image as large as FAT32 cannot hold.
  write_file(*this / "dvd.iso", "");
  fs::resize_file(*this / "dvd.iso", 5ull << 30);
  const Outcome run = cli({"convert", "dvd.iso", "--to", "iso", "--out", "copy.iso", "--fs", "fat32"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_TRUE(contains(run.err, "too large for fat32")) << run.err;
  EXPECT_FALSE(fs::exists(*this / "copy.iso"));
}

TEST_F(ConvertTest, FilesOver4GiBAreCopiedWholeAndStaySparse) {
  write_file(*this / "dvd.iso", "");
  fs::resize_file(*this / "dvd.iso", (5ull << 30) + 2048);
  const Outcome run = cli({"convert", "dvd.iso", "--to", "iso", "--out", "copy.iso"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(fs::file_size(*this / "copy.iso"), (5ull << 30) + 2048);
  const Outcome refused = cli({"convert", "dvd.iso", "--to", "cue", "--out", "x.cue"});
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_TRUE(contains(refused.err, "too large to be a CD")) << refused.err;
}

TEST_F(ConvertTest, MergeAndSplitComeBackToTheSameFiles) {
  EXPECT_EQ(cli({"merge", moth, "--out", "one/"}).exit_code, 0);
  for (const char* gaps : {"own", "previous"}) {
    const std::string out = std::string("tracks-") + gaps;
    EXPECT_EQ(cli({"split", "one/Moth & Lantern.cue", "--out", out, "--by", "tracks", "--gaps", gaps}).exit_code, 0);
    EXPECT_EQ(cli({"merge", out + "/Moth & Lantern.cue", "--out", out + "/merged.cue"}).exit_code, 0);
    EXPECT_EQ(sha256_file(*this / (out + "/merged.bin")), sha256_file(*this / "one/Moth & Lantern.bin"));
  }
  for (int t = 1; t <= 4; ++t) {
    const std::string name = fmt::format("Moth & Lantern (Track {}).bin", t);
    EXPECT_EQ(sha256_file(*this / ("tracks-own/" + name)), sha256_file(*this / name));
  }
  EXPECT_EQ(fs::file_size(*this / "tracks-previous/Moth & Lantern (Track 1).bin"), (300u + 150u) * 2352u);
}

TEST_F(ConvertTest, ABareBinOfSeveralTracksLosesTheirBorders) {
  const Outcome run = cli({"convert", moth, "--to", "bin"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_TRUE(contains(run.err, "tracks would be lost in bin")) << run.err;
}

TEST_F(ConvertTest, OddSectorsAreNotLostSilentlyInAnIso) {
  flip_byte(*this / "Kestrel Circuit (Disc 1).bin", 50 * 2352 + 2100);
  const Outcome run = cli({"convert", kestrel1, "--to", "iso", "--out", "a.iso"});
  EXPECT_EQ(run.exit_code, 4);
  EXPECT_TRUE(contains(run.err, "raw-headers (1 sector, the first at 00:02:50 (LBA 50))")) << run.err;
}

TEST_F(ConvertTest, MissingTracksAreNamed) {
  fs::remove(*this / "Moth & Lantern (Track 3).bin");
  const Outcome run = cli({"convert", moth, "--to", "vcd"});
  EXPECT_EQ(run.exit_code, 3);
  EXPECT_TRUE(contains(run.err, "the file of track 3 is missing")) << run.err;
  EXPECT_TRUE(contains(run.err, "line ")) << run.err;
}

}  // namespace
}  // namespace opifex::testkit
