// A drive that is full: a real file system of a few MiB, mounted for one command in a namespace of its own.
#include <sys/statvfs.h>

#include "program.hpp"

namespace opifex::testkit {
namespace {

class SmallDrive : public Program {
 protected:
  void SetUp() override { make_workshop(); }

  /// The command with `drive` as a file system of `kib` KiB; what is on it at the end is copied to `after`.
  Outcome on_drive(int kib, const std::string& words) {
    const fs::path drive = *this / "drive", after = *this / "after";
    fs::create_directories(drive);
    fs::remove_all(after);
    fs::create_directories(after);
    const std::string script =
        fmt::format("mount -t tmpfs -o size={}k none {} || exit 77; '{}' {}; code=$?; cp -a {}/. {}/; exit $code", kib,
                    drive.string(), OPIFEX_PROGRAM, words, drive.string(), after.string());
    Outcome outcome = run_program("/usr/bin/unshare", {"-m", "sh", "-c", script}, folder.path());
    if (outcome.exit_code == 77 || outcome.exit_code == 1)
      if (contains(outcome.err, "mount") || contains(outcome.err, "unshare"))
        outcome = run_program("/usr/bin/unshare", {"-rm", "sh", "-c", script}, folder.path());
    return outcome;
  }
  std::map<std::string, std::uint64_t> left() const { return listing(folder / "after"); }
};

TEST_F(SmallDrive, WhatDoesNotFitIsNotBegun) {
  const Outcome run = on_drive(200, "convert 'Moth & Lantern.cue' --to vcd --out drive/");
  EXPECT_EQ(run.exit_code, 4) << run.err;
  EXPECT_TRUE(contains(run.err, "there is not enough room on the target drive")) << run.err;
  EXPECT_TRUE(left().empty());
}

TEST_F(SmallDrive, ABatchIsHeldAgainstTheDriveAsAWhole) {
  const std::uint64_t each = fs::file_size(*this / kestrel2) / 1024;
  fs::create_directories(*this / "two");
  fs::copy_file(*this / kestrel2, *this / "two/a.bin");
  fs::copy_file(*this / kestrel2, *this / "two/b.bin");
  flip_byte(*this / "two/b.bin", 40'000);
  const Outcome run = on_drive(static_cast<int>(each * 3 / 2), "convert two --to bin --out drive/");
  EXPECT_EQ(run.exit_code, 4) << "one of them would fit: " << run.err;
  EXPECT_TRUE(contains(run.err, "not enough room")) << run.err;
  EXPECT_TRUE(left().empty());
}

TEST_F(SmallDrive, AContainerThatTurnsOutTooLargeLeavesNothing) {
  // How large a container gets is known at the end: at most so many bytes are asked for, and refused ahead.
  const Outcome run = on_drive(300, "convert 'Moth & Lantern.cue' --to chd --out drive/x.chd");
  EXPECT_TRUE(run.exit_code == 4 || run.exit_code == 5) << run.exit_code << run.err;
  EXPECT_TRUE(left().empty()) << "no part of a file under any name";
}

TEST_F(SmallDrive, ExtractedFilesThatDoNotFitAreSaidAhead) {
  const Outcome run = on_drive(16, "extract 'Moth & Lantern.cue' --into drive/files");
  EXPECT_EQ(run.exit_code, 4) << run.err;
  EXPECT_TRUE(left().empty());
}

TEST_F(SmallDrive, WhatFitsIsThere) {
  const Outcome run = on_drive(64 << 10, "convert 'Moth & Lantern.cue' --to cue --out drive/ --prove");
  EXPECT_EQ(run.exit_code, 0) << run.err;
  ASSERT_EQ(left().size(), 2u);
  fs::rename(*this / "after", *this / "result");
  EXPECT_EQ(cli({"check", "result/Moth & Lantern.cue"}).exit_code, 0);
}

TEST_F(SmallDrive, ADumpThatDoesNotFitIsNotBegun) {
  write_file(
      *this / "drive.toml",
      "[drive]\ncache_kib = 256\n[disc]\nsessions = [{tracks = [{number = 1, mode = \"MODE1\", sectors = 3000}]}]\n");
  const Outcome small = on_drive(200, "dump sim:drive.toml --out drive/x.cue");
  EXPECT_EQ(small.exit_code, 4) << small.err;
  EXPECT_TRUE(contains(small.err, "not enough room")) << small.err;
  EXPECT_TRUE(left().empty());
  const Outcome large = on_drive(64 << 10, "dump sim:drive.toml --out drive/x.cue");
  EXPECT_EQ(large.exit_code, 0) << large.err;
  EXPECT_EQ(left().size(), 2u);
}

}  // namespace
}  // namespace opifex::testkit
