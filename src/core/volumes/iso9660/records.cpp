#include "records.hpp"

#include <utility>

namespace opifex {
namespace {

/// 9.1.5
void put_date7(Put& put, std::size_t at, std::int64_t time) {
  const std::tm t = utc(time);
  for (const auto& [i, v] : {std::pair<std::size_t, int>{0, t.tm_year},
                             {1, t.tm_mon + 1},
                             {2, t.tm_mday},
                             {3, t.tm_hour},
                             {4, t.tm_min},
                             {5, t.tm_sec}})
    put.byte(at + i, static_cast<unsigned>(v));
}

}  // namespace

std::tm utc(std::int64_t seconds) {
  constexpr std::int64_t k1900 = -2'208'988'800, k2155 = 5'869'583'999;
  const std::time_t t = std::clamp(seconds, k1900, k2155);
  std::tm tm{};
  gmtime_r(&t, &tm);
  return tm;
}

void put_record(std::span<std::byte> out, ByteView identifier, std::uint64_t sector, std::uint64_t size,
                std::int64_t time, unsigned flags) {
  Put put(out);
  put.byte(0, static_cast<unsigned>(record_bytes(identifier.size())));
  put.both(2, sector, 4);
  put.both(10, size, 4);
  put_date7(put, 18, time);
  put.byte(25, flags);
  put.both(28, 1, 2);
  put.byte(32, static_cast<unsigned>(identifier.size()));
  put.bytes(kRecordHead, identifier);
}

}  // namespace opifex
