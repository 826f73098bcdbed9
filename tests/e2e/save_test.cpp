// Saves as their owners meet them: whatever goes wrong, the old one is there.
#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class SaveCommand : public Program {
 protected:
  void SetUp() override {
    write_file(*this / "moth.gb", gunzip(vector_path("floppycart/moth.gb.gz")));
    old_save = std::string(as_text(Random(71).bytes(8192)));
    new_save = old_save;
    new_save.replace(100, 5, "HELLO");
    write_file(*this / "cart.sav", old_save);
    write_file(*this / "moth.sav", new_save);
    describe("");
  }
  void describe(const std::string& faults) {
    write_file(*this / "reader.toml",
               "faults = [" + faults + "]\n[cartridge]\nrom = \"moth.gb\"\nsave = \"cart.sav\"\n");
  }
  Outcome save(std::vector<std::string> words) {
    words.insert(words.begin(), "save");
    return cli(words);
  }
  Outcome write() { return save({"write", "sim:reader.toml", "moth.sav", "--accept", "overwrite-save"}); }
  /// True if one of the kept versions has these bytes.
  bool is_kept(const std::string& bytes) const {
    for (const auto& [name, size] : listing(folder / "moth.sav.history"))
      if (read_file(folder / "moth.sav.history" / name) == bytes) return true;
    return false;
  }
  std::string old_save, new_save;
};

TEST_F(SaveCommand, WritingShowsAsksKeepsAndProves) {
  const Outcome plan = save({"write", "sim:reader.toml", "moth.sav", "--plan"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_TRUE(contains(plan.out, "5 bytes in 1 range")) << plan.out;
  EXPECT_TRUE(contains(plan.out, "HELLO")) << plan.out;
  const Outcome asked = save({"write", "sim:reader.toml", "moth.sav"});
  EXPECT_EQ(asked.exit_code, 4);
  EXPECT_TRUE(contains(asked.err, "--accept overwrite-save")) << asked.err;
  EXPECT_EQ(read_file(*this / "cart.sav"), old_save);
  const Outcome done = write();
  EXPECT_EQ(done.exit_code, 0) << done.err;
  EXPECT_TRUE(contains(done.out, "WRITTEN, read back twice")) << done.out;
  EXPECT_EQ(read_file(*this / "cart.sav"), new_save);
  EXPECT_TRUE(is_kept(old_save));
  EXPECT_TRUE(contains(write().out, "holds exactly this already"));
}

TEST_F(SaveCommand, WhateverFailsTheOldOneIsKeptAndTheStateIsSaid) {
  describe("\"verify:101\"");
  const Outcome bad = write();
  EXPECT_EQ(bad.exit_code, 5);
  EXPECT_TRUE(contains(bad.err, "the cartridge now holds neither")) << bad.err;
  EXPECT_TRUE(is_kept(old_save));
  fs::remove_all(*this / "moth.sav.history");
  write_file(*this / "cart.sav", old_save);
  describe("\"lost-commit\"");
  const Outcome lost = write();
  EXPECT_EQ(lost.exit_code, 0) << "it was written, and its contents say so: " << lost.err;
  EXPECT_EQ(read_file(*this / "cart.sav"), new_save);
  EXPECT_TRUE(is_kept(old_save));
}

TEST_F(SaveCommand, ADirtyContactOrAnotherSizeWritesNothing) {
  describe("\"dirty:2=0.0005\"");
  const Outcome dirty = write();
  EXPECT_EQ(dirty.exit_code, 5) << dirty.out;
  EXPECT_EQ(read_file(*this / "cart.sav"), old_save);
  describe("");
  write_file(*this / "moth.sav", new_save.substr(0, 4096));
  EXPECT_EQ(write().exit_code, 3);
  EXPECT_EQ(read_file(*this / "cart.sav"), old_save);
  EXPECT_FALSE(fs::exists(*this / "moth.sav.history"));
}

TEST_F(SaveCommand, EveryVersionIsKeptAndComesBack) {
  std::vector<std::string> versions;
  for (int i = 0; i < 4; ++i) {
    std::string bytes = new_save;
    bytes[static_cast<std::size_t>(i)] = static_cast<char>(bytes[static_cast<std::size_t>(i)] ^ 1);
    write_file(*this / "moth.sav", bytes);
    ASSERT_EQ(save({"store", "moth.sav"}).exit_code, 0);
    ASSERT_EQ(save({"store", "moth.sav"}).exit_code, 0) << "the same again is no new version";
    versions.push_back(bytes);
  }
  const json list = save({"history", "moth.sav", "--json"}).json()["results"][0]["versions"];
  ASSERT_EQ(list.size(), 4u);
  ASSERT_EQ(save({"restore", "moth.sav", "--version", "2"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "moth.sav"), versions[1]);
  write_file(*this / "moth.sav", "never stored");
  ASSERT_EQ(save({"restore", "moth.sav", "--version", "1"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "moth.sav"), versions[0]);
  EXPECT_TRUE(is_kept("never stored")) << "what it replaced is kept first";
  for (const std::string& v : versions) EXPECT_TRUE(is_kept(v));
  EXPECT_EQ(save({"restore", "moth.sav", "--version", "9"}).exit_code, 3);
  // Damage of what is kept shows, and is never brought back.
  flip_byte(list[1]["path"].get<std::string>().starts_with('/') ? fs::path(list[1]["path"].get<std::string>())
                                                                : *this / list[1]["path"].get<std::string>(),
            7);
  EXPECT_EQ(save({"history", "moth.sav"}).exit_code, 1);
  EXPECT_EQ(save({"restore", "moth.sav", "--version", "2"}).exit_code, 3);
}

TEST_F(SaveCommand, TheListOfVersionsIsNotTakenForAnImage) {
  ASSERT_EQ(save({"store", "moth.sav"}).exit_code, 0);
  const Outcome seen = cli({"identify", "."});
  EXPECT_EQ(seen.exit_code, 0) << seen.err;
  EXPECT_FALSE(contains(seen.out, "versions.toml")) << seen.out;
}

TEST_F(SaveCommand, DumpingAgainKeepsTheSaveItReplaces) {
  ASSERT_EQ(cli({"dump", "sim:reader.toml", "--out", "out/"}).exit_code, 0);
  write_file(*this / "out/MOTH LANTERN.sav", new_save);
  ASSERT_EQ(cli({"dump", "sim:reader.toml", "--out", "out/", "--overwrite"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "out/MOTH LANTERN.sav"), old_save);
  bool kept = false;
  for (const auto& [name, size] : listing(*this / "out/MOTH LANTERN.sav.history"))
    kept = kept || read_file(*this / "out/MOTH LANTERN.sav.history" / name) == new_save;
  EXPECT_TRUE(kept);
}

TEST_F(SaveCommand, CheckedComparedAndConverted) {
  const Outcome good = save({"check", "moth.sav"});
  EXPECT_EQ(good.exit_code, 0) << good.out;
  EXPECT_TRUE(contains(good.out, "moth.gb")) << "the game beside it is asked";
  write_file(*this / "blank.sav", std::string(8192, '\xFF'));
  const Outcome blank = save({"check", "blank.sav", "--game", "moth.gb"});
  EXPECT_EQ(blank.exit_code, 1);
  EXPECT_TRUE(contains(blank.out, "battery")) << blank.out;
  const Outcome compared = save({"compare", "moth.sav", "cart.sav"});
  EXPECT_EQ(compared.exit_code, 1);
  EXPECT_TRUE(contains(compared.out, "0x0064")) << compared.out;
  EXPECT_EQ(save({"compare", "moth.sav", "moth.sav"}).exit_code, 0);
  ASSERT_EQ(save({"convert", "moth.sav", "--save-size", "32KiB", "--out", "long.sav"}).exit_code, 0);
  EXPECT_EQ(save({"check", "long.sav", "--game", "moth.gb"}).exit_code, 1);
  ASSERT_EQ(save({"convert", "long.sav", "--save-size", "8KiB", "--out", "back.sav"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "back.sav"), new_save);
  EXPECT_EQ(save({"convert", "moth.sav", "--save-size", "4KiB", "--out", "x.sav"}).exit_code, 3)
      << "data is never cut off";
  EXPECT_EQ(save({"convert", "moth.sav", "--swap", "4", "--out", "moth.sav"}).exit_code, 4) << "never over its input";
  EXPECT_EQ(save({"chek", "moth.sav"}).exit_code, 2);
  EXPECT_EQ(save({"compare", "moth.sav"}).exit_code, 2);
}

}  // namespace
}  // namespace opifex::testkit
