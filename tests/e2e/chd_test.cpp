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
    ASSERT_EQ(cli({"convert", sample(name), "--to", "cue", "--out", out, "--prove"}).exit_code, 0) << name;
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
