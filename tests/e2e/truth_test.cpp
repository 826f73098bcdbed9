// What is said must be so: proofs that compare, damage that is told, numbers that fit each other.
#include <sys/stat.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/cd/sector.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

class Truth : public Program {
 protected:
  fs::path take(const std::string& vector, const std::string& name) {
    fs::create_directories((*this / name).parent_path());
    fs::copy_file(vector_path(vector), *this / name);
    fs::permissions(*this / name, fs::perms::owner_write, fs::perm_options::add);
    return *this / name;
  }
  Outcome shell(const std::string& line) { return run_program("/bin/sh", {"-c", line, OPIFEX_PROGRAM}, folder.path()); }
  nlohmann::json first(const std::vector<std::string>& words) { return cli(words).json()["results"][0]; }
  void make_sheet(const std::string& name, const std::string& bin, const std::string& tracks) {
    write_file(*this / name, "FILE \"" + bin + "\" BINARY\n" + tracks);
  }
};

TEST_F(Truth, AnImageOfAFolderIsProvedByItsFiles) {
  copy_folder(vector_path("iso/tree"), *this / "tree");
  const std::string longest = std::string(90, 'n') + ".bin";
  write_file(*this / ("tree/" + longest), "a name that no Joliet tree holds");
  const Outcome iso = cli({"build", "tree", "--as", "iso", "--out", "t.iso", "--prove"});
  EXPECT_EQ(iso.exit_code, 0) << iso.err;
  EXPECT_TRUE(contains(iso.out, "byte by byte, 1 of them under another name")) << iso.out;
  EXPECT_EQ(cli({"extract", vector_path("xbox/orchard.iso").string(), "--into", "game"}).exit_code, 0);
  for (const char* as : {"xiso", "god"}) {
    const Outcome game = cli({"build", "game", "--as", as, "--out", std::string("made-") + as, "--prove"});
    EXPECT_EQ(game.exit_code, 0) << game.err;
    EXPECT_TRUE(contains(game.out, "proved: ")) << game.out;
  }
  EXPECT_EQ(cli({"extract", vector_path("wii/gc-moth.iso").string(), "--into", "gc"}).exit_code, 0);
  const Outcome gc = cli({"build", "gc", "--as", "gamecube-iso", "--out", "gc.iso", "--prove"});
  EXPECT_EQ(gc.exit_code, 0);
  EXPECT_TRUE(contains(gc.out, "made anew: system/header.bin, system/files.fst")) << gc.out;
}

TEST_F(Truth, ADumpGoesIntoEveryContainerThatFits) {
  for (const auto& [vector, to] : {std::pair("xbox/tiny.iso", "xiso"), std::pair("xbox/tiny.iso", "god"),
                                   std::pair("wii/wii-tiny.iso", "wbfs"), std::pair("iso/joliet.iso", "chd")}) {
    SCOPED_TRACE(to);
    const std::string image = vector_path(vector).string(), out = std::string("d-") + to + "/";
    EXPECT_EQ(cli({"dump", image, "--to", to, "--out", out, "--plan"}).exit_code, 0);
    const Outcome run = cli({"dump", image, "--to", to, "--out", out, "--prove", "--json"});
    ASSERT_EQ(run.exit_code, 0) << run.err;
    const auto r = run.json()["results"][0];
    EXPECT_TRUE(contains(r["proof_compared"].get<std::string>(), "bytes of user data")) << r["proof_compared"];
    const std::string lead = r["outputs"].back()["path"];
    EXPECT_EQ(cli({"check", lead, "--hashes", "none"}).exit_code, 0);
  }
  EXPECT_EQ(cli({"dump", vector_path("xbox/tiny.iso").string(), "--to", "wbfs", "--out", "no/"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "no"));
}

TEST_F(Truth, ADumpNeverReplacesWhatItsSimulatedDriveReads) {
  for (const char* name : {"merged.cue", "merged.bin"}) take(std::string("cd/disc4/") + name, std::string("m/") + name);
  fs::rename(*this / "m/merged.cue", *this / "m/disc.cue");
  write_file(*this / "drive.toml", "[disc]\nimage = \"m/disc.cue\"\n");
  const std::string before = sha256_file(*this / "m/merged.bin");
  const Outcome run = cli({"dump", "sim:drive.toml", "--out", "m/merged.cue", "--overwrite"});
  EXPECT_EQ(run.exit_code, 4) << run.err;
  EXPECT_EQ(sha256_file(*this / "m/merged.bin"), before);
  EXPECT_EQ(
      cli({"dump", "sim:drive.toml", "--out", "drive.toml", "--to", "iso", "--accept", "audio,tracks", "--overwrite"})
          .exit_code,
      4);
}

TEST_F(Truth, BadSectorsAreToldWhateverTheyBecome) {
  for (const char* name : {"merged.cue", "merged.bin"}) take(std::string("cd/disc4/") + name, name);
  for (const char* to : {"cue-tracks", "chd", "cue"}) {
    EXPECT_EQ(cli({"convert", "merged.cue", "--to", to, "--out", std::string("good-") + to + "/"}).exit_code, 0) << to;
  }
  flip_byte(*this / "merged.bin", 20 * 2352 + 500);
  for (const char* to : {"cue-tracks", "chd", "cue"}) {
    const std::string out = std::string("bad-") + to + "/";
    const Outcome run = cli({"convert", "merged.cue", "--to", to, "--out", out});
    EXPECT_EQ(run.exit_code, 1) << to << run.out;
    EXPECT_TRUE(contains(run.out, "1 sector with wrong checksums from LBA 20")) << run.out;
    EXPECT_EQ(cli({"convert", "merged.cue", "--to", to, "--out", "strict/", "--strict"}).exit_code, 3);
    EXPECT_FALSE(fs::exists(*this / "strict") && !fs::is_empty(*this / "strict"));
  }
}

TEST_F(Truth, EveryHunkOfADamagedChdIsListedEvenTheFirst) {
  for (const char* name : {"dvd", "hd", "raw-codecs"}) {
    const fs::path file = take(std::string("chd/") + name + ".chd", std::string(name) + ".chd");
    const std::string bytes = read_file(file);
    const auto at = [&](std::size_t from, std::size_t count) {
      std::uint64_t v = 0;
      for (std::size_t i = 0; i < count; ++i) v = v << 8 | static_cast<unsigned char>(bytes[from + i]);
      return v;
    };
    flip_byte(file, at(static_cast<std::size_t>(at(40, 8)) + 4, 6) + 5);
    const Outcome run = cli({"check", std::string(name) + ".chd"});
    EXPECT_EQ(run.exit_code, 1) << run.err;
    EXPECT_TRUE(contains(run.out, "hunk 0 cannot be decoded: bytes 0 to")) << run.out;
  }
}

TEST_F(Truth, PausesAndReservedBytesAreJudged) {
  // A data track with a pause of data: its second and fifth sector.
  constexpr int kMusic = 10, kPause = 6, kData = 12;
  std::string bin(static_cast<std::size_t>(kMusic + kPause + kData) * 2352, '\x11');
  const auto sector = [&](int lba) {
    return cd::SectorSpan(std::span(reinterpret_cast<std::byte*>(bin.data()) + lba * 2352, 2352));
  };
  Bytes user(2048, std::byte{7});
  for (int lba = kMusic + 1; lba < kMusic + kPause + kData; ++lba)
    cd::make_mode1(sector(lba), lba, std::span<const std::byte, cd::kUserBytes>(user));
  std::string tracks =
      "  TRACK 01 AUDIO\n    INDEX 01 00:00:00\n  TRACK 02 MODE1/2352\n    INDEX 00 00:00:10\n    "
      "INDEX 01 00:00:16\n";
  make_sheet("d.cue", "d.bin", tracks);
  write_file(*this / "d.bin", bin);
  EXPECT_EQ(cli({"check", "d.cue"}).exit_code, 0) << "the pause may begin with sectors of the music";
  const std::string sound = bin;
  std::fill_n(sector(kMusic + 4).begin(), 2352, std::byte{0});
  write_file(*this / "d.bin", bin);
  const Outcome wiped = cli({"check", "d.cue"});
  EXPECT_EQ(wiped.exit_code, 1) << wiped.out;
  EXPECT_TRUE(contains(wiped.out, "LBA 14")) << wiped.out;
  bin = sound;
  // The EDC does not cover these bytes, the parity does: it is wrong, too, unless it was made for them.
  sector(kMusic + kPause + 3)[2070] = std::byte{1};
  write_file(*this / "d.bin", bin);
  EXPECT_TRUE(contains(cli({"check", "d.cue"}).out, "LBA 19"));
}

TEST_F(Truth, WhatLiesBehindTheLastSectorIsCompared) {
  for (const char* name : {"merged.cue", "merged.bin"}) {
    take(std::string("cd/disc4/") + name, std::string("a/") + name);
    take(std::string("cd/disc4/") + name, std::string("b/") + name);
  }
  EXPECT_EQ(cli({"check", "a/merged.cue", "--same-as", "b/merged.cue"}).exit_code, 0);
  write_file(*this / "b/merged.bin", read_file(*this / "b/merged.bin") + "tail");
  for (const auto& [x, y] : {std::pair("a", "b"), std::pair("b", "a")}) {
    const Outcome run = cli({"check", std::string(x) + "/merged.cue", "--same-as", std::string(y) + "/merged.cue"});
    EXPECT_EQ(run.exit_code, 1) << run.out;
    EXPECT_TRUE(contains(run.out, "behind the last sector")) << run.out;
  }
}

TEST_F(Truth, AnInstalledGameWithoutItsDataIsToldOnce) {
  ASSERT_EQ(cli({"convert", vector_path("xbox/tiny.iso").string(), "--to", "god", "--out", "g/"}).exit_code, 0);
  fs::path header;
  for (const auto& entry : fs::recursive_directory_iterator(*this / "g"))
    if (entry.is_regular_file() && !entry.path().filename().string().starts_with("Data")) header = entry.path();
  EXPECT_EQ(first({"identify", header.string(), "--json"})["container"]["data_files"], 1);
  fs::remove_all(header.string() + ".data");
  const Outcome run = cli({"identify", header.string()});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "is missing")) << run.out;
  EXPECT_FALSE(contains(run.out, "blocks, there are")) << run.out;
}

TEST_F(Truth, APictureIsAWholePng) {
  const std::string image = vector_path("xbox/tiny.iso").string();
  const std::string whole(
      "\x89PNG\r\n\x1A\n\0\0\0\x0DIHDR\0\0\0\1\0\0\0\1\x08\0\0\0\0\x3A\x7E\x9B\x55\0\0\0\x0AIDAT\x78\x9C"
      "\x63\x60\0\0\0\x02\0\x01\x48\xAF\xA4\x71\0\0\0\0IEND\xAE\x42\x60\x82",
      67);
  write_file(*this / "p.png", whole);
  const Outcome good = cli({"convert", image, "--to", "god", "--out", "a/", "--picture", "p.png"});
  EXPECT_EQ(good.exit_code, 0) << good.err;
  for (const std::string& bad : {whole.substr(0, 8), whole.substr(0, 60), whole + "x"}) {
    write_file(*this / "p.png", bad);
    EXPECT_EQ(cli({"convert", image, "--to", "god", "--out", "b/", "--picture", "p.png"}).exit_code, 3);
  }
  flip_byte(*this / "p.png", 20);
  EXPECT_EQ(cli({"convert", image, "--to", "god", "--out", "b/", "--picture", "p.png"}).exit_code, 3);
}

TEST_F(Truth, AParentIsLookedForWhereTheChildIs) {
  take("chd/child.chd", "child.chd");
  take("chd/parent.chd", "parent.chd");
  ASSERT_EQ(shell("bsdtar --format zip -cf both.zip child.chd parent.chd && bsdtar --format zip -cf one.zip child.chd")
                .exit_code,
            0);
  EXPECT_EQ(cli({"check", "both.zip", "--pick", "child*"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "one.zip"}).exit_code, 3) << "the host's folder is none of the archive's";
  fs::create_directories(*this / "elsewhere");
  fs::rename(*this / "parent.chd", *this / "elsewhere/p.chd");
  ASSERT_EQ(
      cli({"convert", "child.chd", "--to", "chd", "--parent", "elsewhere/p.chd", "--stand-alone", "--out", "w.chd"})
          .exit_code,
      0);
  EXPECT_TRUE(first({"identify", "w.chd", "--json"})["container"]["parent_sha1"].is_null());
  EXPECT_EQ(first({"identify", "w.chd", "--json"})["container"]["version"], 5);
}

TEST_F(Truth, HolesOfAnArchiveAreHoles) {
  const fs::path image = take("iso/plain.iso", "big.iso");
  fs::resize_file(image, std::uint64_t{20} << 30);
  ASSERT_EQ(shell("tar --sparse -cf s.tar big.iso && rm big.iso").exit_code, 0);
  ASSERT_LT(fs::file_size(*this / "s.tar"), 1u << 20);
  EXPECT_TRUE(contains(cli({"identify", "s.tar"}).out, "21 474 836 480 bytes"));
  EXPECT_EQ(cli({"check", "s.tar", "--hashes", "none"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "s.tar", "--into", "x"}).exit_code, 0);
  const fs::path out = *this / "x/big.iso";
  EXPECT_EQ(fs::file_size(out), std::uint64_t{20} << 30);
  struct stat facts {};
  ASSERT_EQ(::stat(out.c_str(), &facts), 0);
  EXPECT_LT(facts.st_blocks * 512, 64 << 20) << "still sparse";
  EXPECT_EQ(cli({"check", "x/big.iso", "--same-as", "s.tar", "--hashes", "none"}).exit_code, 0);
}

TEST_F(Truth, HalvesOfAnImageAreNoTwoGames) {
  const std::string whole = read_file(vector_path("iso/ps2.iso"));
  const std::size_t half = whole.size() / 4096 * 2048;
  write_file(*this / "Game.1.iso", whole.substr(0, half));
  write_file(*this / "Game.2.iso", whole.substr(half));
  const auto halves = cli({"identify", ".", "--json"}).json()["results"][0]["games"];
  ASSERT_EQ(halves.size(), 1u) << halves.dump(1);
  write_file(*this / "Game.2.iso", whole);
  write_file(*this / "Game.1.iso", whole);
  EXPECT_EQ(cli({"identify", ".", "--json"}).json()["results"][0]["games"].size(), 2u);
}

TEST_F(Truth, AWrongStartBlockIsFoundByTheData) {
  copy_folder(vector_path("xbox/god-enhanced"), *this / "g");
  ASSERT_EQ(shell("chmod -R u+w g && find g -name '*.gz' -exec gunzip {} +").exit_code, 0);
  fs::path header;
  for (const auto& entry : fs::recursive_directory_iterator(*this / "g"))
    if (entry.is_regular_file() && !entry.path().filename().string().starts_with("Data")) header = entry.path();
  const auto before = first({"files", header.string(), "--json"})["entries"];
  std::string bytes = read_file(header);
  bytes.replace(0x395, 3, "\x11\x22\x33");
  write_file(header, bytes);
  EXPECT_EQ(first({"files", header.string(), "--json"})["entries"], before);
  EXPECT_TRUE(contains(cli({"identify", header.string()}).out, "start block does not fit the data"));
}

}  // namespace
}  // namespace opifex::testkit
