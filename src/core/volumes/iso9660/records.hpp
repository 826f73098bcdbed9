/// Numbers, dates and directory records as ISO 9660 writes them (ECMA-119, 7.2, 7.3 and 9.1).
#pragma once

#include <algorithm>
#include <ctime>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

/// Fields of a structure by their offset.
class Put {
 public:
  explicit Put(std::span<std::byte> out) : out_(out) {}
  void byte(std::size_t at, unsigned v) { out_[at] = static_cast<std::byte>(v); }
  void le(std::size_t at, std::uint64_t v, std::size_t n) {
    for (std::size_t i = 0; i < n; ++i) byte(at + i, static_cast<unsigned>(v >> 8 * i & 255));
  }
  void be(std::size_t at, std::uint64_t v, std::size_t n) {
    for (std::size_t i = 0; i < n; ++i) byte(at + i, static_cast<unsigned>(v >> 8 * (n - 1 - i) & 255));
  }
  void both(std::size_t at, std::uint64_t v, std::size_t n) {
    le(at, v, n);
    be(at + n, v, n);
  }
  void bytes(std::size_t at, ByteView v) {
    std::copy(v.begin(), v.end(), out_.begin() + static_cast<std::ptrdiff_t>(at));
  }

 private:
  std::span<std::byte> out_;
};

/// Universal time; years that ISO 9660 cannot write become the nearest it can.
std::tm utc(std::int64_t seconds);

/// Bytes before a record's identifier.
inline constexpr std::size_t kRecordHead = 33;

/// The length of a record with an identifier of so many bytes: even.
constexpr std::size_t record_bytes(std::size_t identifier) {
  const std::size_t n = kRecordHead + identifier;
  return n + n % 2;
}

/// `out` has the length of the record; `size` is in bytes.
void put_record(std::span<std::byte> out, ByteView identifier, std::uint64_t sector, std::uint64_t size,
                std::int64_t time, unsigned flags);

}  // namespace opifex
