/// Numbers in byte spans, checked arithmetic and a cursor that cannot overrun.
#pragma once

#include <boost/endian/conversion.hpp>
#include <concepts>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <vector>

#include <fmt/format.h>

#include "opifex/core/base/error.hpp"

namespace opifex {

using Bytes = std::vector<std::byte>;
using ByteView = std::span<const std::byte>;

template <std::unsigned_integral T>
[[nodiscard]] constexpr std::optional<T> checked_mul(T a, T b) {
  T r{};
  return __builtin_mul_overflow(a, b, &r) ? std::nullopt : std::optional(r);
}

template <std::unsigned_integral T>
[[nodiscard]] constexpr std::optional<T> checked_add(T a, T b) {
  T r{};
  return __builtin_add_overflow(a, b, &r) ? std::nullopt : std::optional(r);
}

/// The next multiple of `unit`; without an end below 2^64, the last multiple that has one. `unit` is not 0.
template <std::unsigned_integral T>
[[nodiscard]] constexpr T round_up(T n, std::type_identity_t<T> unit) {
  const T rest = n % unit;
  if (rest == 0) return n;
  return checked_add<T>(n, unit - rest).value_or(n - rest);
}
template <std::unsigned_integral T>
[[nodiscard]] constexpr T round_down(T n, std::type_identity_t<T> unit) {
  return n - n % unit;
}
/// How many units hold `n`, the last one perhaps in part: the quotient rounded up.
template <std::unsigned_integral T>
[[nodiscard]] constexpr T ceil_div(T n, std::type_identity_t<T> unit) {
  return n / unit + (n % unit != 0 ? 1 : 0);
}

inline const unsigned char* raw_bytes(ByteView v) { return reinterpret_cast<const unsigned char*>(v.data()); }
inline unsigned char* raw_bytes_mut(std::span<std::byte> v) { return reinterpret_cast<unsigned char*>(v.data()); }
inline ByteView as_view(std::string_view s) { return std::as_bytes(std::span(s.data(), s.size())); }
inline std::string_view as_text(ByteView v) { return {reinterpret_cast<const char*>(v.data()), v.size()}; }
inline Bytes to_bytes(std::string_view s) { return {as_view(s).begin(), as_view(s).end()}; }

/// Little- and big-endian loads and stores at `at`; the caller has checked that the span is long enough.
inline std::uint16_t load_le16(ByteView v, std::size_t at) {
  return boost::endian::load_little_u16(raw_bytes(v.subspan(at, 2)));
}
inline std::uint32_t load_le32(ByteView v, std::size_t at) {
  return boost::endian::load_little_u32(raw_bytes(v.subspan(at, 4)));
}
inline std::uint64_t load_le64(ByteView v, std::size_t at) {
  return boost::endian::load_little_u64(raw_bytes(v.subspan(at, 8)));
}
inline std::uint16_t load_be16(ByteView v, std::size_t at) {
  return boost::endian::load_big_u16(raw_bytes(v.subspan(at, 2)));
}
inline std::uint32_t load_be32(ByteView v, std::size_t at) {
  return boost::endian::load_big_u32(raw_bytes(v.subspan(at, 4)));
}
inline void store_le32(std::span<std::byte> v, std::size_t at, std::uint32_t x) {
  boost::endian::store_little_u32(raw_bytes_mut(v.subspan(at, 4)), x);
}
/// The low 32 bits: who stores an offset or a size has checked that it fits.
inline void store_be32(std::span<std::byte> v, std::size_t at, std::uint64_t x) {
  boost::endian::store_big_u32(raw_bytes_mut(v.subspan(at, 4)), static_cast<std::uint32_t>(x));
}

/// Writes the low `n` bytes of a number, and copies bytes, at the offsets a structure has its fields at; the caller has
/// checked that it is long enough.
class Fields {
 public:
  explicit Fields(std::span<std::byte> out) : out_(out) {}
  void byte(std::size_t at, unsigned v) { out_[at] = static_cast<std::byte>(v); }
  void le(std::size_t at, std::uint64_t v, std::size_t n) {
    for (std::size_t i = 0; i < n; ++i) byte(at + i, static_cast<unsigned>(v >> 8 * i & 255));
  }
  void be(std::size_t at, std::uint64_t v, std::size_t n) {
    for (std::size_t i = 0; i < n; ++i) byte(at + i, static_cast<unsigned>(v >> 8 * (n - 1 - i) & 255));
  }
  /// In both orders, as ISO 9660 has numbers (ECMA-119, 7.2.3, 7.3.3).
  void both(std::size_t at, std::uint64_t v, std::size_t n) {
    le(at, v, n);
    be(at + n, v, n);
  }
  void bytes(std::size_t at, ByteView v) {
    for (std::size_t i = 0; i < v.size(); ++i) out_[at + i] = v[i];
  }

 private:
  std::span<std::byte> out_;
};

/// True if every byte is zero. Speed: compares the span with itself shifted by one, which memcmp does at full width.
bool all_zero(ByteView v);

/// Lower-case hexadecimal text.
std::string hex(ByteView v);

/// Walks a header held in memory, from byte `base` of `file`. Every overrun is an Error naming file, offset and field.
struct FieldReader {
  const ByteView bytes;
  const std::string file;
  const std::uint64_t base = 0;
  std::size_t pos = 0;  ///< never above bytes.size()

  ByteView take(std::size_t n, std::string_view field) {
    const std::size_t left = bytes.size() - pos;
    if (n > left)
      throw Error({.code = "truncated",
                   .what = fmt::format("{} is cut short", field),
                   .file = file,
                   .offset = base + pos,
                   .found = fmt::format("{} bytes", left),
                   .expected = fmt::format("{}", n)});
    return bytes.subspan(std::exchange(pos, pos + n), n);
  }
  template <std::unsigned_integral T>
  T big_endian(std::string_view field) {
    T v{};
    for (std::byte b : take(sizeof(T), field)) v = static_cast<T>((v << 8) | std::to_integer<T>(b));
    return v;
  }
  template <std::unsigned_integral T>
  T little_endian(std::string_view field) {
    T v{};
    unsigned shift = 0;
    for (std::byte b : take(sizeof(T), field)) {
      v = static_cast<T>(v | static_cast<T>(std::to_integer<T>(b) << shift));
      shift += 8;
    }
    return v;
  }
};

}  // namespace opifex
