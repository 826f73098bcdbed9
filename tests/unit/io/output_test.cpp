#include "opifex/core/io/output.hpp"

#include <csignal>

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

TEST(Output, AppearsWholeOrNotAtAll) {
  const TempFolder folder;
  {
    OutputSet set(Existing::keep);
    set.add(folder / "new/deep/a.bin").write(as_view("half"));
    EXPECT_FALSE(fs::exists(folder / "new/deep/a.bin"));
  }
  EXPECT_TRUE(listing(folder.path()).empty()) << "no temporary file, no folder that was made for it";
  OutputSet set(Existing::keep);
  set.add(folder / "new/a.bin").write(as_view("whole"));
  set.commit();
  EXPECT_EQ(read_file(folder / "new/a.bin"), "whole");
  EXPECT_EQ(listing(folder.path()).size(), 2u) << "the folder and the file, nothing else";
}

TEST(Output, ZerosBecomeHolesAndReadBackAsZeros) {
  const TempFolder folder;
  Random random(1);
  std::string expected;
  OutputSet set(Existing::keep);
  OutputFile& file = set.add(folder / "sparse");
  for (int i = 0; i < 40; ++i) {
    Bytes part = random.below(2) ? random.bytes(random.below(150'000)) : Bytes(random.below(400'000));
    expected += as_text(part);
    file.write(part);
  }
  const Bytes tail(1 << 20);
  file.write(tail);
  expected += as_text(tail);
  set.commit();
  EXPECT_TRUE(read_file(folder / "sparse") == expected);
  struct stat facts {};
  ASSERT_EQ(::stat((folder / "sparse").c_str(), &facts), 0);
  EXPECT_LT(static_cast<std::uint64_t>(facts.st_blocks) * 512, expected.size()) << "some of it takes no room";
}

TEST(Output, AnExistingFileIsKeptUnlessReplacingIsAsked) {
  const TempFolder folder;
  write_file(folder / "a", "old");
  EXPECT_THROW(write_whole_file(folder / "a", "new", Existing::keep), Error);
  EXPECT_EQ(read_file(folder / "a"), "old");
  write_whole_file(folder / "a", "new", Existing::replace);
  EXPECT_EQ(read_file(folder / "a"), "new");
}

TEST(Output, AFileThatAppearsWhileWeWriteIsKeptToo) {
  const TempFolder folder;
  OutputSet set(Existing::keep);
  set.add(folder / "first").write(as_view("1"));
  set.add(folder / "second").write(as_view("2"));
  write_file(folder / "second", "somebody else's");
  EXPECT_THROW(set.commit(), Error);
  EXPECT_EQ(read_file(folder / "second"), "somebody else's");
  EXPECT_FALSE(fs::exists(folder / "first")) << "half a set is taken away again";
}

TEST(Output, NeverOverAnInputNotEvenByAnotherName) {
  const TempFolder folder;
  write_file(folder / "in.bin", "game");
  fs::create_hard_link(folder / "in.bin", folder / "alias.bin");
  for (const char* name : {"in.bin", "alias.bin"}) {
    try {
      refuse_existing({folder / name}, InputFiles({folder / "in.bin"}), Existing::replace);
      FAIL() << name;
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, "output_is_input");
      EXPECT_EQ(e.details.fault, Fault::needs_word);
    }
  }
}

TEST(Output, ALeftoverOfAKilledJobIsReplacedOneInUseIsNot) {
  const TempFolder folder;
  write_file(folder / "a.opifex-part", "left over");
  write_whole_file(folder / "a", "new", Existing::keep);
  EXPECT_EQ(read_file(folder / "a"), "new");
  write_file(folder / "b.opifex-part", "in use");
  const int fd = ::open((folder / "b.opifex-part").c_str(), O_RDWR);
  ASSERT_EQ(::flock(fd, LOCK_EX), 0);
  EXPECT_THROW(write_whole_file(folder / "b", "new", Existing::keep), Error);
  ::close(fd);
  EXPECT_EQ(read_file(folder / "b.opifex-part"), "in use");
}

TEST(Output, LongNamesGetAShortTemporaryName) {
  const TempFolder folder;
  const std::string name(250, 'x');
  write_whole_file(folder / name, "fits", Existing::keep);
  EXPECT_EQ(read_file(folder / name), "fits");
}

/// Lets files grow to `bytes` only, as a full drive would.
class FileSizeLimit {
 public:
  explicit FileSizeLimit(rlim_t bytes) {
    std::signal(SIGXFSZ, SIG_IGN);
    ::getrlimit(RLIMIT_FSIZE, &before_);
    const rlimit limit{bytes, before_.rlim_max};
    ::setrlimit(RLIMIT_FSIZE, &limit);
  }
  ~FileSizeLimit() { ::setrlimit(RLIMIT_FSIZE, &before_); }

 private:
  rlimit before_{};
};

TEST(Output, AWriteThatFailsInTheMiddleLeavesNothing) {
  const TempFolder folder;
  const Bytes data(4 << 20, std::byte{0x5A});
  try {
    const FileSizeLimit full(1 << 20);
    OutputSet set(Existing::keep);
    set.add(folder / "new/a.bin").write(data);
    FAIL() << "more was written than the drive holds";
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::device);
    EXPECT_EQ(e.details.file, (folder / "new/a.bin").string());
  }
  EXPECT_TRUE(listing(folder.path()).empty());
}

TEST(Output, AFileIsNoFolderToWriteInto) {
  const TempFolder folder;
  write_file(folder / "file", "x");
  OutputSet set(Existing::keep);
  EXPECT_THROW(set.add(folder / "file/a.bin"), Error);
  EXPECT_EQ(read_file(folder / "file"), "x");
}

}  // namespace
}  // namespace opifex
