/// Dates as file systems write them: days of the calendar and times of the day, in universal time.
#pragma once

#include <cstdint>
#include <optional>

namespace opifex {

struct CivilTime {
  int year = 1970;
  int month = 1, day = 1;                ///< from 1
  int hour = 0, minute = 0, second = 0;  ///< of the day, from 0
};

/// Of seconds since 1970; years beyond those of std::chrono (32 767 either way) become the nearest one.
CivilTime civil_time(std::int64_t seconds);

/// Seconds since 1970 by the clock of this computer.
std::int64_t seconds_now();

/// Seconds since 1970; nothing if the calendar has no such day, or the day no such time.
std::optional<std::int64_t> seconds_of(const CivilTime& time);

}  // namespace opifex
