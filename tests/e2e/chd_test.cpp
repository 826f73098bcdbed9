// CHD files as a user meets them: what is it, is it good, give me the disc back.
#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class ChdFiles : public Program {
 protected:
  std::string sample(const std::string& name) {
    fs::copy_file(vector_path("chd/" + name), *this / name, fs::copy_options::overwrite_existing);
    return name;
  }
};

TEST_F(ChdFiles, IdentifyShowsTheContainerAndTheDisc) {
  const json r = cli({"identify", sample("cd-mixed.chd"), "--json"}).json()["results"][0];
  EXPECT_EQ(r["format"], "chd");
  EXPECT_EQ(r["container"]["kind"], "cd");
  EXPECT_EQ(r["container"]["raw_sha1"], "d647c452f2022bd1facb39b0ed047532c927f9cc");
  EXPECT_EQ(r["container"]["stored_as"][2]["codec"], "cdfl");
  EXPECT_EQ(r["container"]["stored_as"][2]["hunks"], 3);
  EXPECT_EQ(r["container"]["tags"][0]["tag"], "CHT2");
  EXPECT_EQ(r["tracks"].size(), 3u);
  const Outcome text = cli({"identify", "cd-mixed.chd"});
  EXPECT_TRUE(contains(text.out, "version 5, CD")) << text.out;
}

TEST_F(ChdFiles, TheDiscComesBackByteForByte) {
  for (const char* name : {"cd-mixed.chd", "cd-mixed-plain.chd", "cd-cdzs.chd"}) {
    const std::string out = std::string("from-") + name + "/x.cue";
    // The disc of these samples has two bad sectors: they come along, and are told.
    const Outcome run = cli({"convert", sample(name), "--to", "cue", "--out", out, "--prove"});
    ASSERT_EQ(run.exit_code, 1) << name << run.err;
    EXPECT_TRUE(contains(run.out, "1 sector with wrong checksums from LBA 9")) << run.out;
    EXPECT_TRUE(contains(run.out, "proved: ")) << run.out;
    EXPECT_EQ(read_file(folder.path() / (std::string("from-") + name) / "x.bin"),
              read_file(vector_path("chd/cd-mixed.bin")))
        << name;
  }
  ASSERT_EQ(cli({"convert", sample("dvd.chd"), "--to", "iso"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "dvd.iso").size(), 22528u);
  EXPECT_EQ(cli({"convert", sample("cd-subcode.chd"), "--to", "cue"}).exit_code, 4)
      << "the sheet cannot hold the subchannel";
}

TEST_F(ChdFiles, AChildIsReadThroughItsParentWhateverThatIsCalled) {
  const Outcome alone = cli({"identify", sample("child.chd"), "--json"});
  EXPECT_EQ(alone.exit_code, 3);
  EXPECT_EQ(alone.json()["errors"][0]["code"], "parent_missing");
  EXPECT_TRUE(contains(alone.err, "bd08d06946a69aff8040bab286dfa2c9ae5be055")) << alone.err;
  fs::copy_file(vector_path("chd/parent.chd"), *this / "some other name.chd");
  EXPECT_EQ(cli({"check", "child.chd"}).exit_code, 0);
}

TEST_F(ChdFiles, WritingGivesTheHashesOthersGive) {
  // The samples were made by an independent implementation from the same disc.
  for (const char* name : {"cd-mixed.cue", "cd-mixed.bin"}) sample(name);
  ASSERT_EQ(cli({"convert", "cd-mixed.cue", "--to", "chd", "--out", "own.chd", "--prove"}).exit_code, 1)
      << "two of its sectors are bad on purpose";
  const json own = cli({"identify", "own.chd", "--json"}).json()["results"][0]["container"];
  EXPECT_EQ(own["raw_sha1"], "d647c452f2022bd1facb39b0ed047532c927f9cc");
  EXPECT_EQ(own["sha1"], "b7e1ac5954da82091ec9c6a00b30440e3b7d22b0");
  EXPECT_EQ(own["hunk_bytes"], 19584);
  for (const char* name : {"cd-subcode.chd", "cd-mode1-2048.chd", "cd-mode2-2336.chd", "gd-pad.chd"}) {
    ASSERT_EQ(cli({"convert", sample(name), "--to", "chd", "--out", "again.chd", "--overwrite"}).exit_code, 0) << name;
    const json first = cli({"identify", name, "--json"}).json()["results"][0],
               again = cli({"identify", "again.chd", "--json"}).json()["results"][0];
    EXPECT_EQ(again["container"]["raw_sha1"], first["container"]["raw_sha1"]) << name;
    EXPECT_EQ(again["container"]["kind"], first["container"]["kind"]) << name;
    EXPECT_EQ(again["tracks"][1]["start_lba"], first["tracks"][1]["start_lba"]) << name;
  }
}

TEST_F(ChdFiles, EveryCodecAndHunkSizeComesBack) {
  demo::write_disc(
      {.stem = "small", .data_sectors = 60, .streamed_sectors = 6, .audio_sectors = {25, 14}, .pregap_sectors = 12},
      folder.path(), demo::Files::one_bin);
  for (const char* codecs : {"cdlz", "cdzl", "cdfl", "cdzs", "zlib,lzma,flac,zstd", "cdzs,flac", "huff"})
    for (const char* size : {"2448", "9792", "66096"}) {
      ASSERT_EQ(cli({"convert", "small.cue", "--to", "chd", "--out", "x.chd", "--codecs", codecs, "--hunk-size", size,
                     "--overwrite", "--prove"})
                    .exit_code,
                0)
          << codecs << " " << size;
      EXPECT_EQ(cli({"check", "x.chd", "--hashes", "none"}).exit_code, 0) << codecs << " " << size;
    }
  EXPECT_EQ(cli({"convert", "small.cue", "--to", "chd", "--codecs", "cdxx"}).exit_code, 2);
  EXPECT_EQ(cli({"convert", "small.cue", "--to", "chd", "--hunk-size", "1000"}).exit_code, 2);
}

TEST_F(ChdFiles, IdenticalHunksAreStoredOnceAndThreadsDoNotMatter) {
  // Runs of references of many lengths, noise that does not pay, a last hunk that is only partly used.
  std::string blocks;
  const std::string noise(as_text(Random(4).bytes(4096)));
  for (int run = 1; run < 40; ++run) {
    blocks += std::string(as_text(Random(static_cast<std::uint64_t>(run) + 50).bytes(4096)));
    for (int i = 0; i < run * 9 % 300; ++i) blocks += i % 7 == 3 ? noise : std::string(4096, '\0');
  }
  blocks += std::string(2048, 'x');
  write_file(*this / "disc.iso", blocks);
  for (const char* threads : {"1", "2"})
    ASSERT_EQ(cli({"convert", "disc.iso", "--to", "chd", "--out", std::string("t") + threads + ".chd", "--threads",
                   threads, "--prove"})
                  .exit_code,
              0);
  EXPECT_EQ(sha256_file(*this / "t1.chd"), sha256_file(*this / "t2.chd"));
  EXPECT_LT(fs::file_size(*this / "t1.chd"), 41u * 4096 + 8192);
  ASSERT_EQ(cli({"convert", "t1.chd", "--to", "iso", "--out", "back.iso"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "back.iso"), blocks);
}

TEST_F(ChdFiles, WhatOnlyASheetKnowsComesBack) {
  write_file(*this / "a.bin", std::string(600 * 2352, '\1'));
  write_file(*this / "a.cue",
             "CATALOG 1234567890123\r\nTITLE \"Nine Bells\"\r\nFILE \"a.bin\" BINARY\r\n  TRACK 01 AUDIO\r\n"
             "    TITLE \"Harbor\"\r\n    ISRC GBAAA2600001\r\n    FLAGS PRE\r\n    INDEX 01 00:00:00\r\n"
             "    INDEX 02 00:02:10\r\n  TRACK 02 AUDIO\r\n    PREGAP 00:01:00\r\n    INDEX 01 00:04:00\r\n");
  const Outcome there = cli({"convert", "a.cue", "--to", "chd", "--json", "--prove"});
  ASSERT_EQ(there.exit_code, 0) << there.err;
  EXPECT_TRUE(there.json()["results"][0]["losses"].empty());
  ASSERT_EQ(cli({"convert", "a.chd", "--to", "cue", "--out", "back/a.cue"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "back/a.cue"), read_file(*this / "a.cue"));
  EXPECT_EQ(read_file(*this / "back/a.bin"), read_file(*this / "a.bin"));
  const json tags = cli({"identify", "a.chd", "--json"}).json()["results"][0]["container"]["tags"];
  EXPECT_EQ(tags.back()["tag"], "OPcs");
  EXPECT_EQ(tags.back()["flags"], 0) << "not hashed: the overall SHA-1 stays the customary one";
}

TEST_F(ChdFiles, ASecondDiscCostsOnlyWhatIsDifferent) {
  make_workshop();
  ASSERT_EQ(cli({"convert", kestrel1, "--to", "chd", "--out", "first.chd"}).exit_code, 0);
  // The same disc with one sector changed, as another pressing has it.
  fs::copy_file(*this / "Kestrel Circuit (Disc 1).bin", *this / "other.bin");
  fs::copy_file(*this / kestrel1, *this / "other.cue");
  std::string sheet = read_file(*this / "other.cue");
  sheet.replace(sheet.find("Kestrel Circuit (Disc 1).bin"), 28, "other.bin");
  write_file(*this / "other.cue", sheet);
  flip_byte(*this / "other.bin", 2352 * 50 + 100);  // its checksum is wrong now, which is told
  ASSERT_EQ(cli({"convert", "other.cue", "--to", "chd", "--parent", "first.chd", "--out", "child.chd"}).exit_code, 1);
  EXPECT_LT(fs::file_size(*this / "child.chd") * 20, fs::file_size(*this / "first.chd"));
  EXPECT_EQ(cli({"convert", "child.chd", "--to", "cue", "--out", "back/"}).exit_code, 1);
  EXPECT_EQ(read_file(*this / "back/child.bin"), read_file(*this / "other.bin"));
  // In another folder the parent has to be named, and it has to be the right one.
  fs::create_directory(*this / "away");
  fs::rename(*this / "child.chd", *this / "away/child.chd");
  EXPECT_EQ(cli({"identify", "away/child.chd"}).exit_code, 3);
  EXPECT_EQ(cli({"identify", "away/child.chd", "--parent", "first.chd"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "away/child.chd", "--parent", "first.chd"}).exit_code, 1)
      << "the flipped byte breaks a sector";
  const Outcome wrong = cli({"identify", "away/child.chd", "--parent", sample("cd-mixed.chd"), "--json"});
  EXPECT_EQ(wrong.exit_code, 3);
  EXPECT_EQ(wrong.json()["errors"][0]["code"], "parent_mismatch");
}

TEST_F(ChdFiles, EffortsGiveTheSameDisc) {
  make_workshop();
  std::map<std::string, std::uint64_t> sizes;
  for (const char* effort : {"fast", "normal", "best"}) {
    ASSERT_EQ(cli({"convert", moth, "--to", "chd", "--effort", effort, "--out", "x.chd", "--overwrite"}).exit_code, 0);
    sizes[effort] = fs::file_size(*this / "x.chd");
    EXPECT_EQ(cli({"check", "x.chd", "--hashes", "none"}).exit_code, 0) << effort;
    EXPECT_EQ(cli({"identify", "x.chd", "--json"}).json()["results"][0]["container"]["codecs"], "cdlz, cdzl, cdfl");
  }
  EXPECT_LE(sizes["best"], sizes["normal"]);
  EXPECT_LE(sizes["normal"], sizes["fast"]);
  const Outcome misspelt = cli({"convert", moth, "--to", "chd", "--effort", "bets"});
  EXPECT_EQ(misspelt.exit_code, 2);
  EXPECT_TRUE(contains(misspelt.err, "best")) << misspelt.err;
}

TEST_F(ChdFiles, DamageNamesTheTracksItHits) {
  std::string bytes = read_file(vector_path("chd/cd-mixed.chd"));
  bytes[9000] = static_cast<char>(bytes[9000] ^ 1);  // inside the first hunk of music
  write_file(*this / "bad.chd", bytes);
  const Outcome check = cli({"check", "bad.chd", "--json"});
  EXPECT_EQ(check.exit_code, 1);
  const json finding = check.json()["results"][0]["findings"][0];
  EXPECT_TRUE(finding["code"] == "hunk_crc" || finding["code"] == "hunk_data") << finding;
  EXPECT_TRUE(contains(finding["message"], "track ")) << finding;
  EXPECT_EQ(cli({"convert", "bad.chd", "--to", "cue", "--out", "x.cue"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "x.cue"));
  EXPECT_EQ(cli({"check", sample("bad-sha1-raw.chd")}).exit_code, 1);
  EXPECT_EQ(cli({"identify", sample("bad-map-crc.chd")}).exit_code, 3);
}

}  // namespace
}  // namespace opifex::testkit
