#include "opifex/core/base/read_budget.hpp"

#include <gtest/gtest.h>

namespace opifex {
namespace {

std::string code_when(const std::function<void()>& act) {
  try {
    act();
    return "";
  } catch (const Error& e) {
    return e.details.code;
  }
}

TEST(ReadBudget, AFewTimesTheSizeIsWhatTablesMayCost) {
  constexpr std::uint64_t kSize = 100 << 20;
  ReadBudget budget("x.iso", kSize);
  std::uint64_t taken = 0;
  EXPECT_EQ(code_when([&] {
              for (;; taken += 1 << 20) budget.take(1 << 20);
            }),
            "too_many_entries");
  EXPECT_GE(taken, 2 * kSize) << "honest tables never reach it";
  EXPECT_LE(taken, 10 * kSize) << "and broken ones soon do";
}

TEST(ReadBudget, EntriesHaveAnEndWhateverTheyWeigh) {
  ReadBudget budget("x.iso", UINT64_MAX);
  std::uint64_t entries = 0;
  EXPECT_EQ(code_when([&] {
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
  EXPECT_EQ(code_when([&] { budget.take(UINT64_MAX); }), "too_many_entries");
  EXPECT_NO_THROW(budget.take(1)) << "what was refused was not taken";
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
