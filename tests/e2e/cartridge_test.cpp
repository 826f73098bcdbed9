// Cartridges as their owners meet them: what is this, was it read right, and make of it what the loader wants.
#include <algorithm>
#include <chrono>
#include <sstream>
#include <thread>

#include "program.hpp"
#include "running.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class Cartridges : public Program {
 protected:
  /// The vector of this name, unpacked, under its own name or another one.
  std::string take(const std::string& name, std::string as = "") {
    const fs::path packed = vector_path("floppycart/" + name + ".gz");
    if (as.empty()) as = name;
    write_file(*this / as, fs::exists(packed) ? gunzip(packed) : read_file(vector_path("floppycart/" + name)));
    return as;
  }
  json checked(const std::string& name) { return cli({"check", name, "--json"}).json()["results"][0]; }
};

TEST_F(Cartridges, TheFactsStandInTheOrderThatMatters) {
  take("moth.smd");
  const Outcome run = cli({"identify", "moth.smd"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  std::size_t at = 0;
  for (const char* line :
       {"Platform    Mega Drive", "Serial      GM PRXS101-00", "Title       MOTH & LANTERN",
        "Stored      behind a copier's header of 512 bytes, interleaved", "ROM         128.0 KiB, as the header says",
        "Save        8.0 KiB", "the checksum of the ROM, from 0x200 on, is right"}) {
    const std::size_t found = run.out.find(line, at);
    ASSERT_NE(found, std::string::npos) << line << "\n" << run.out;
    at = found;
  }
}

TEST_F(Cartridges, OfAFolderAllAreListedWithWhatIsWrong) {
  for (const char* name : {"moth.gb", "tide.v64", "tide.z64", "over-mirror.md", "stuck-a9.gb", "all-ff.gb"}) take(name);
  write_file(*this / "README.md", std::string(600, 'a') + "\n# a text, and no Mega Drive ROM\n");
  const Outcome run = cli({"identify", "."});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_TRUE(contains(run.out, "over-mirror.md: it was read too far: the chip has 128.0 KiB")) << run.out;
  EXPECT_TRUE(contains(run.out, "stuck-a9.gb: address line A9 has no effect")) << run.out;
  EXPECT_TRUE(contains(run.out, "all-ff.gb: every byte is FF: no cartridge, or no contact")) << run.out;
  EXPECT_FALSE(contains(run.out, "README.md")) << run.out;
}

TEST_F(Cartridges, AnN64ImageIsNoPartOfAnArchive) {
  // .v64 and .z64 count as the 64th parts of old archives, too.
  for (const char* name : {"tide.v64", "tide.z64"}) {
    take(name);
    EXPECT_EQ(cli({"identify", name}).exit_code, 0) << name;
  }
}

TEST_F(Cartridges, PackedOnesAreReadInTheirArchive) {
  fs::copy_file(vector_path("floppycart/nine.gbc.gz"), *this / "nine.gbc.gz");
  EXPECT_EQ(cli({"check", "nine.gbc.gz"}).exit_code, 0);
  const json told = cli({"identify", "nine.gbc.gz", "--json"}).json()["results"];
  EXPECT_TRUE(contains(told.dump(), "NINEBELLS")) << told.dump();
}

TEST_F(Cartridges, ABadContactIsNamedAndTheAdviceIsToCleanIt) {
  take("stuck-d6-low.gb");
  const Outcome run = cli({"check", "stuck-d6-low.gb"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "data line D6 is 0 in every byte")) << run.out;
  EXPECT_TRUE(contains(run.out, "isopropyl")) << run.out;
}

TEST_F(Cartridges, TheUsersWordTellsWhatASpoiledHeaderDoesNot) {
  take("stuck-d2-high.md", "dump.rom");
  EXPECT_EQ(checked("dump.rom")["verdict"], "unsupported");
  const Outcome run = cli({"check", "dump.rom", "--system", "megadrive", "--json"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_EQ(run.json()["results"][0]["verdict"], "damaged");
  EXPECT_EQ(run.json()["results"][0]["cartridge"]["read_faults"], json({"data-bit-high:2"}));
  EXPECT_EQ(cli({"check", "dump.rom", "--system", "megadriv"}).exit_code, 2);
}

TEST_F(Cartridges, OneFlippedBitIsNeverIntactWhereAChecksumCoversIt) {
  Random random(9);
  for (const char* name : {"moth.gb", "kestrel.sfc", "moth.md"}) {
    take(name);
    const std::string whole = read_file(*this / name);
    for (int i = 0; i < 6; ++i) {
      write_file(*this / name, whole);
      flip_byte(*this / name, 0x200 + random.below(whole.size() - 0x200), static_cast<unsigned char>(1u << i));
      EXPECT_NE(checked(name)["verdict"], "intact") << name;
    }
  }
}

TEST_F(Cartridges, ThereAndBackIsTheSameFile) {
  struct Trip {
    const char *from, *option, *value, *there;
  };
  for (const Trip& t : {Trip{"moth.md", "--container", "interleaved", "moth.smd"},
                        Trip{"kestrel.sfc", "--container", "copier", "kestrel.smc"},
                        Trip{"copier.sms", "--container", "copier", "copier.sms"},
                        Trip{"tide.z64", "--byte-order", "swapped", "tide.v64"},
                        Trip{"tide.z64", "--byte-order", "little", "tide.n64"}}) {
    SCOPED_TRACE(t.there);
    take(t.from);
    const Outcome packed = cli({"convert", t.from, "--to", "rom", t.option, t.value, "--out", "there/", "--prove"});
    ASSERT_EQ(packed.exit_code, 0) << packed.err;
    EXPECT_TRUE(contains(packed.out, "proved")) << packed.out;
    const fs::path there = *this / (std::string("there/") + t.there);
    ASSERT_TRUE(fs::exists(there));
    const Outcome plain = cli({"convert", there.string(), "--to", "rom", "--out", "back/", "--overwrite"});
    ASSERT_EQ(plain.exit_code, 0) << plain.err;
    if (std::string_view(t.from) == "copier.sms") continue;  // it had a header of its own
    EXPECT_EQ(read_file(*this / (std::string("back/") + t.from)), read_file(*this / t.from));
  }
  take("kestrel-copier.smc");
  EXPECT_EQ(read_file(*this / "there/kestrel.smc"), read_file(*this / "kestrel-copier.smc"));
}

TEST_F(Cartridges, TrimmingNamesWhatGoesAndPaddingWhatComes) {
  take("over-mirror.sfc");
  const Outcome plan = cli({"convert", "over-mirror.sfc", "--to", "rom", "--trim", "--plan", "--out", "cut/"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_TRUE(contains(plan.out, "padding (filler): the last 256.0 KiB")) << plan.out;
  EXPECT_FALSE(fs::exists(*this / "cut"));
  ASSERT_EQ(cli({"convert", "over-mirror.sfc", "--to", "rom", "--trim", "--out", "cut/"}).exit_code, 0);
  EXPECT_EQ(checked("cut/over-mirror.sfc")["verdict"], "intact");

  take("trimmed.gb");
  ASSERT_EQ(cli({"convert", "trimmed.gb", "--to", "rom", "--pad", "--out", "full/"}).exit_code, 0);
  EXPECT_EQ(checked("full/trimmed.gb")["verdict"], "intact");
  take("under.gb");
  EXPECT_EQ(cli({"convert", "trimmed.gb", "--to", "rom", "--pad", "00", "--out", "wrong/"}).exit_code, 1)
      << "it was FF that was cut off";
  const Outcome hidden = cli({"convert", "under.gb", "--to", "rom", "--pad", "--out", "full/"});
  EXPECT_TRUE(contains(hidden.out, "no checksum confirms")) << hidden.out;
}

TEST_F(Cartridges, AChecksumIsOnlyPutRightWithTheUsersWord) {
  take("bad-sum.sfc");
  const std::string before = read_file(*this / "bad-sum.sfc");
  const std::vector<std::string> words = {"convert",         "bad-sum.sfc", "--to",   "rom",
                                          "--fix-checksums", "--out",       "new.sfc"};
  const Outcome asked = cli(words);
  EXPECT_EQ(asked.exit_code, 4);
  EXPECT_TRUE(contains(asked.err, "--accept header")) << asked.err;
  EXPECT_FALSE(fs::exists(*this / "new.sfc"));
  std::vector<std::string> accepted = words;
  accepted.insert(accepted.end(), {"--accept", "header"});
  const Outcome done = cli(accepted);
  EXPECT_EQ(done.exit_code, 0) << done.err;
  EXPECT_FALSE(contains(done.out, "proved")) << "it is not what was read";
  EXPECT_EQ(checked("new.sfc")["verdict"], "intact");
  EXPECT_EQ(read_file(*this / "bad-sum.sfc"), before);
}

TEST_F(Cartridges, WhatAMachineDoesNotHaveIsRefusedInWords) {
  take("moth.gb");
  for (const auto& [option, value, said] : {std::tuple("--container", "copier", "have no copier's header"),
                                            std::tuple("--container", "interleaved", "never interleaved"),
                                            std::tuple("--byte-order", "little", "one order of bytes")}) {
    const Outcome run = cli({"convert", "moth.gb", "--to", "rom", option, value, "--out", "x.gb"});
    EXPECT_EQ(run.exit_code, 3);
    EXPECT_TRUE(contains(run.err, said)) << run.err;
  }
  EXPECT_EQ(cli({"convert", "moth.gb", "--to", "rom"}).exit_code, 4) << "it would get the input's own name";
  EXPECT_EQ(cli({"convert", "moth.gb", "--to", "chd", "--out", "x.chd"}).exit_code, 3);
}

TEST_F(Cartridges, TwoReadingsShowTheContactThatFlickers) {
  take("repeat-d5-1.gb");
  take("quarry.gb");
  const Outcome run = cli({"check", "repeat-d5-1.gb", "--same-as", "quarry.gb"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "only in D5")) << run.out;
  take("repeat-a13-1.gb");
  take("repeat-a13-2.gb");
  EXPECT_TRUE(contains(cli({"check", "repeat-a13-1.gb", "--same-as", "repeat-a13-2.gb"}).out,
                       "only where bit 13 of the address is 1"));
  // The same cartridge, stored in two ways.
  take("tide.n64");
  take("tide.v64");
  EXPECT_EQ(cli({"check", "tide.n64", "--same-as", "tide.v64"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "tide.n64", "--same-as", "quarry.gb"}).exit_code, 1);
}

TEST_F(Cartridges, AWholeFolderIsConvertedAtOnce) {
  for (const char* name : {"moth.smd", "kestrel-copier.smc", "tide.v64", "moth.gb"})
    take(name, std::string("in/") + name);
  const Outcome run = cli({"convert", "in", "--to", "rom", "--out", "plain/", "--prove"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  for (const char* name : {"moth.md", "kestrel-copier.sfc", "tide.z64", "moth.gb"})
    EXPECT_TRUE(fs::exists(*this / (std::string("plain/") + name))) << name;
}

// ---- in a reader

class Readers : public Cartridges {
 protected:
  void describe(const std::string& faults, const std::string& more = "") {
    take("moth.gb");
    if (!fs::exists(*this / "moth.sav")) write_file(*this / "moth.sav", as_text(Random(3).bytes(8192)));
    write_file(*this / "reader.toml",
               "faults = [" + faults + "]\n[cartridge]\nrom = \"moth.gb\"\nsave = \"moth.sav\"\n" + more);
  }
  Outcome dump(std::vector<std::string> more = {}) {
    std::vector<std::string> words = {"dump", "sim:reader.toml", "--out", "out/"};
    words.insert(words.end(), more.begin(), more.end());
    return cli(words);
  }
};

TEST_F(Readers, ThePlanShowsTheHeaderAndWritesNothing) {
  describe("");
  const Outcome run = dump({"--plan"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  for (const char* part : {"Opifex simulated reader", "Game Boy", "MOTH LANTERN", "64.0 KiB, by the header", "8.0 KiB"})
    EXPECT_TRUE(contains(run.out, part)) << part << "\n" << run.out;
  EXPECT_FALSE(fs::exists(*this / "out"));
}

TEST_F(Readers, DirtyItIsRefusedWithAdviceAndCleanedItIsProved) {
  describe("\"no-contact\"");
  const Outcome dirty = dump();
  EXPECT_EQ(dirty.exit_code, 5);
  EXPECT_TRUE(contains(dirty.err, "isopropyl alcohol")) << dirty.err;
  EXPECT_FALSE(fs::exists(*this / "out"));
  describe("\"dirty:5=0.00005\"");
  const Outcome flickers = dump();
  EXPECT_EQ(flickers.exit_code, 1);
  EXPECT_TRUE(contains(flickers.out, "UNSURE")) << flickers.out;
  EXPECT_TRUE(contains(flickers.out, "data line D5")) << flickers.out;
  describe("");
  EXPECT_EQ(dump().exit_code, 4) << "what is there is not written over";
  const Outcome clean = dump({"--overwrite", "--record"});
  EXPECT_EQ(clean.exit_code, 0) << clean.err;
  EXPECT_TRUE(contains(clean.out, "PROVED")) << clean.out;
  EXPECT_EQ(read_file(*this / "out/MOTH LANTERN.gb"), read_file(*this / "moth.gb"));
  EXPECT_EQ(read_file(*this / "out/MOTH LANTERN.sav"), read_file(*this / "moth.sav"));
  EXPECT_TRUE(contains(read_file(*this / "out/MOTH LANTERN.dump.txt"), "PROVED"));
  EXPECT_EQ(checked("out/MOTH LANTERN.gb")["verdict"], "intact");
}

TEST_F(Readers, PulledAndPutInAgainItGoesOn) {
  describe("\"unplug:40000\"");
  const Outcome pulled = dump();
  EXPECT_EQ(pulled.exit_code, 5);
  EXPECT_TRUE(contains(pulled.err, "it goes on where it stopped")) << pulled.err;
  describe("");
  EXPECT_TRUE(contains(dump({"--plan"}).out, "of it done by the unfinished dump"));
  const json again = dump({"--json"}).json()["results"][0];
  EXPECT_EQ(again["verdict"], "proved");
  EXPECT_EQ(again["resumed"], true);
  EXPECT_EQ(listing(*this / "out").size(), 2u);
}

TEST_F(Readers, FiguresShowWhereItDifferedAndThroughWhichLine) {
  describe("\"dirty:5=0.00005\"");
  const Outcome run = dump({"--report", "figures"});
  EXPECT_EQ(run.exit_code, 1) << run.err;
  std::istringstream lines(read_file(*this / "figures/data-lines.dat"));
  std::string head;
  std::getline(lines, head);
  unsigned line = 0;
  double ones = 0;
  for (std::uint64_t differed = 0; lines >> line >> ones >> differed;) EXPECT_EQ(differed > 0, line == 5) << line;
  EXPECT_EQ(line, 7u) << "all eight lines are drawn";
  const std::string map = read_file(*this / "figures/read-map.dat");
  EXPECT_EQ(std::count(map.begin(), map.end(), '\n'), 1 + 65536 / 256);
  for (const char* file : {"read-map.png", "read-map.svg", "data-lines.png", "data-lines.gp"})
    EXPECT_GT(fs::file_size(*this / "figures" / file), 300u) << file;
  // What is drawn already is not drawn over, and nothing is read for it.
  fs::remove_all(*this / "out");
  EXPECT_EQ(dump({"--report", "figures"}).exit_code, 4);
  EXPECT_FALSE(fs::exists(*this / "out"));
}

TEST_F(Readers, KilledAtRandomMomentsItStillComesToTheSameBytes) {
  // Two seconds or so for all of it.
  describe("", "[reader]\nbytes_per_second = 40000\n");
  const std::vector<std::string> words = {"dump", "sim:reader.toml", "--out", "out/", "--save-every",
                                          "20ms", "--hashes",        "none"};
  const auto seed = static_cast<std::uint64_t>(::getpid());
  SCOPED_TRACE(fmt::format("seed {}", seed));
  Random random(seed);
  int killed = 0;
  for (int i = 0; i < 4; ++i) {
    const Running run(folder.path(), words);
    std::this_thread::sleep_for(std::chrono::milliseconds(500 + random.below(1500)));
    run.kill(SIGKILL);
    killed += run.wait() == -SIGKILL ? 1 : 0;
    if (!fs::exists(*this / "out/MOTH LANTERN.gb")) continue;
    ASSERT_EQ(read_file(*this / "out/MOTH LANTERN.gb"), read_file(*this / "moth.gb")) << "after run " << i;
    fs::remove_all(*this / "out");
  }
  EXPECT_GE(killed, 2) << "too few were still running to prove anything";
  EXPECT_EQ(Running(folder.path(), words).wait(), 0);
  EXPECT_EQ(read_file(*this / "out/MOTH LANTERN.gb"), read_file(*this / "moth.gb"));
  EXPECT_EQ(listing(*this / "out").size(), 2u) << "nothing of the unfinished ones is left";
  // Ctrl-C ends it, and keeps what there is.
  fs::remove_all(*this / "out");
  const Running stopped(folder.path(), words);
  // On a busy machine it takes long to begin.
  const fs::path state = *this / "out/MOTH LANTERN.gb.opifex-state";
  for (int i = 0; i < 600 && !fs::exists(state); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(50));
  stopped.kill(SIGINT);
  EXPECT_EQ(stopped.wait(), 130);
  EXPECT_TRUE(fs::exists(state));
  EXPECT_EQ(Running(folder.path(), words).wait(), 0);
  EXPECT_EQ(read_file(*this / "out/MOTH LANTERN.gb"), read_file(*this / "moth.gb"));
  EXPECT_EQ(read_file(*this / "out/MOTH LANTERN.sav"), read_file(*this / "moth.sav"));
  EXPECT_EQ(listing(*this / "out").size(), 2u);
}

TEST_F(Readers, ANesCartridgeIsReadByItsUsersWord) {
  take("quarry.nes");
  write_file(*this / "reader.toml", "[cartridge]\nrom = \"quarry.nes\"\nsave = \"quarry.sav\"\n");
  write_file(*this / "quarry.sav", as_text(Random(4).bytes(8192)));
  EXPECT_EQ(dump().exit_code, 5) << "it has no header";
  EXPECT_EQ(dump({"--system", "nes"}).exit_code, 3) << "and nobody said a size";
  EXPECT_EQ(dump({"--mapper", "1"}).exit_code, 2) << "a number is an NES mapper";
  EXPECT_EQ(dump({"--system", "nes", "--mapper", "abc"}).exit_code, 2);
  const Outcome half = dump({"--system", "nes", "--size", "32KiB", "--mapper", "1"});
  EXPECT_EQ(half.exit_code, 1) << "nobody said that it has no character ROM";
  EXPECT_TRUE(contains(half.err, "--chr-size")) << half.err;
  fs::remove_all(*this / "out");
  EXPECT_EQ(dump({"--system", "nes", "--size", "32KiB", "--mapper", "1", "--chr-size", "0"}).exit_code, 0);
  fs::remove_all(*this / "out");
  const Outcome run = dump({"--system", "nes", "--size", "32KiB", "--chr-size", "8KiB", "--mapper", "1", "--mirroring",
                            "vertical", "--save-size", "8KiB"});
  EXPECT_EQ(run.exit_code, 0) << run.err << run.out;
  const std::string file = read_file(*this / "out/NES cartridge.nes"), truth = read_file(*this / "quarry.nes");
  EXPECT_EQ(file.substr(16), truth.substr(16));
  EXPECT_EQ(file.substr(4, 4), truth.substr(4, 4)) << "sizes, mapper and mirroring";
  EXPECT_EQ(checked("out/NES cartridge.nes")["verdict"], "intact");
}

TEST_F(Readers, TheSaveAloneAndWhatIsNoReader) {
  describe("");
  const Outcome save = dump({"--only", "save"});
  EXPECT_EQ(save.exit_code, 0) << save.err;
  EXPECT_EQ(listing(*this / "out").size(), 1u);
  write_file(*this / "bad.toml", "faults = [\"rust:7\"]\n[cartridge]\nrom = \"moth.gb\"\n");
  EXPECT_EQ(cli({"dump", "sim:bad.toml", "--out", "x/"}).exit_code, 3);
  EXPECT_EQ(cli({"dump", "/dev/ttyNOTHING", "--out", "x/"}).exit_code, 3);
  EXPECT_EQ(cli({"dump", "/dev/null", "--out", "x/"}).exit_code, 3);
}

}  // namespace
}  // namespace opifex::testkit
