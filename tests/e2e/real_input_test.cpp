// Input nobody here made: the bootable ISO of Debian's grub-rescue-pc; and our output in the hands of other programs.
#include "program.hpp"

namespace opifex::testkit {
namespace {

constexpr const char* kRescueIso = "/usr/lib/grub-rescue/grub-rescue-cdrom.iso";

class RealInput : public Program {
 protected:
  void SetUp() override { ASSERT_TRUE(fs::exists(kRescueIso)) << "./dev setup installs grub-rescue-pc"; }
};

TEST_F(RealInput, IsIdentified) {
  const nlohmann::json result = cli({"identify", kRescueIso, "--json"}).json()["results"][0];
  EXPECT_EQ(result["format"], "iso");
  EXPECT_EQ(result["platform"], "iso9660");
  EXPECT_EQ(result["complete"], true);
  EXPECT_EQ(result["tracks"][0]["mode"], "MODE1/2048");
}

TEST_F(RealInput, IsoToRawAndBackIsByteIdenticalAndItsFramesAreSound) {
  EXPECT_EQ(cli({"convert", kRescueIso, "--to", "bin", "--out", "r.bin", "--prove"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "r.bin", "--to", "cue", "--out", "cue/r.cue"}).exit_code, 0);
  const nlohmann::json check = cli({"check", "cue/r.cue", "--json"}).json()["results"][0];
  EXPECT_EQ(check["verdict"], "intact");
  EXPECT_EQ(check["tracks"][0]["kinds"]["mode1"], fs::file_size(kRescueIso) / 2048);
  EXPECT_EQ(cli({"convert", "cue/r.cue", "--to", "iso", "--out", "back.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "back.iso"), sha256_file(kRescueIso));
}

TEST_F(RealInput, IsoToCueKeepsTheBlocksAsTheyAre) {
  EXPECT_EQ(cli({"convert", kRescueIso, "--to", "cue", "--out", "cue/r.cue", "--prove"}).exit_code, 0);
  EXPECT_TRUE(contains(read_file(*this / "cue/r.cue"), "MODE1/2048"));
  EXPECT_EQ(sha256_file(*this / "cue/r.bin"), sha256_file(kRescueIso));
  EXPECT_EQ(cli({"convert", "cue/r.cue", "--to", "iso", "--out", "back.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "back.iso"), sha256_file(kRescueIso));
}

TEST_F(RealInput, AnotherReaderSeesTheFilesInOurIso) {
  make_workshop();
  EXPECT_EQ(cli({"convert", kestrel1, "--to", "iso", "--out", "k.iso"}).exit_code, 0);
  const Outcome listing = run_program("bsdtar", {"-tf", "k.iso"}, folder.path());
  EXPECT_EQ(listing.exit_code, 0) << listing.err;
  for (const char* name : {"SYSTEM.CNF", "PRXS_003.01", "README.TXT"})
    EXPECT_TRUE(contains(listing.out, name)) << listing.out;
  const Outcome settings = run_program("bsdtar", {"-xOf", "k.iso", "SYSTEM.CNF"}, folder.path());
  EXPECT_EQ(settings.out, "BOOT = cdrom:\\PRXS_003.01;1\r\nTCB = 4\r\nEVENT = 10\r\nSTACK = 801FFF00\r\n");
}

}  // namespace
}  // namespace opifex::testkit
