#include "program.hpp"

namespace opifex::testkit {
namespace {

class CheckCommand : public Program {
 protected:
  void SetUp() override { make_workshop(); }
};

TEST_F(CheckCommand, HashesAreThoseOfTheFiles) {
  const nlohmann::json result = cli({"check", moth, "--json", "--hashes", "sha256,crc32"}).json()["results"][0];
  EXPECT_EQ(result["verdict"], "intact");
  for (const nlohmann::json& file : result["files"])
    EXPECT_EQ(file["hashes"]["sha256"], sha256_file(*this / file["path"].get<std::string>()));
  EXPECT_EQ(result["tracks"][2]["hashes"], result["files"][2]["hashes"]) << "a track in a file of its own";
  EXPECT_EQ(cli({"check", moth, "--hashes", "md6"}).exit_code, 2);
  EXPECT_TRUE(cli({"check", moth, "--hashes", "none", "--json"}).json()["results"][0]["tracks"][0]["hashes"].empty());
}

TEST_F(CheckCommand, ADamagedSectorIsFoundAndMended) {
  const std::string bin = "Kestrel Circuit (Disc 1).bin";
  const std::string before = sha256_file(*this / bin);
  flip_byte(*this / bin, 100 * 2352 + 333);
  const Outcome found = cli({"check", kestrel1});
  EXPECT_EQ(found.exit_code, 1);
  EXPECT_TRUE(contains(found.out, "sector 00:03:25 (LBA 100): wrong edc, ecc; can be repaired")) << found.out;
  const Outcome mended = cli({"check", kestrel1, "--repair", "--out", "mended/"});
  EXPECT_EQ(mended.exit_code, 0) << mended.out << mended.err;
  EXPECT_EQ(sha256_file(*this / ("mended/" + bin)), before);
  EXPECT_NE(sha256_file(*this / bin), before) << "the input is not touched";
}

TEST_F(CheckCommand, RepairNeedsAPlaceAndSomethingToRepair) {
  EXPECT_EQ(cli({"check", kestrel1, "--repair"}).exit_code, 2);
  const Outcome nothing = cli({"check", kestrel1, "--repair", "--out", "mended/"});
  EXPECT_EQ(nothing.exit_code, 3);
  EXPECT_TRUE(contains(nothing.err, "nothing that could be repaired")) << nothing.err;
}

TEST_F(CheckCommand, AVcdAndALoneBinAreRepairedInPlaceOfTheirOwnFormat) {
  EXPECT_EQ(cli({"convert", kestrel1, "--to", "vcd", "--out", "k.vcd"}).exit_code, 0);
  const std::string vcd = sha256_file(*this / "k.vcd"), bin = sha256_file(*this / kestrel2);
  flip_byte(*this / "k.vcd", 0x100000 + 60 * 2352 + 900);
  flip_byte(*this / kestrel2, 60 * 2352 + 900);
  EXPECT_EQ(cli({"check", "k.vcd", "--repair", "--out", "m.vcd"}).exit_code, 0);
  EXPECT_EQ(cli({"check", kestrel2, "--repair", "--out", "m.bin"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "m.vcd"), vcd);
  EXPECT_EQ(sha256_file(*this / "m.bin"), bin);
}

TEST_F(CheckCommand, AnIncompleteSetIsBadNewsNotAnError) {
  fs::remove(*this / "Moth & Lantern (Track 3).bin");
  const Outcome run = cli({"check", moth, "--json"});
  EXPECT_EQ(run.exit_code, 1);
  const nlohmann::json result = run.json()["results"][0];
  EXPECT_EQ(result["verdict"], "incomplete");
  EXPECT_EQ(result["tracks"][0]["verdict"], "intact");
  EXPECT_EQ(result["tracks"][2]["verdict"], "incomplete");
}

TEST_F(CheckCommand, AnIsoHasNothingToVerifyAndSaysSo) {
  EXPECT_EQ(cli({"convert", kestrel1, "--to", "iso", "--out", "k.iso"}).exit_code, 0);
  const Outcome run = cli({"check", "k.iso"});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_TRUE(contains(run.out, "without error detection")) << run.out;
}

TEST_F(CheckCommand, SeveralImagesEachGetTheirVerdict) {
  flip_byte(*this / kestrel2, 60 * 2352 + 900);
  const Outcome run = cli({"check", moth, kestrel2, "--json"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_EQ(run.json()["results"][0]["verdict"], "intact");
  EXPECT_EQ(run.json()["results"][1]["verdict"], "repairable");
}

}  // namespace
}  // namespace opifex::testkit
