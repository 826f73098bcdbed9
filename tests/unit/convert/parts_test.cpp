// One big file as parts and back: names as each format has them, sizes, and what must not be left beside them.
#include "opifex/core/convert/parts.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/io/part_names.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

constexpr std::uint64_t kCluster = 32 << 10;

std::vector<WrittenFile> carry_out(const WritePlan& plan, WriteJob job = {}) {
  QuietContext context;
  job.target = target_facts(plan.outputs.front().path.parent_path());
  return write_outputs(Image{}, plan, job, context);
}

TEST(PartNames, AreThoseOfTheFormatWithTheExtension) {
  EXPECT_EQ(part_path("d/Game.iso", 0), "d/Game.part0.iso");
  EXPECT_EQ(part_path("d/Game.iso", 12), "d/Game.part12.iso");
  EXPECT_EQ(part_path("d/Game.wbfs", 0), "d/Game.wbfs");
  EXPECT_EQ(part_path("d/Game.wbfs", 3), "d/Game.wbf3");
  EXPECT_EQ(part_path("d/Game.chd", 0), "d/Game.chd.001");
  EXPECT_EQ(part_path("d/Game.v1.2.bin", 9), "d/Game.v1.2.bin.010");
  EXPECT_EQ(part_path("d/Game", 0), "d/Game.001");
}

TEST(PartNames, AreFoundAgainAsASet) {
  Random random(31);
  for (const char* whole : {"Game.iso", "Game.wbfs", "Game.chd", "Kestrel (Disc 1).bin", "odd"}) {
    const std::size_t most = std::string_view(whole).ends_with(".wbfs") ? 10 : 30;
    for (int i = 0; i < 20; ++i) {
      const std::size_t count = 2 + random.below(most - 1);
      std::vector<std::string> names;
      for (std::size_t n = 0; n < count; ++n) names.push_back(part_path(whole, n).string());
      const std::vector<PartSet> sets = find_part_sets(names);
      ASSERT_EQ(sets.size(), 1u) << whole;
      EXPECT_EQ(sets[0].parts, names);
      EXPECT_TRUE(sets[0].missing.empty());
      EXPECT_TRUE(sets[0].plain_bytes());
      EXPECT_EQ(sets[0].whole(), whole);
    }
  }
}

TEST(Splitting, PartsOneBehindTheOtherAreTheFile) {
  Random random(33);
  for (const char* name : {"a.iso", "a.wbfs", "a.bin"})
    for (int i = 0; i < 4; ++i) {
      const TempFolder folder;
      const std::uint64_t limit = kCluster + random.below(3 * kCluster), each = limit / kCluster * kCluster;
      const Bytes bytes = random.bytes(limit + 1 + random.below(4 * each));
      write_file(folder / name, as_text(bytes));
      const WritePlan plan = plan_split(folder / name, folder / "out", limit);
      carry_out(plan);
      std::string joined;
      for (std::size_t n = 0; n < plan.outputs.size(); ++n) {
        const std::string part = read_file(plan.outputs[n].path);
        EXPECT_LE(part.size(), limit);
        if (n + 1 < plan.outputs.size()) {
          EXPECT_EQ(part.size(), each) << "all but the last have one size";
        }
        joined += part;
      }
      EXPECT_TRUE(joined == as_text(bytes));
      carry_out(plan_join(plan.outputs.front().path, folder / "joined"));
      EXPECT_TRUE(read_file(folder / "joined") == as_text(bytes));
      EXPECT_TRUE(is_in_parts(plan.outputs.back().path));
    }
}

TEST(Splitting, AGamePartitionHasNamesOfItsOwnWhateverIsAroundIt) {
  const TempFolder folder;
  std::string disc(4 * kCluster + 100, '\0');
  disc.replace(kXdvdfsMarkAt, kXdvdfsMark.size(), kXdvdfsMark);
  disc.replace(kXdvdfsMarkAt + 0x7EC, kXdvdfsMark.size(), kXdvdfsMark);
  write_file(folder / "Moth.iso", disc);
  const WritePlan plan = plan_split(folder / "Moth.iso", folder / "out", 2 * kCluster);
  EXPECT_EQ(plan.outputs.at(0).path.filename(), "Moth.1.iso");
  EXPECT_EQ(plan.outputs.at(2).path.filename(), "Moth.3.iso");
}

TEST(Splitting, LimitsThatMakeNoSenseAreRefused) {
  const TempFolder folder;
  write_file(folder / "a.bin", std::string(10 * kCluster, 'x'));
  const auto split = [&](std::uint64_t limit) {
    return error_code([&] { plan_split(folder / "a.bin", folder / "out", limit); });
  };
  EXPECT_EQ(split(10 * kCluster), "fits_already");
  EXPECT_EQ(split(kCluster - 1), "limit_too_small");
  EXPECT_EQ(split(0), "limit_too_small");
  EXPECT_EQ(split(kCluster), "");
  fs::resize_file(folder / "a.bin", 1000 * kCluster);
  EXPECT_EQ(split(kCluster), "too_many_parts") << "three digits count to 999";
  fs::resize_file(folder / "a.bin", 999 * kCluster);
  EXPECT_EQ(split(kCluster), "");
  fs::rename(folder / "a.bin", folder / "a.wbfs");
  fs::resize_file(folder / "a.wbfs", 11 * kCluster);
  EXPECT_EQ(error_code([&] { plan_split(folder / "a.wbfs", folder / "out", kCluster); }), "too_many_parts");
}

TEST(Splitting, APartOfAnEarlierSplitWouldBecomeOneOfTheNew) {
  const TempFolder folder;
  write_file(folder / "a.iso", std::string(3 * kCluster, 'x'));
  WritePlan plan;
  plan.outputs.push_back(
      {folder / "out/a.iso", {SourceRun{open_file(folder / "a.iso"), 0, 3 * kCluster}}, 3 * kCluster});
  limit_parts(plan, kCluster);
  write_file(folder / "out/a.part3.iso", "old");
  EXPECT_EQ(error_code([&] { carry_out(plan); }), "left_over_part");
  EXPECT_EQ(listing(folder / "out").size(), 1u) << "nothing was begun";
  fs::remove(folder / "out/a.part3.iso");
  EXPECT_EQ(carry_out(plan).size(), 3u);
}

TEST(Splitting, AWholeFileWithTheNameOfAFirstPartStandsAlone) {
  const TempFolder folder;
  write_file(folder / "source", "wbfs");
  write_file(folder / "a.wbf1", "of another file");
  WritePlan plan;
  plan.outputs.push_back({folder / "a.wbfs", {SourceRun{open_file(folder / "source"), 0, 4}}, 4});
  EXPECT_EQ(error_code([&] { carry_out(plan); }), "left_over_part");
  plan.outputs.front().path = folder / "a.iso";
  EXPECT_EQ(error_code([&] { carry_out(plan); }), "") << "a.iso is never a part's name";
}

TEST(Limiting, ASetOfFilesIsNotCut) {
  WritePlan plan;
  plan.outputs.push_back({"a.bin", {}, 10 * kCluster});
  plan.outputs.push_back({"a.cue", {}, 100});
  EXPECT_EQ(error_code([&] { limit_parts(plan, kCluster); }), "set_not_split");
  EXPECT_EQ(error_code([&] { limit_parts(plan, 10 * kCluster); }), "") << "it fits as it is";
}

TEST(Limiting, WhatTurnsOutToFitGetsItsOwnName) {
  const TempFolder folder;
  write_file(folder / "source", std::string(100, 'x'));
  WritePlan plan;
  plan.outputs.push_back({folder / "a.iso", {SourceRun{open_file(folder / "source"), 0, 100}}, 3 * kCluster});
  limit_parts(plan, kCluster);
  EXPECT_EQ(carry_out(plan).size(), 1u);
  EXPECT_TRUE(fs::exists(folder / "a.iso"));
  EXPECT_FALSE(fs::exists(folder / "a.part0.iso"));
}

}  // namespace
}  // namespace opifex
