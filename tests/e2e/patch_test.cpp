// Patches as their users meet them: the right file or none, nothing written over, and what was changed said.
#include <fstream>

#include "opifex/core/base/hash.hpp"

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

TEST_F(PatchCommand, WhatAContainerHoldsIsPatched) {
  const std::string iso = read_file(vector_path("iso/3do.iso"));
  std::string mended = iso;
  mended.replace(iso.size() / 2, 5, "MOTHS");
  write_file(*this / "disc.iso", iso);
  write_file(*this / "mended.iso", mended);
  for (const char* kind : {"bps", "ups"}) {
    SCOPED_TRACE(kind);
    const std::string file = std::string("disc.") + kind;
    ASSERT_EQ(patch({"make", "disc.iso", "mended.iso", "--out", file}).exit_code, 0);
    for (const char* packed : {"chd"}) {
      const std::string image = std::string("disc.") + packed, out = std::string(packed) + kind + ".iso";
      if (!fs::exists(*this / image)) {
        const Outcome made = cli({"convert", "disc.iso", "--to", packed, "--out", image});
        ASSERT_EQ(made.exit_code, 0) << made.err;
      }
      const std::string before = read_file(*this / image);
      const Outcome applied = patch({"apply", file, image, "--out", out});
      EXPECT_EQ(applied.exit_code, 0) << applied.err;
      EXPECT_TRUE(contains(applied.out, "as an ISO has them")) << applied.out;
      EXPECT_EQ(read_file(*this / out), mended);
      EXPECT_EQ(patch({"apply", file, image, "--overwrite"}).exit_code, 3) << "an ISO never takes a container's place";
      EXPECT_EQ(read_file(*this / image), before);
    }
  }
  // Looked for among them, and none of the plain file is there.
  fs::create_directories(*this / "shelf");
  fs::rename(*this / "disc.chd", *this / "shelf/disc.chd");
  fs::remove(*this / "disc.iso");
  const Outcome found = patch({"apply", "disc.bps", "--among", "shelf", "--out", "found.iso"});
  EXPECT_EQ(found.exit_code, 0) << found.err;
  EXPECT_EQ(read_file(*this / "found.iso"), mended);
}

TEST_F(PatchCommand, WhatAnArchiveHoldsIsPatched) {
  ASSERT_EQ(patch({"make", "old.sfc", "new.sfc", "--out", "p.bps"}).exit_code, 0);
  fs::create_directories(*this / "shelf");
  write_file(*this / "shelf/other.sfc", std::string(old_file.size(), 'o'));
  run_program("/usr/bin/bsdtar", {"-a", "-cf", "shelf/game.zip", "old.sfc"}, folder.path());
  const Outcome applied = patch({"apply", "p.bps", "--among", "shelf", "--out", "x.sfc"});
  EXPECT_EQ(applied.exit_code, 0) << applied.err;
  EXPECT_EQ(read_file(*this / "x.sfc"), new_file);
  EXPECT_EQ(patch({"apply", "p.bps", "shelf/game.zip", "--overwrite"}).exit_code, 3);
}

TEST_F(PatchCommand, TheSectorsOfADiscArePatchedAsABinHasThem) {
  fs::copy_file(vector_path("chd/cd-mixed.chd"), *this / "cd-mixed.chd");
  cli({"convert", "cd-mixed.chd", "--to", "cue", "--out", "m.cue"});  // it has damaged sectors: that is no matter here
  const std::string bin = read_file(*this / "m.bin");
  std::string mended = bin;
  mended.replace(2352 + 100, 4, "MOTH");
  write_file(*this / "n.bin", mended);
  ASSERT_EQ(patch({"make", "m.bin", "n.bin", "--out", "p.bps"}).exit_code, 0);
  const Outcome applied = patch({"apply", "p.bps", "cd-mixed.chd", "--out", "out.bin"});
  EXPECT_EQ(applied.exit_code, 0) << applied.err;
  EXPECT_EQ(read_file(*this / "out.bin"), mended);
}

TEST_F(PatchCommand, AFileOfAnySizeIsPatchedInLittleMemory) {
  // 300 MiB, mostly a hole, with a change in the middle and a pattern at its end: written by hand.
  constexpr std::uint64_t kSize = 300 << 20, kAt = 200 << 20;
  std::ofstream(*this / "large.iso", std::ios::binary).put('L');
  fs::resize_file(*this / "large.iso", kSize);
  std::string p = "BPS1";
  const auto number = [&](std::uint64_t n) {
    for (;; --n) {
      const auto x = static_cast<unsigned char>(n & 0x7F);
      n >>= 7;
      if (n == 0) return void(p += static_cast<char>(x | 0x80));
      p += static_cast<char>(x);
    }
  };
  const auto le = [&](std::uint32_t n) {
    for (int i = 0; i < 4; ++i) p += static_cast<char>(n >> 8 * i & 0xFF);
  };
  Digest before("crc32"), after("crc32");
  const std::string zeros(1 << 20, '\0');
  for (std::uint64_t at = 0; at < kSize; at += zeros.size()) {
    std::string step = zeros;
    if (at == 0) step[0] = 'L';
    before.update(as_view(step));
    if (at == kAt) step.replace(0, 3, "abc");
    after.update(as_view(step));
  }
  std::string pattern;
  for (int i = 0; i < 1000; ++i) pattern += "abc";
  after.update(as_view(pattern));
  const auto value = [](Digest& d) { return static_cast<std::uint32_t>(std::stoul(d.finish(), nullptr, 16)); };
  number(kSize), number(kSize + pattern.size()), number(0);
  number((kAt - 1) << 2 | 0);              // as the source has it
  number((3 - 1) << 2 | 1), p += "abc";    // carried
  number((kSize - kAt - 3 - 1) << 2 | 0);  // as the source has it
  number((3 - 1) << 2 | 1), p += "abc";
  number((pattern.size() - 3 - 1) << 2 | 3);  // what came out already, over and over
  number(kSize << 1);
  le(value(before)), le(value(after));
  Digest own("crc32");
  own.update(as_view(p));
  le(value(own));
  write_file(*this / "p.bps", p);
  const Outcome plan = patch({"apply", "p.bps", "large.iso", "--out", "x.iso", "--plan"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_FALSE(fs::exists(*this / "x.iso"));
  EXPECT_FALSE(contains(plan.out, "proved")) << "nobody has looked at what would come out\n" << plan.out;
  const Outcome applied = patch({"apply", "p.bps", "large.iso", "--out", "x.iso", "--json"});
  ASSERT_EQ(applied.exit_code, 0) << applied.err;
  EXPECT_EQ(applied.json()["results"][0]["changed_bytes"], 3 + pattern.size());
  ASSERT_EQ(fs::file_size(*this / "x.iso"), kSize + pattern.size());
  EXPECT_EQ(read_file(*this / "x.iso").substr(kSize), pattern);
  // Another byte, and it is another file.
  flip_byte(*this / "large.iso", kSize - 5);
  EXPECT_EQ(patch({"apply", "p.bps", "large.iso", "--out", "y.iso"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "y.iso"));
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
