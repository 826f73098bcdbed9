// Patches as their users meet them: the right file or none, nothing written over, and what was changed said.
#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class PatchCommand : public Program {
 protected:
  void SetUp() override {
    old_file = gunzip(vector_path("floppycart/kestrel.sfc.gz"));
    new_file = old_file;
    new_file.replace(1000, 10, "HELLOWORLD");
    write_file(*this / "old.sfc", old_file);
    write_file(*this / "new.sfc", new_file);
  }
  Outcome patch(std::vector<std::string> words) {
    words.insert(words.begin(), "patch");
    return cli(words);
  }
  std::string old_file, new_file;
};

TEST_F(PatchCommand, MadeAndAppliedInEveryKind) {
  for (const char* kind : {"bps", "ups", "ips"}) {
    SCOPED_TRACE(kind);
    const std::string file = std::string("change.") + kind;
    ASSERT_EQ(patch({"make", "old.sfc", "new.sfc", "--out", file}).exit_code, 0);
    const json told = patch({"identify", file, "--json"}).json()["results"][0];
    EXPECT_EQ(told["kind"], kind);
    EXPECT_EQ(told["source_bytes"].is_null(), std::string_view(kind) == "ips");
    const std::string out = std::string(kind) + ".sfc";
    const Outcome applied = patch({"apply", file, "old.sfc", "--out", out});
    EXPECT_EQ(applied.exit_code, 0) << applied.err;
    EXPECT_EQ(read_file(*this / out), new_file);
    EXPECT_EQ(contains(applied.out, "no checksum"), std::string_view(kind) == "ips") << applied.out;
  }
  EXPECT_EQ(read_file(*this / "old.sfc"), old_file) << "the input is never touched";
}

TEST_F(PatchCommand, OnlyTheRightFileIsPatched) {
  ASSERT_EQ(patch({"make", "old.sfc", "new.sfc", "--out", "p.bps"}).exit_code, 0);
  write_file(*this / "other.sfc", std::string(old_file.size(), 'x'));
  const Outcome other = patch({"apply", "p.bps", "other.sfc", "--out", "x.sfc"});
  EXPECT_EQ(other.exit_code, 3);
  EXPECT_TRUE(contains(other.err, "--among FOLDER")) << other.err;
  const Outcome again = patch({"apply", "p.bps", "new.sfc", "--out", "x.sfc"});
  EXPECT_EQ(again.exit_code, 3);
  EXPECT_TRUE(contains(again.err, "patched already")) << again.err;
  EXPECT_FALSE(fs::exists(*this / "x.sfc"));
  EXPECT_EQ(patch({"apply", "p.bps", "old.sfc", "--out", "new.sfc"}).exit_code, 4) << "it is there already";
  EXPECT_EQ(patch({"apply", "p.bps", "old.sfc", "--out", "old.sfc"}).exit_code, 4);
  EXPECT_EQ(patch({"apply", "p.bps", "old.sfc", "--out", "x.sfc", "--plan"}).exit_code, 0);
  EXPECT_FALSE(fs::exists(*this / "x.sfc"));
}

TEST_F(PatchCommand, ItIsFoundAmongTheUsersFilesAndBehindACopiersHeader) {
  ASSERT_EQ(patch({"make", "old.sfc", "new.sfc", "--out", "p.bps"}).exit_code, 0);
  fs::create_directories(*this / "roms/deep");
  write_file(*this / "roms/a.sfc", std::string(old_file.size(), 'y'));
  write_file(*this / "roms/deep/headered.smc", std::string(512, '\0') + old_file);
  const Outcome inside = patch({"apply", "p.bps", "--among", "roms", "--out", "found.smc"});
  EXPECT_EQ(inside.exit_code, 0) << inside.err;
  EXPECT_TRUE(contains(inside.out, "headered.smc")) << inside.out;
  EXPECT_EQ(read_file(*this / "found.smc"), std::string(512, '\0') + new_file) << "what stood around it still does";
  write_file(*this / "roms/z.sfc", old_file);
  ASSERT_EQ(patch({"apply", "p.bps", "--among", "roms", "--out", "plain.sfc"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "plain.sfc"), new_file) << "a file that fits as it is comes first";
  fs::remove_all(*this / "roms/deep");
  fs::remove(*this / "roms/z.sfc");
  EXPECT_EQ(patch({"apply", "p.bps", "--among", "roms", "--out", "none.sfc"}).exit_code, 3);
  ASSERT_EQ(patch({"make", "old.sfc", "new.sfc", "--out", "p.ips"}).exit_code, 0);
  EXPECT_EQ(patch({"apply", "p.ips", "--among", ".", "--out", "none.sfc"}).exit_code, 3) << "it does not say for what";
}

TEST_F(PatchCommand, TextIsReplacedByTextOfItsLength) {
  const Outcome plan = patch({"replace", "new.sfc", "--text", "HELLOWORLD=GOODBYEYOU", "--plan", "--out", "x.sfc"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_TRUE(contains(plan.out, "0x000003e8")) << plan.out;
  EXPECT_TRUE(contains(plan.out, "HELLOWORLD")) << "with what stands around it";
  EXPECT_FALSE(fs::exists(*this / "x.sfc"));
  EXPECT_EQ(patch({"replace", "new.sfc", "--text", "HELLO=HELLOO", "--out", "x.sfc"}).exit_code, 2);
  EXPECT_EQ(patch({"replace", "new.sfc", "--text", "NOWHERE=NOTHING", "--out", "x.sfc"}).exit_code, 3);
  EXPECT_EQ(patch({"replace", "new.sfc", "--text", "HELLO=JELLO", "--count", "2", "--out", "x.sfc"}).exit_code, 3);
  EXPECT_EQ(patch({"replace", "new.sfc", "--hex", "48454C4C4F=4A454C4C4F", "--out", "x.sfc"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "x.sfc").substr(1000, 10), "JELLOWORLD");
}

TEST_F(PatchCommand, WhoeverReplacesKeepsWhatWasThere) {
  const Outcome run = patch({"replace", "new.sfc", "--text", "HELLOWORLD=GOODBYEYOU", "--overwrite", "--json"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  const std::string kept = run.json()["results"][0]["kept"];
  EXPECT_TRUE(contains(kept, "new (20")) << kept;
  EXPECT_EQ(read_file(*this / kept), new_file);
  EXPECT_EQ(read_file(*this / "new.sfc").substr(1000, 10), "GOODBYEYOU");
  // Again at once: what was kept first is still there.
  ASSERT_EQ(patch({"replace", "new.sfc", "--text", "GOODBYEYOU=HELLOWORLD", "--overwrite"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / kept), new_file);
  EXPECT_EQ(read_file(*this / "new.sfc"), new_file);
}

TEST_F(PatchCommand, MistakesAreSaidInWords) {
  EXPECT_EQ(patch({"aply", "x", "y"}).exit_code, 2);
  EXPECT_EQ(patch({"apply", "only.bps"}).exit_code, 2);
  EXPECT_EQ(patch({"make", "old.sfc", "new.sfc"}).exit_code, 2) << "no output is named";
  EXPECT_EQ(patch({"identify", "old.sfc"}).exit_code, 3);
  EXPECT_EQ(patch({"identify", "nothing.bps"}).exit_code, 3);
  ASSERT_EQ(patch({"make", "old.sfc", "new.sfc", "--out", "p.bps"}).exit_code, 0);
  flip_byte(*this / "p.bps", 9);
  const Outcome damaged = patch({"identify", "p.bps"});
  EXPECT_EQ(damaged.exit_code, 3);
  EXPECT_TRUE(contains(damaged.err, "the patch is damaged")) << damaged.err;
}

}  // namespace
}  // namespace opifex::testkit
