#include "opifex/core/io/journal.hpp"

#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/io/input_files.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

TEST(Journal, PutsAllFilesInPlaceAndLeavesNoTrace) {
  const TempFolder folder;
  write_file(folder / "a.new", "new a");
  write_file(folder / "b.new", "new b");
  write_file(folder / "b", "old b");
  write_file(folder / "gone", "x");
  place_together({{folder / "a.new", folder / "a", {}}, {folder / "b.new", folder / "b", folder / "b.old"}},
                 {folder / "gone"});
  EXPECT_EQ(listing(folder.path()).size(), 2u);
  EXPECT_EQ(read_file(folder / "a"), "new a");
  EXPECT_EQ(read_file(folder / "b"), "new b");
}

TEST(Journal, IfOneNameIsTakenEverythingIsAsItWas) {
  const TempFolder folder;
  write_file(folder / "a.new", "new a");
  write_file(folder / "b.new", "new b");
  write_file(folder / "a", "old a");
  write_file(folder / "b", "somebody else's");
  const auto before = listing(folder.path());
  EXPECT_THROW(
      place_together({{folder / "a.new", folder / "a", folder / "a.old"}, {folder / "b.new", folder / "b", {}}}),
      Error);
  EXPECT_EQ(listing(folder.path()), before);
  EXPECT_EQ(read_file(folder / "a"), "old a");
  EXPECT_EQ(read_file(folder / "b"), "somebody else's");
}

/// A journal as a job would have left it.
std::string journal(const std::vector<std::string>& lines) {
  std::string text = "opifex journal 1\n";
  for (const std::string& line : lines) text += line + "\n";
  return text + "end " + digest_of("sha1", as_view(text)) + "\n";
}

std::string stamp(const fs::path& path) {
  struct stat facts {};
  EXPECT_EQ(::stat(path.c_str(), &facts), 0) << path;
  return fmt::format("{}/{}.{:09}", facts.st_size, facts.st_mtim.tv_sec, facts.st_mtim.tv_nsec);
}

std::string coded(const std::string& name) { return hex(as_view(name)); }

TEST(Journal, FinishesWhatWasBegun) {
  const TempFolder folder;
  write_file(folder / "a", "new a");      // placed already
  write_file(folder / "a.old", "old a");  // what it replaced
  write_file(folder / "b.new", "new b");
  write_file(folder / ".b.opifex-journal",
             journal({fmt::format("place {} {} {} {}", stamp(folder / "a"), coded("a.new"), coded("a"), coded("a.old")),
                      fmt::format("place {} {} {} -", stamp(folder / "b.new"), coded("b.new"), coded("b"))}));
  EXPECT_EQ(finish_interrupted(folder.path()).size(), 2u);
  EXPECT_EQ(listing(folder.path()).size(), 2u);
  EXPECT_EQ(read_file(folder / "b"), "new b");
}

TEST(Journal, TakesBackWhatCannotBeFinished) {
  const TempFolder folder;
  write_file(folder / "a", "new a");
  write_file(folder / "a.old", "old a");
  write_file(folder / ".b.opifex-journal",
             journal({fmt::format("place {} {} {} {}", stamp(folder / "a"), coded("a.new"), coded("a"), coded("a.old")),
                      fmt::format("place 5/1.000000000 {} {} -", coded("b.new"), coded("b"))}));  // b.new is gone
  EXPECT_TRUE(finish_interrupted(folder.path()).empty());
  EXPECT_EQ(read_file(folder / "a"), "old a");
  EXPECT_EQ(read_file(folder / "a.new"), "new a");
}

TEST(Journal, AStrangersJournalTouchesNothing) {
  const TempFolder folder;
  write_file(folder / "outside", "precious");
  write_file(folder / "in/mine", "precious");
  const std::string outside = coded("../outside");
  for (const std::string& text :
       {journal({fmt::format("place {} {} {} -", stamp(folder / "outside"), outside, coded("taken"))}),
        journal({fmt::format("remove {} {}", stamp(folder / "outside"), outside)}),
        journal({fmt::format("remove 1/2.000000003 {}", coded("mine"))}),
        journal({fmt::format("place 1/2.000000003 {} {} -", coded("not there"), coded("mine"))}),
        std::string("opifex journal 1\nplace "), std::string(200, 'x')}) {
    write_file(folder / "in/.x.opifex-journal", text);
    finish_interrupted(folder / "in");
    EXPECT_EQ(read_file(folder / "outside"), "precious") << text;
    EXPECT_EQ(read_file(folder / "in/mine"), "precious") << text;
  }
}

TEST(InputFiles, KnowAFileByAnyName) {
  const TempFolder folder;
  write_file(folder / "sub/in.bin", "game");
  fs::create_hard_link(folder / "sub/in.bin", folder / "hard.bin");
  fs::create_symlink("sub/in.bin", folder / "soft.bin");
  write_file(folder / "other.bin", "game");
  InputFiles inputs;
  inputs.add_folder(folder / "sub");
  inputs.add(folder / "not there");
  for (const char* name : {"sub/in.bin", "hard.bin", "soft.bin", "sub/../sub/in.bin"})
    EXPECT_TRUE(inputs.read_as(folder / name)) << name;
  EXPECT_FALSE(inputs.read_as(folder / "other.bin"));
  EXPECT_FALSE(inputs.read_as(folder / "not there"));
}

}  // namespace
}  // namespace opifex
