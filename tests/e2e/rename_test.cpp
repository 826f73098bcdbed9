#include "program.hpp"

namespace opifex::testkit {
namespace {

class RenameTest : public Program {
 protected:
  void SetUp() override { make_workshop(); }
};

TEST_F(RenameTest, SheetBinsAndSidecarsMoveTogether) {
  write_file(*this / "Moth & Lantern.txt", "notes");
  const Outcome run = cli({"rename", moth, "PRXS-00101"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  for (const char* name : {"PRXS-00101.cue", "PRXS-00101 (Track 1).bin", "PRXS-00101 (Track 4).bin", "PRXS-00101.txt"})
    EXPECT_TRUE(fs::exists(*this / name)) << name;
  EXPECT_FALSE(fs::exists(*this / moth));
  EXPECT_TRUE(contains(read_file(*this / "PRXS-00101.cue"), "FILE \"PRXS-00101 (Track 3).bin\" BINARY\r\n"));
  EXPECT_EQ(cli({"check", "PRXS-00101.cue"}).exit_code, 0);
}

TEST_F(RenameTest, ALimitShortensTheCommonPart) {
  const Outcome run = cli({"rename", moth, "The Moth and the Lantern of Palisade Row", "--limit", "31", "--json"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  std::size_t longest = 0;
  for (const auto& [name, size] : listing(folder.path()))
    if (name.starts_with("The")) longest = std::max(longest, name.size());
  EXPECT_LE(longest, 31u);
  EXPECT_TRUE(fs::exists(*this / "The Moth and the (Track 1).bin"));
}

TEST_F(RenameTest, NothingHappensWhenOneNameIsTaken) {
  write_file(*this / "New (Track 2).bin", "mine");
  const auto before = listing(folder.path());
  EXPECT_EQ(cli({"rename", moth, "New"}).exit_code, 4);
  EXPECT_EQ(listing(folder.path()), before);
}

TEST_F(RenameTest, ANameItHasAlreadyChangesNothing) {
  const auto before = listing(folder.path());
  const std::string sheet = read_file(*this / moth);
  const Outcome run = cli({"rename", moth, "Moth & Lantern"});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_TRUE(contains(run.out, "has this name already")) << run.out;
  EXPECT_EQ(listing(folder.path()), before);
  EXPECT_EQ(read_file(*this / moth), sheet);
}

TEST_F(RenameTest, APlanOnlyTells) {
  const auto before = listing(folder.path());
  const Outcome run = cli({"rename", moth, "New", "--plan"});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_TRUE(contains(run.out, "Moth & Lantern (Track 2).bin -> New (Track 2).bin")) << run.out;
  EXPECT_EQ(listing(folder.path()), before);
}

TEST_F(RenameTest, NamesThatNoDriveTakesAreRefused) {
  for (const char* name : {"a/b", "../up", "a:b", "CON", "dot."})
    EXPECT_EQ(cli({"rename", kestrel2, name}).exit_code, 2) << name;
  EXPECT_TRUE(fs::exists(*this / kestrel2));
}

TEST_F(RenameTest, ABinOfASheetIsRenamedByItsSheet) {
  const Outcome run = cli({"rename", "Kestrel Circuit (Disc 1).bin", "New"});
  EXPECT_EQ(run.exit_code, 2);
  EXPECT_TRUE(contains(run.err, "belongs to a sheet")) << run.err;
  EXPECT_EQ(cli({"rename", kestrel2, "Alone"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "Alone.bin"));
}

TEST_F(RenameTest, TheRestOfTheSheetStaysAsItWas) {
  const std::string head = "REM kept as it is\n\n  title \"Quarry Lights\"\n";
  const std::string tail = "\n  track 01 mode2/2352 \n\tindex 01 00:00:00\n";
  fs::rename(*this / kestrel2, *this / "q.bin");
  write_file(*this / "q.cue", head + "file q.bin binary" + tail);
  EXPECT_EQ(cli({"rename", "q.cue", "Quarry Lights"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "Quarry Lights.cue"), head + "file \"Quarry Lights.bin\" BINARY" + tail);
  EXPECT_EQ(cli({"check", "Quarry Lights.cue"}).exit_code, 0);
}

}  // namespace
}  // namespace opifex::testkit
