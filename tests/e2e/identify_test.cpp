#include "program.hpp"

namespace opifex::testkit {
namespace {

class IdentifyTest : public Program {};

TEST_F(IdentifyTest, TellsDiscPlatformAndTracks) {
  make_workshop();
  const Outcome run = cli({"identify", moth});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_EQ(run.out,
            "Moth & Lantern.cue\n"
            "  Format      cue sheet with a bin for each track\n"
            "  Platform    PS1\n"
            "  Known by    SYSTEM.CNF: BOOT = cdrom:\\PRXS_001.01;1; PRXS_001.01 is an executable of this platform\n"
            "  Serial      PRXS-00101\n"
            "  Title       MOTH_LANTERN\n"
            "  Region      North America\n"
            "  Disc        1 data track + 3 audio tracks, 00:21:00 long\n"
            "  Size        3.5 MiB (3 704 400 bytes) in 4 files\n"
            "  Complete    yes\n"
            "\n"
            "  Track  Kind        Start      LBA  Pregap    Length        Bytes  File\n"
            "      1  MODE2/2352  00:02:00     0  -         00:04:00    705 600  Moth & Lantern (Track 1).bin\n"
            "      2  AUDIO       00:08:00   450  00:02:00  00:06:00  1 058 400  Moth & Lantern (Track 2).bin\n"
            "      3  AUDIO       00:14:00   900  -         00:05:00    882 000  Moth & Lantern (Track 3).bin\n"
            "      4  AUDIO       00:19:00  1275  -         00:04:00    705 600  Moth & Lantern (Track 4).bin\n");
}

TEST_F(IdentifyTest, TheFixedKeysOfTheJsonAreThere) {
  make_workshop();
  const nlohmann::json result = cli({"identify", moth, "--json"}).json()["results"][0];
  for (const char* key : {"path", "format", "platform", "title", "serial", "title_id", "region", "disc", "size_bytes",
                          "complete", "confidence", "tracks", "partitions", "parts", "warnings"})
    EXPECT_TRUE(result.contains(key)) << key;
  for (const char* key : {"number", "mode", "start_lba", "pregap_sectors", "length_sectors", "file"})
    EXPECT_TRUE(result["tracks"][1].contains(key)) << key;
  EXPECT_EQ(result["platform"], "ps1");
  EXPECT_EQ(result["tracks"][1]["pregap_sectors"], 150);
}

TEST_F(IdentifyTest, AMissingFileLeavesTheRestAndIsBadNews) {
  make_workshop();
  fs::remove(*this / "Moth & Lantern (Track 3).bin");
  const Outcome run = cli({"identify", moth});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "Complete    NO")) << run.out;
  EXPECT_TRUE(contains(run.out, "[missing_file]")) << run.out;
  EXPECT_TRUE(contains(run.out, "PRXS-00101")) << run.out;
  EXPECT_TRUE(contains(run.out, "      3  AUDIO       00:14:00  900  -         ?                 ?  (missing)\n"))
      << run.out;
  EXPECT_TRUE(contains(run.out, "      4  AUDIO       ?           ?  -")) << "its place is not known: " << run.out;
}

TEST_F(IdentifyTest, ANameThatIsNearlyRightIsSuggested) {
  make_workshop();
  EXPECT_TRUE(contains(cli({"identify", "Moth & Lantern"}).err, "did you mean 'Moth & Lantern.cue'?"));
  EXPECT_TRUE(contains(cli({"identify", "Moth & Lantren.cue"}).err, "did you mean 'Moth & Lantern.cue'?"));
}

TEST_F(IdentifyTest, UnknownFilesAreBadNewsWithTheirFirstBytes) {
  write_file(*this / "a.dat", "GIF89a and so on and on");
  const Outcome run = cli({"identify", "a.dat"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "unknown: 23 bytes that begin 474946383961")) << run.out;
}

TEST_F(IdentifyTest, WhatIsNoFileIsRefused) {
  fs::create_directory(*this / "folder");
  EXPECT_TRUE(contains(cli({"identify", "folder"}).out, "no games"));
  const Outcome run = cli({"check", "folder"});
  EXPECT_EQ(run.exit_code, 3);
  EXPECT_TRUE(contains(run.err, "there is no image in this folder")) << run.err;
  write_file(*this / "empty.bin", "");
  EXPECT_EQ(cli({"identify", "empty.bin"}).exit_code, 3);
}

TEST_F(IdentifyTest, NamesThatOtherDrivesCannotHoldAreWarnedOf) {
  make_workshop();
  fs::rename(*this / kestrel2, *this / "Kestrel: the second?.bin");
  const Outcome run = cli({"identify", "Kestrel: the second?.bin"});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_TRUE(contains(run.out, "[odd_name]")) << run.out;
  write_file(*this / "long.cue",
             "FILE \"" + std::string(300, 'n') + ".bin\" BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n");
  EXPECT_TRUE(contains(cli({"identify", "long.cue"}).out, "[overlong_name]"));
}

TEST_F(IdentifyTest, TheUsersWordDecidesWhereTheBytesCannot) {
  write_file(*this / "zero.bin", std::string(2352 * 2048, '\0'));
  const Outcome unsure = cli({"identify", "zero.bin"});
  EXPECT_EQ(unsure.exit_code, 3);
  EXPECT_TRUE(contains(unsure.err, "--sector-size 2352 if it is audio")) << unsure.err;
  EXPECT_EQ(cli({"identify", "zero.bin", "--sector-size", "2352", "--json"}).json()["results"][0]["tracks"][0]["mode"],
            "AUDIO");
  EXPECT_EQ(cli({"identify", "zero.bin", "--sector-size", "2048", "--mode", "2", "--json"})
                .json()["results"][0]["tracks"][0]["mode"],
            "MODE2/2048");
}

TEST_F(IdentifyTest, VectorsAreToldWithTheirWarnings) {
  const Outcome run = cli({"identify", vector_path("cd/cue/good/wrong-case.cue").string()});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_TRUE(contains(run.out, "t1.bin is taken for T1.BIN")) << run.out;
}

TEST_F(IdentifyTest, CartridgesFloppiesAndPackagesAreNoDiscs) {
  using nlohmann::json;
  struct Case {
    const char *vector, *name, *format, *platform, *said, *verdict;
  };
  const Case cases[] = {{"floppycart/kestrel.sfc.gz", "kestrel.sfc", "rom", "snes", "this is a ROM", "intact"},
                        {"floppycart/stuck-d6-low.gb.gz", "dirty.gb", "rom", "gb", "this is a ROM", "damaged"},
                        {"floppycart/cyl82-ffs.adf.gz", "disk.adf", "adf", "amiga",
                         "this is a floppy disk of 512-byte blocks", "intact"}};
  for (const Case& c : cases) {
    SCOPED_TRACE(c.name);
    write_file(*this / c.name, gunzip(vector_path(c.vector)));
    const json told = cli({"identify", c.name, "--json"}).json()["results"][0];
    EXPECT_EQ(told["format"], c.format);
    EXPECT_EQ(told["platform"], *c.platform ? json(c.platform) : json());
    EXPECT_TRUE(told["tracks"].empty());
    const Outcome checked = cli({"check", c.name, "--json"});
    EXPECT_EQ(checked.exit_code, std::string_view(c.verdict) == "intact" ? 0 : 1);
    EXPECT_EQ(checked.json()["results"][0]["verdict"], c.verdict);
    EXPECT_EQ(cli({"files", c.name}).exit_code, std::string_view(c.format) == "rom" ? 3 : 0);
    for (const char* target : {"cue", "chd", "iso", "wbfs", "vcd", "god"}) {
      const Outcome refused = cli({"convert", c.name, "--to", target, "--out", "out"});
      EXPECT_EQ(refused.exit_code, 3);
      EXPECT_TRUE(contains(refused.err, c.said)) << refused.err;
      EXPECT_FALSE(contains(refused.err, "too large")) << refused.err;
    }
  }
  // A disc for another console is not told about GameCube discs.
  make_workshop();
  EXPECT_FALSE(contains(cli({"convert", moth, "--to", "wbfs"}).err, "GameCube"));
  fs::copy_file(vector_path("xbox/stfs/ARCADE"), *this / "ARCADE");
  const Outcome package = cli({"convert", "ARCADE", "--to", "cue"});
  EXPECT_EQ(package.exit_code, 3);
  EXPECT_TRUE(contains(package.err, "this is a package of files, not a disc")) << package.err;
  EXPECT_TRUE(contains(package.err, "opifex extract writes its files")) << package.err;
}

}  // namespace
}  // namespace opifex::testkit
