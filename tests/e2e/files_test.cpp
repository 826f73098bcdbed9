// The files inside: list them, take them out, make an image of them again, compare.
#include <sys/stat.h>

#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class Files : public Program {
 protected:
  std::string sample(const std::string& name) {
    fs::copy_file(vector_path("iso/" + name), *this / name, fs::copy_options::overwrite_existing);
    return name;
  }
  json result(const std::vector<std::string>& words) { return cli(words).json()["results"][0]; }
};

TEST_F(Files, AListHasWhatAPersonLooksFor) {
  const Outcome text = cli({"files", sample("joliet.iso")});
  EXPECT_EQ(text.exit_code, 0);
  EXPECT_TRUE(contains(text.out, "ISO 9660 with Joliet names, volume MOTH_LANTERN")) << text.out;
  EXPECT_TRUE(contains(text.out, "Artwork & Labels/front cover.png")) << text.out;
  EXPECT_TRUE(contains(text.out, "9 files in 2 folders, 179 bytes")) << text.out;
  EXPECT_TRUE(contains(cli({"files", "joliet.iso", "--tree"}).out, "    front cover.png"))
      << "indented below its folder";
  const json r = result({"files", "joliet.iso", "--json"});
  EXPECT_EQ(r["entries"].size(), 11u);
  EXPECT_EQ(r["total_bytes"], 179);
  EXPECT_EQ(r["entries"][0]["path"], ".hidden");
  EXPECT_EQ(r["entries"][0]["lba"], 34);
  EXPECT_EQ(r["entries"][0]["modified"], "2001-07-02 00:00");
}

TEST_F(Files, PathsAndPatternsChoose) {
  sample("nested.iso");
  EXPECT_EQ(result({"files", "nested.iso", "level2/level3/f3.txt", "--json"})["entries"].size(), 1u)
      << "case does not matter";
  EXPECT_EQ(result({"files", "nested.iso", "*.TXT", "--json"})["entries"].size(), 1u) << "one level only";
  EXPECT_EQ(result({"files", "nested.iso", "**/F?.TXT", "--json"})["entries"].size(), 7u);
  const Outcome none = cli({"files", "nested.iso", "LEVEL9"});
  EXPECT_EQ(none.exit_code, 2);
  EXPECT_TRUE(contains(none.err, "nothing in the image fits")) << none.err;
  write_file(*this / "music.cue", "FILE \"music.bin\" BINARY\n TRACK 01 AUDIO\n INDEX 01 00:00:00\n");
  write_file(*this / "music.bin", std::string(40 * 2352, '\1'));
  EXPECT_EQ(cli({"files", "music.cue"}).exit_code, 3) << "a disc of music has no files";
}

TEST_F(Files, AnyFormatGivesTheSameFiles) {
  make_workshop();
  ASSERT_EQ(cli({"convert", moth, "--to", "chd", "--out", "m.chd"}).exit_code, 0);
  ASSERT_EQ(cli({"convert", moth, "--to", "iso", "--out", "m.iso", "--accept", "audio,form2,raw-headers"}).exit_code,
            0);
  const json from_cue = result({"files", moth, "--json"})["entries"];
  EXPECT_GT(from_cue.size(), 3u);
  EXPECT_EQ(result({"files", "m.chd", "--json"})["entries"], from_cue);
  json from_iso = result({"files", "m.iso", "--json"})["entries"];
  int streamed = 0;
  for (std::size_t i = 0; i < from_iso.size(); ++i) {
    // The directories of this disc do not say which files are streams; the sectors of a raw image do.
    streamed += from_cue[i]["attributes"] == "form2" ? 1 : 0;
    from_iso[i]["attributes"] = from_cue[i]["attributes"];
  }
  EXPECT_EQ(from_iso, from_cue);
  EXPECT_EQ(streamed, 1) << "WAVES.XA";
  EXPECT_EQ(cli({"extract", moth, "WAVES.XA", "--into", "raw"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(*this / "raw/WAVES.XA"), 24u * 2352) << "nothing of a stream is lost";
}

TEST_F(Files, ExtractKeepsDatesAndGoesOnWhereItWas) {
  ASSERT_EQ(cli({"extract", sample("nested.iso"), "--into", "out", "--check"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "out/TOP.TXT").size(), 12u);
  struct stat facts {};
  ASSERT_EQ(::stat((*this / "out/LEVEL2/F2.TXT").c_str(), &facts), 0);
  EXPECT_EQ(facts.st_mtim.tv_sec, 994032000);
  EXPECT_TRUE(fs::is_directory(*this / "out/EMPTYDIR"));
  fs::remove(*this / "out/LEVEL2/F2.TXT");
  const json again = result({"extract", "nested.iso", "--into", "out", "--json"});
  int written = 0;
  for (const auto& o : again["outputs"]) written += o["was_there"] ? 0 : 1;
  EXPECT_EQ(written, 1) << "only what was missing";
  write_file(*this / "out/TOP.TXT", "the user's own");
  EXPECT_EQ(cli({"extract", "nested.iso", "--into", "out"}).exit_code, 4) << "another file of this name";
  EXPECT_EQ(read_file(*this / "out/TOP.TXT"), "the user's own");
  EXPECT_EQ(cli({"extract", "nested.iso", "--into", "out", "--overwrite"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "out/TOP.TXT").size(), 12u);
  EXPECT_EQ(cli({"extract", "nested.iso"}).exit_code, 2) << "--into is needed";
}

TEST_F(Files, NamesThatWalkOutStayInside) {
  std::string bytes = read_file(vector_path("iso/plain.iso"));
  const auto at = bytes.find("README.TXT;1");
  ASSERT_NE(at, std::string::npos);
  bytes.replace(at, 12, "../EVIL.TX;1");
  write_file(*this / "evil.iso", bytes);
  const Outcome list = cli({"files", "evil.iso"});
  EXPECT_EQ(list.exit_code, 1);
  EXPECT_TRUE(contains(list.out, "UNSAFE NAME")) << list.out;
  const json r = result({"extract", "evil.iso", "--into", "deep/out", "--json"});
  EXPECT_FALSE(fs::exists(*this / "deep/EVIL.TX"));
  EXPECT_TRUE(fs::exists(*this / "deep/out/__/EVIL.TX"));
  int renamed = 0;
  for (const auto& o : r["outputs"]) renamed += o["renamed"] ? 1 : 0;
  EXPECT_EQ(renamed, 1);
}

TEST_F(Files, WhatIsCutOffIsNamedAndLeftOut) {
  std::string bytes = read_file(vector_path("iso/plain.iso"));
  bytes.resize(55296);
  write_file(*this / "cut.iso", bytes);
  const Outcome out = cli({"extract", "cut.iso", "--into", "out"});
  EXPECT_EQ(out.exit_code, 1);
  EXPECT_TRUE(contains(out.out, "left out  SUB/A.B")) << out.out;
  EXPECT_TRUE(fs::exists(*this / "out/README.TXT"));
  EXPECT_FALSE(fs::exists(*this / "out/SUB/A.B"));
}

TEST_F(Files, StreamedFilesComeOutWholeFromRawImages) {
  sample("ps1-raw.bin");
  const json raw = result({"extract", "ps1-raw.bin", "MOTH.STR", "--into", "raw", "--json"});
  EXPECT_EQ(raw["outputs"][0]["size_bytes"], 3 * 2352);
  const json payload =
      result({"extract", "ps1-raw.bin", "MOTH.STR", "--into", "payload", "--form2", "payload", "--json"});
  EXPECT_EQ(fs::file_size(*this / "payload/MOTH.STR"), payload["outputs"][0]["size_bytes"].get<std::uint64_t>());
  EXPECT_GE(payload["outputs"][0]["size_bytes"], 3 * 2048);
  EXPECT_EQ(cli({"extract", "ps1-raw.bin", "--into", "x", "--form2", "row"}).exit_code, 2);
}

TEST_F(Files, ADiscTakenApartIsPutTogetherAgain) {
  fs::copy(vector_path("iso/tree"), *this / "tree", fs::copy_options::recursive);
  ASSERT_EQ(cli({"build", "tree", "--as", "iso", "--out", "a.iso", "--label", "NINE_BELLS", "--fixed-dates=2001-07-02"})
                .exit_code,
            0);
  EXPECT_EQ(cli({"check", "a.iso", "--same-as", "tree"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "a.iso", "--into", "again"}).exit_code, 0);
  ASSERT_EQ(
      cli({"build", "again", "--as", "iso", "--out", "b.iso", "--label", "NINE_BELLS", "--fixed-dates=2001-07-02"})
          .exit_code,
      0);
  EXPECT_EQ(sha256_file(*this / "a.iso"), sha256_file(*this / "b.iso"));
  EXPECT_TRUE(contains(cli({"check", "a.iso", "--same-as", "b.iso"}).out, "every sector is the same"));
  // Order and boot area.
  write_file(*this / "order.txt", "DATA/LEVEL2.DAT\nreadme.txt\n");
  write_file(*this / "boot.bin", "made-up boot code");
  ASSERT_EQ(cli({"build", "tree", "--as", "iso", "--out", "c.iso", "--order", "order.txt", "--boot-area", "boot.bin"})
                .exit_code,
            0);
  const json entries = result({"files", "c.iso", "--json"})["entries"];
  std::map<std::string, int> lba;
  for (const auto& e : entries) lba[e["path"]] = e["lba"].is_null() ? 0 : e["lba"].get<int>();
  EXPECT_LT(lba["DATA/LEVEL2.DAT"], lba["README.TXT"]);
  EXPECT_LT(lba["README.TXT"], lba["a.txt"]);
  EXPECT_EQ(read_file(*this / "c.iso").substr(0, 17), "made-up boot code");
  EXPECT_EQ(cli({"check", "c.iso", "--same-as", "a.iso"}).exit_code, 0) << "the same files in another order";
}

TEST_F(Files, DifferencesAreNamed) {
  fs::copy(vector_path("iso/tree"), *this / "tree", fs::copy_options::recursive);
  ASSERT_EQ(cli({"build", "tree", "--as", "iso", "--out", "a.iso"}).exit_code, 0);
  fs::remove(*this / "tree/a.txt");
  write_file(*this / "tree/new.txt", "new");
  write_file(*this / "tree/ab.txt", "x");
  const Outcome out = cli({"check", "a.iso", "--same-as", "tree", "--json"});
  EXPECT_EQ(out.exit_code, 1);
  std::map<std::string, std::string> kinds;
  const json r = out.json()["results"][0];
  for (const auto& d : r["differences"]) kinds[d["path"]] = d["kind"];
  EXPECT_EQ(kinds,
            (std::map<std::string, std::string>{{"a.txt", "extra"}, {"new.txt", "missing"}, {"ab.txt", "different"}}));
}

TEST_F(Files, MusicCountsToo) {
  make_workshop();
  ASSERT_EQ(cli({"merge", moth, "--out", "merged/"}).exit_code, 0);
  EXPECT_EQ(cli({"check", moth, "--same-as", "merged/Moth & Lantern.cue"}).exit_code, 0);
  flip_byte(*this / "merged/Moth & Lantern.bin", fs::file_size(*this / "merged/Moth & Lantern.bin") - 5000);
  const Outcome other = cli({"check", moth, "--same-as", "merged/Moth & Lantern.cue"});
  EXPECT_EQ(other.exit_code, 1) << "the files are the same, the music is not";
  EXPECT_TRUE(contains(other.out, "1 sector differs")) << other.out;
}

TEST_F(Files, MistakesOfBuildGetAnAnswer) {
  fs::create_directories(*this / "folder/sub");
  write_file(*this / "folder/a", "a");
  fs::create_symlink("a", *this / "folder/link");
  EXPECT_EQ(cli({"build", "folder"}).exit_code, 2) << "--as is needed";
  EXPECT_EQ(cli({"build", "nowhere", "--as", "iso"}).exit_code, 3);
  EXPECT_EQ(cli({"build", "folder/a", "--as", "iso"}).exit_code, 3);
  EXPECT_EQ(cli({"build", "folder", "--as", "iso", "--out", "folder/x.iso"}).exit_code, 4) << "it would hold itself";
  EXPECT_EQ(cli({"build", "folder", "--as", "iso", "--fixed-dates=2001-13-01"}).exit_code, 2);
  EXPECT_EQ(cli({"build", "folder", "--as", "iso", "--names", "level3"}).exit_code, 2);
  write_file(*this / "order.txt", "nothing.txt\n");
  EXPECT_EQ(cli({"build", "folder", "--as", "iso", "--order", "order.txt"}).exit_code, 2);
  const Outcome good = cli({"build", "folder", "--as", "iso"});
  EXPECT_EQ(good.exit_code, 0) << good.err;
  EXPECT_TRUE(contains(good.out, "link is left out: a symbolic link")) << good.out;
  EXPECT_EQ(cli({"build", "folder", "--as", "iso"}).exit_code, 4) << "folder.iso is there now";
}

TEST_F(Files, DamageNamesTheFilesItHits) {
  make_workshop();
  const json entries = result({"files", kestrel1, "--json"})["entries"];
  const auto lba = entries.back()["lba"].get<std::uint64_t>();
  flip_byte(*this / "Kestrel Circuit (Disc 1).bin", lba * 2352 + 500);
  const Outcome check = cli({"check", kestrel1, "--json"});
  EXPECT_EQ(check.exit_code, 1);
  EXPECT_EQ(check.json()["results"][0]["findings"][0]["files"], json::array({entries.back()["path"]}));
  EXPECT_TRUE(contains(cli({"check", kestrel1}).out, "it hits " + entries.back()["path"].get<std::string>()));
}

TEST_F(Files, AnIndependentReaderSeesTheSameFiles) {
  if (std::system("command -v bsdtar > /dev/null 2>&1") != 0)
    GTEST_SKIP() << "bsdtar is not here: nothing was compared";
  fs::copy(vector_path("iso/tree"), *this / "tree", fs::copy_options::recursive);
  ASSERT_EQ(cli({"build", "tree", "--as", "iso", "--out", "a.iso"}).exit_code, 0);
  fs::create_directory(*this / "theirs");
  const Outcome tar = run_program("/usr/bin/env", {"bsdtar", "-xf", "a.iso", "-C", "theirs"}, folder.path());
  ASSERT_EQ(tar.exit_code, 0) << tar.err;
  EXPECT_EQ(cli({"check", "a.iso", "--same-as", "theirs"}).exit_code, 0);
}

}  // namespace
}  // namespace opifex::testkit
