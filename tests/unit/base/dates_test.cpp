#include "opifex/core/base/dates.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

struct KnownDate {
  CivilTime time;
  std::int64_t seconds;
};

TEST(Dates, KnownOnes) {
  const KnownDate known[] = {
      {{1970, 1, 1, 0, 0, 0}, 0},
      {{1969, 12, 31, 23, 59, 59}, -1},
      {{2000, 2, 29, 12, 30, 15}, 951'827'415},
      {{1900, 1, 1, 0, 0, 0}, -2'208'988'800},
      {{2155, 12, 31, 23, 59, 59}, 5'869'583'999},
      {{2038, 1, 19, 3, 14, 8}, 2'147'483'648},
      {{1601, 1, 1, 0, 0, 0}, -11'644'473'600},
  };
  for (const KnownDate& date : known) {
    EXPECT_EQ(seconds_of(date.time), date.seconds);
    const CivilTime back = civil_time(date.seconds);
    EXPECT_EQ(back.year, date.time.year) << date.seconds;
    EXPECT_EQ(back.month, date.time.month) << date.seconds;
    EXPECT_EQ(back.day, date.time.day) << date.seconds;
    EXPECT_EQ(back.hour, date.time.hour) << date.seconds;
    EXPECT_EQ(back.minute, date.time.minute) << date.seconds;
    EXPECT_EQ(back.second, date.time.second) << date.seconds;
  }
}

TEST(Dates, EveryDayFollowsTheOneBefore) {
  constexpr int kDaysOf[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  std::int64_t expected = *seconds_of({1890, 1, 1});
  for (int year = 1890; year <= 2110; ++year)
    for (int month = 1; month <= 12; ++month) {
      const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
      const int days = kDaysOf[month - 1] + (month == 2 && leap ? 1 : 0);
      for (int day = 1; day <= days; ++day, expected += 86'400)
        ASSERT_EQ(seconds_of({year, month, day}), expected) << year << "-" << month << "-" << day;
      EXPECT_EQ(seconds_of({year, month, days + 1}), std::nullopt) << year << "-" << month;
    }
}

TEST(Dates, RandomSecondsComeBack) {
  testkit::Random random(7);
  for (int i = 0; i < 20'000; ++i) {
    const auto seconds = static_cast<std::int64_t>(random.next() >> 24) - (std::int64_t{1} << 39);  // 17 000 years
    ASSERT_EQ(seconds_of(civil_time(seconds)), seconds);
  }
}

TEST(Dates, WhatNoCalendarHasIsNoDate) {
  for (const CivilTime& bad :
       {CivilTime{2001, 0, 1}, CivilTime{2001, 13, 1}, CivilTime{2001, 1, 0}, CivilTime{2001, 2, 29},
        CivilTime{2001, 4, 31}, CivilTime{2001, 1, 1, 24}, CivilTime{2001, 1, 1, 0, 60},
        CivilTime{2001, 1, 1, 0, 0, 60}, CivilTime{2001, 1, 1, -1}, CivilTime{2001, -1, 1}, CivilTime{40'000, 1, 1}})
    EXPECT_EQ(seconds_of(bad), std::nullopt) << bad.year << "-" << bad.month << "-" << bad.day;
}

TEST(Dates, SecondsBeyondAnyCalendarBecomeItsEdge) {
  EXPECT_EQ(civil_time(INT64_MAX).year, 32'767);
  EXPECT_EQ(civil_time(INT64_MIN).year, -32'767);
  EXPECT_EQ(civil_time(INT64_MAX).second, 59);
}

}  // namespace
}  // namespace opifex
