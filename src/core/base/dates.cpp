#include "opifex/core/base/dates.hpp"

#include <algorithm>
#include <chrono>

namespace opifex {

namespace chrono = std::chrono;

CivilTime civil_time(std::int64_t seconds) {
  constexpr chrono::sys_seconds kFirst = chrono::sys_days(chrono::year::min() / 1 / 1);
  constexpr chrono::sys_seconds kLast =
      chrono::sys_days(chrono::year::max() / 12 / 31) + chrono::days(1) - chrono::seconds(1);
  const chrono::sys_seconds time(chrono::seconds(
      std::clamp<std::int64_t>(seconds, kFirst.time_since_epoch().count(), kLast.time_since_epoch().count())));
  const auto days = chrono::floor<chrono::days>(time);
  const chrono::year_month_day date(days);
  const chrono::hh_mm_ss clock(time - days);
  return {int(date.year()),
          static_cast<int>(unsigned(date.month())),
          static_cast<int>(unsigned(date.day())),
          static_cast<int>(clock.hours().count()),
          static_cast<int>(clock.minutes().count()),
          static_cast<int>(clock.seconds().count())};
}

std::int64_t seconds_now() {
  return chrono::duration_cast<chrono::seconds>(chrono::system_clock::now().time_since_epoch()).count();
}

std::optional<std::int64_t> seconds_of(const CivilTime& t) {
  constexpr int kYears = 32'767;
  if (t.year < -kYears || t.year > kYears || t.month < 1 || t.day < 1 || t.hour < 0 || t.hour > 23 || t.minute < 0 ||
      t.minute > 59 || t.second < 0 || t.second > 59)
    return std::nullopt;
  const chrono::year_month_day date{chrono::year(t.year), chrono::month(static_cast<unsigned>(t.month)),
                                    chrono::day(static_cast<unsigned>(t.day))};
  if (!date.ok()) return std::nullopt;
  const chrono::sys_seconds time =
      chrono::sys_days(date) + chrono::hours(t.hour) + chrono::minutes(t.minute) + chrono::seconds(t.second);
  return time.time_since_epoch().count();
}

}  // namespace opifex
