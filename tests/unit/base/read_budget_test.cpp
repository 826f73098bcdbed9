#include "opifex/core/base/read_budget.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using testkit::error_code;

TEST(ReadBudget, AFewTimesTheSizeIsWhatTablesMayCost) {
  constexpr std::uint64_t kSize = 100 << 20;
  ReadBudget budget("x.iso", kSize);
  std::uint64_t taken = 0;
  EXPECT_EQ(error_code([&] {
              for (;; taken += 1 << 20) budget.take(1 << 20);
            }),
            "too_many_entries");
  EXPECT_GE(taken, 2 * kSize) << "honest tables never reach it";
  EXPECT_LE(taken, 10 * kSize) << "and broken ones soon do";
}

TEST(ReadBudget, EntriesHaveAnEndWhateverTheyWeigh) {
  ReadBudget budget("x.iso", UINT64_MAX);
  std::uint64_t entries = 0;
  EXPECT_EQ(error_code([&] {
              for (;; ++entries) {
                ASSERT_EQ(budget.is_full(), entries == ReadBudget::kMostEntries);
                budget.entry();
              }
            }),
            "too_many_entries");
  EXPECT_EQ(entries, ReadBudget::kMostEntries);
}

TEST(ReadBudget, NoSizeWrapsAround) {
  for (const std::uint64_t size : {std::uint64_t{0}, UINT64_MAX / 5, UINT64_MAX / 5 + 1, UINT64_MAX - 1, UINT64_MAX}) {
    ReadBudget budget("x.iso", size);
    EXPECT_NO_THROW(budget.take(1 << 20)) << size;
  }
  ReadBudget budget("x.iso", 0);
  EXPECT_EQ(error_code([&] { budget.take(UINT64_MAX); }), "too_many_entries");
  EXPECT_NO_THROW(budget.take(1)) << "what was refused was not taken";
}

TEST(ReadBudget, ATableKnownToBeSmallHasTighterLimitsAndTakesNothingBeyondThem) {
  ReadBudget few("x.chd", 1 << 20, {.entries = 3, .bytes = 100});
  EXPECT_TRUE(few.try_entry(60));
  EXPECT_FALSE(few.try_entry(41)) << "60 and 41 are more than 100";
  EXPECT_TRUE(few.try_entry(40)) << "what was refused was not counted";
  EXPECT_TRUE(few.try_entry(0));
  EXPECT_TRUE(few.is_full());
  EXPECT_FALSE(few.try_entry(0));
  EXPECT_EQ(error_code([&] { few.entry(); }), "too_many_entries");
  ReadBudget small("x.chd", 0, {.bytes = UINT64_MAX});
  EXPECT_FALSE(small.try_entry(UINT64_MAX)) << "a limit never allows more than the file's size does";
}

TEST(ReadBudget, TheErrorSaysWhichFileAndWhatToDo) {
  ReadBudget budget("shelf/moth.iso", 0);
  try {
    budget.take(UINT64_MAX);
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::refused);
    EXPECT_EQ(e.details.file, "shelf/moth.iso");
    EXPECT_FALSE(e.details.expected.empty() || e.details.hint.empty());
  }
}

}  // namespace
}  // namespace opifex
