// A set under a new name: all of it or nothing, whatever fails on the way; and the names in its sheet.
#include <gtest/gtest.h>

#include "opifex/core/image/format.hpp"
#include "opifex/core/stage/naming.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

/// A sheet with a bin for each of `tracks` tracks of music.
fs::path write_set(const fs::path& folder, const std::string& stem, int tracks) {
  std::string sheet;
  for (int n = 1; n <= tracks; ++n) {
    const std::string bin = fmt::format("{} (Track {}).bin", stem, n);
    write_file(folder / bin, std::string(2352 * 3, static_cast<char>('a' + n)));
    sheet += fmt::format("FILE \"{}\" BINARY\r\n  TRACK {:02} AUDIO\r\n    INDEX 01 00:00:00\r\n", bin, n);
  }
  write_file(folder / (stem + ".cue"), sheet);
  return folder / (stem + ".cue");
}

std::map<std::string, std::string> contents(const fs::path& folder) {
  std::map<std::string, std::string> all;
  for (const auto& [name, size] : listing(folder)) all[name] = read_file(folder / name);
  return all;
}

TEST(Renaming, GoesThereAndBack) {
  const TempFolder folder;
  write_set(folder.path(), "Moth", 4);
  write_file(folder / "Moth.txt", "notes");
  const auto before = contents(folder.path());
  run_rename(plan_rename(folder / "Moth.cue", "Lantern & Moth", {}));
  EXPECT_TRUE(open_image(folder / "Lantern & Moth.cue").complete);
  EXPECT_EQ(read_file(folder / "Lantern & Moth.txt"), "notes");
  EXPECT_EQ(listing(folder.path()).size(), before.size());
  run_rename(plan_rename(folder / "Lantern & Moth.cue", "Moth", {}));
  EXPECT_TRUE(contents(folder.path()) == before) << "byte for byte";
}

TEST(Renaming, AnyStepThatFailsLeavesTheSetAsItWas) {
  for (int failing = 0; failing < 5; ++failing) {
    const TempFolder folder;
    write_set(folder.path(), "Moth", 3);
    RenamePlan plan = plan_rename(folder / "Moth.cue", "New", {});
    ASSERT_EQ(plan.steps.size(), 3u);
    // Something comes into the way, or a file goes, between the plan and its run.
    if (failing < 3)
      write_file(plan.steps[static_cast<std::size_t>(failing)].to, "in the way");
    else if (failing == 3)
      fs::remove(plan.steps[1].from);
    else
      write_file(plan.sheet->to, "in the way");
    const auto expected = contents(folder.path());
    EXPECT_NE(error_code([&] { run_rename(plan); }), "") << failing;
    EXPECT_TRUE(contents(folder.path()) == expected) << failing;
  }
}

TEST(Renaming, RandomSetsKeepEveryByte) {
  Random random(71);
  for (int i = 0; i < 30; ++i) {
    const TempFolder folder;
    const int tracks = 1 + static_cast<int>(random.below(12));
    const fs::path sheet = write_set(folder.path(), "Old Name", tracks);
    std::multiset<std::string> before, after;
    for (const auto& [name, bytes] : contents(folder.path()))
      if (!name.ends_with(".cue")) before.insert(bytes);
    const std::optional<std::size_t> limit = random.below(2) != 0 ? std::optional<std::size_t>(24) : std::nullopt;
    const std::string stem = fmt::format("A new name of number {}", i);
    run_rename(plan_rename(sheet, stem, limit));
    std::size_t sheets = 0;
    for (const auto& [name, bytes] : contents(folder.path())) {
      if (limit) {
        EXPECT_LE(name.size(), *limit);
      }
      if (!name.ends_with(".cue")) {
        after.insert(bytes);
        continue;
      }
      ++sheets;
      const Image image = open_image(folder / name);
      ASSERT_EQ(image.files.size(), static_cast<std::size_t>(tracks));
      for (int n = 1; n <= tracks; ++n) {
        cd::Sector s;
        image.cd()->read_sector(image.cd()->layout().track(n)->start_lba, s);
        EXPECT_EQ(std::to_integer<char>(s[0]), static_cast<char>('a' + n)) << "each track is still its own";
      }
    }
    EXPECT_EQ(sheets, 1u);
    EXPECT_TRUE(before == after);
  }
}

std::string gdi(const fs::path& folder, const std::string& third) {
  write_file(folder / "track01.iso", std::string(2048 * 4, '1'));
  write_file(folder / "track 02.raw", std::string(2352 * 2, '2'));
  write_file(folder / third, std::string(2048 * 20, '3'));
  return fmt::format("3\r\n1 0 4 2048 track01.iso 0\r\n2 4 0 2352 \"track 02.raw\" 0\r\n3 45000 4 2048 {} 0\r\n",
                     third);
}

TEST(Renaming, ATrackListOfAGdRomIsASheetToo) {
  const TempFolder folder;
  write_file(folder / "disc.gdi", gdi(folder.path(), "track03.iso"));
  run_rename(plan_rename(folder / "disc.gdi", "Quarry", {}));
  EXPECT_EQ(read_file(folder / "Quarry.gdi"),
            "3\r\n1 0 4 2048 \"Quarry (Track 1).iso\" 0\r\n2 4 0 2352 \"Quarry (Track 2).raw\" 0\r\n"
            "3 45000 4 2048 \"Quarry (Track 3).iso\" 0\r\n");
  const Image image = open_image(folder / "Quarry.gdi");
  EXPECT_TRUE(image.complete);
  EXPECT_EQ(image.files.size(), 3u);
  EXPECT_EQ(read_file(folder / "Quarry (Track 3).iso"), std::string(2048 * 20, '3'));
}

TEST(Renaming, NamesWithoutBlanksNeedNoQuotesInATrackList) {
  const TempFolder folder;
  write_file(folder / "disc.gdi", gdi(folder.path(), "disc03.iso"));
  run_rename(plan_rename(folder / "disc.gdi", "Q", {}));
  EXPECT_NE(read_file(folder / "Q.gdi").find("\"Q (Track 1).iso\""), std::string::npos);
  const RenamePlan back = plan_rename(folder / "Q.gdi", "disc", {});
  EXPECT_EQ(back.steps.size(), 3u);
}

TEST(Renaming, ASetWithAMissingFileIsNotRenamed) {
  const TempFolder folder;
  const fs::path sheet = write_set(folder.path(), "Moth", 2);
  fs::remove(folder / "Moth (Track 2).bin");
  EXPECT_EQ(error_code([&] { plan_rename(sheet, "New", {}); }), "missing_file");
  write_file(folder / "disc.gdi", gdi(folder.path(), "track03.iso"));
  fs::remove(folder / "track 02.raw");
  EXPECT_EQ(error_code([&] { plan_rename(folder / "disc.gdi", "New", {}); }), "missing_file");
}

TEST(Renaming, AFileOfASheetIsRenamedByItsSheet) {
  const TempFolder folder;
  write_file(folder / "disc.bin", std::string(2352 * 3, 'x'));
  write_file(folder / "disc.cue", "FILE \"disc.bin\" BINARY\r\n  TRACK 01 AUDIO\r\n    INDEX 01 00:00:00\r\n");
  EXPECT_EQ(error_code([&] { plan_rename(folder / "disc.bin", "New", {}); }), "needs_sheet");
  fs::remove(folder / "disc.cue");
  write_file(folder / "disc.gdi", "1\n1 0 0 2352 disc.bin 0\n");
  EXPECT_EQ(error_code([&] { plan_rename(folder / "disc.bin", "New", {}); }), "needs_sheet") << "whatever sheet it is";
}

TEST(SheetNames, AreThoseOfTheFormatsThatHaveSheets) {
  for (const Format* f : formats())
    for (const std::string_view extension : f->extensions)
      if (f->shape == Shape::sheet) {
        EXPECT_TRUE(is_sheet_name("x" + std::string(extension))) << f->id;
        EXPECT_NE(f->read_sheet, nullptr) << f->id << ": a set of it could not be renamed";
      }
  EXPECT_TRUE(is_sheet_name("DISC.CUE"));
  for (const char* name : {"x.bin", "x.iso", "x", ".cue.txt", ""}) EXPECT_FALSE(is_sheet_name(name)) << name;
}

}  // namespace
}  // namespace opifex
