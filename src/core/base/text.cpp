#include "opifex/core/base/text.hpp"

#include <algorithm>
#include <array>
#include <charconv>
#include <memory>

#include <fmt/format.h>
#include <unicode/ucnv.h>
#include <unicode/unistr.h>
#include <unicode/ustring.h>

namespace opifex {
namespace {

/// Length of the well-formed UTF-8 sequence at the start of `s`, or 0.
std::size_t utf8_sequence(std::string_view s) {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(s[i]); };
  const unsigned lead = byte(0);
  if (lead < 0x80) return 1;
  const std::size_t n = lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : 2;
  if (lead < 0xC2 || lead > 0xF4 || s.size() < n) return 0;
  for (std::size_t i = 1; i < n; ++i)
    if ((byte(i) & 0xC0) != 0x80) return 0;
  const unsigned second = byte(1);
  const bool overlong = (lead == 0xE0 && second < 0xA0) || (lead == 0xF0 && second < 0x90);
  const bool out_of_range = (lead == 0xED && second > 0x9F) || (lead == 0xF4 && second > 0x8F);
  return overlong || out_of_range ? 0 : n;
}

}  // namespace

bool is_utf8(std::string_view s) {
  while (!s.empty()) {
    const std::size_t n = utf8_sequence(s);
    if (n == 0) return false;
    s.remove_prefix(n);
  }
  return true;
}

std::optional<std::string> decode(std::string_view s, const char* code_page) {
  UErrorCode status = U_ZERO_ERROR;
  const std::unique_ptr<UConverter, decltype(&ucnv_close)> converter(ucnv_open(code_page, &status), &ucnv_close);
  if (U_FAILURE(status)) return std::nullopt;
  ucnv_setToUCallBack(converter.get(), UCNV_TO_U_CALLBACK_STOP, nullptr, nullptr, nullptr, &status);
  icu::UnicodeString text;
  constexpr std::int32_t kMaxText = 1 << 28;
  if (s.size() > kMaxText) return std::nullopt;
  const auto capacity = static_cast<std::int32_t>(s.size() * 2 + 16);
  char16_t* buffer = text.getBuffer(capacity);
  const std::int32_t length =
      ucnv_toUChars(converter.get(), buffer, capacity, s.data(), static_cast<std::int32_t>(s.size()), &status);
  text.releaseBuffer(U_SUCCESS(status) ? length : 0);
  if (U_FAILURE(status)) return std::nullopt;
  // ICU keeps unpaired surrogates of UTF-16 input; they have no UTF-8 form.
  for (std::int32_t i = 0; i < text.length(); i = text.moveIndex32(i, 1))
    if (U_IS_SURROGATE(static_cast<std::uint32_t>(text.char32At(i)))) return std::nullopt;
  std::string out;
  text.toUTF8String(out);
  return out;
}

std::optional<std::string> encode(std::string_view s, const char* code_page) {
  constexpr std::size_t kMostText = 1 << 24;
  if (!is_utf8(s) || s.size() > kMostText) return std::nullopt;
  UErrorCode status = U_ZERO_ERROR;
  const std::unique_ptr<UConverter, decltype(&ucnv_close)> converter(ucnv_open(code_page, &status), &ucnv_close);
  if (U_FAILURE(status)) return std::nullopt;
  ucnv_setFromUCallBack(converter.get(), UCNV_FROM_U_CALLBACK_STOP, nullptr, nullptr, nullptr, &status);
  const auto text = icu::UnicodeString::fromUTF8(icu::StringPiece(s.data(), static_cast<std::int32_t>(s.size())));
  std::string out(s.size() * 2 + 16, '\0');
  const std::int32_t length = ucnv_fromUChars(converter.get(), out.data(), static_cast<std::int32_t>(out.size()),
                                              text.getBuffer(), text.length(), &status);
  if (U_FAILURE(status)) return std::nullopt;
  out.resize(static_cast<std::size_t>(length));
  return out;
}

std::string fold_case(std::string_view s) {
  if (!is_utf8(s) || s.size() > (1u << 20)) {
    std::string folded(s);
    for (char& c : folded)
      if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
    return folded;
  }
  std::string folded;
  icu::UnicodeString::fromUTF8(icu::StringPiece(s.data(), static_cast<std::int32_t>(s.size())))
      .foldCase()
      .toUTF8String(folded);
  return folded;
}

std::size_t utf16_units(std::string_view s) {
  std::size_t units = 0;
  while (!s.empty()) {
    const std::size_t n = std::max<std::size_t>(1, utf8_sequence(s));
    units += n == 4 ? 2 : 1;
    s.remove_prefix(n);
  }
  return units;
}

std::string to_upper_ascii(std::string_view s) {
  std::string upper(s);
  for (char& c : upper)
    if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
  return upper;
}

std::string_view trim(std::string_view s) {
  constexpr std::string_view kBlank = " \t\r\n\f\v";
  const std::size_t first = s.find_first_not_of(kBlank);
  if (first == std::string_view::npos) return {};
  return s.substr(first, s.find_last_not_of(kBlank) - first + 1);
}

std::vector<std::string_view> split_words(std::string_view s) {
  std::vector<std::string_view> words;
  for (s = trim(s); !s.empty(); s = trim(s)) {
    const std::size_t end = std::min(s.find_first_of(" \t"), s.size());
    words.push_back(s.substr(0, end));
    s.remove_prefix(end);
  }
  return words;
}

std::string grouped(std::uint64_t n) {
  std::string digits = fmt::format("{}", n);
  for (std::size_t at = digits.size(); at > 3;) digits.insert(at -= 3, " ");
  return digits;
}

std::string plural(std::uint64_t n, std::string_view word) {
  return fmt::format("{} {}{}", grouped(n), word, n == 1 ? "" : "s");
}

std::string bytes_text(std::uint64_t n) {
  return n < 1000 ? plural(n, "byte") : fmt::format("{} ({} bytes)", human_size(n), grouped(n));
}

std::string human_size(std::uint64_t bytes) {
  constexpr std::array kUnits = {"bytes", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
  double value = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (value >= 1000 && unit + 1 < kUnits.size()) {
    value /= 1024;
    ++unit;
  }
  return unit == 0 ? fmt::format("{} bytes", bytes) : fmt::format("{:.1f} {}", value, kUnits.at(unit));
}

std::optional<std::uint64_t> parse_size(std::string_view s) {
  struct Unit {
    std::string_view name;
    std::uint64_t bytes;
  };
  constexpr std::array kUnits = {Unit{"", 1},           Unit{"B", 1},           Unit{"KB", 1000},
                                 Unit{"MB", 1000000},   Unit{"GB", 1000000000}, Unit{"KIB", 1ull << 10},
                                 Unit{"MIB", 1 << 20},  Unit{"GIB", 1 << 30},   Unit{"K", 1ull << 10},
                                 Unit{"M", 1ull << 20}, Unit{"G", 1ull << 30}};
  const std::string upper = to_upper_ascii(s);
  if (upper == "FAT32") return 0xFFFFFFFFull;
  std::uint64_t number = 0;
  const auto [end, fault] = std::from_chars(upper.data(), upper.data() + upper.size(), number);
  if (fault != std::errc{}) return std::nullopt;
  const std::string_view word = trim(std::string_view(end, upper.data() + upper.size()));
  for (const Unit& unit : kUnits) {
    std::uint64_t bytes = 0;
    if (word == unit.name && !__builtin_mul_overflow(number, unit.bytes, &bytes)) return bytes;
  }
  return std::nullopt;
}

std::string nearest_word(std::string_view word, const std::vector<std::string>& known) {
  // Edit distance in which two letters that changed places count as one slip.
  const auto distance = [](std::string_view a, std::string_view b) {
    std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
    for (std::size_t i = 0; i <= a.size(); ++i)
      for (std::size_t j = 0; j <= b.size(); ++j) {
        if (i == 0 || j == 0) {
          d[i][j] = i + j;
          continue;
        }
        d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
        const bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
        if (swapped) d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
      }
    return d[a.size()][b.size()];
  };
  constexpr std::size_t kLongestWord = 64;
  if (word.size() > kLongestWord) return {};
  std::string best;
  std::size_t best_distance = std::max<std::size_t>(1, word.size() / 3) + 1;
  for (const std::string& candidate : known) {
    const std::size_t d = distance(word, candidate);
    if (d < best_distance) {
      best_distance = d;
      best = candidate;
    }
  }
  return best;
}

bool steers_terminal(char32_t c) {
  const bool control = c < 0x20 || (c >= 0x7F && c < 0xA0);
  // Marks, embeddings, overrides and isolates of the bidirectional algorithm; line and paragraph separators.
  const bool direction =
      c == 0x061C || (c >= 0x200E && c <= 0x200F) || (c >= 0x2028 && c <= 0x202E) || (c >= 0x2066 && c <= 0x2069);
  return control || direction;
}

namespace {

char32_t code_point(std::string_view sequence) {
  const auto lead = static_cast<unsigned char>(sequence[0]);
  char32_t c = sequence.size() == 1 ? lead : lead & (0x7Fu >> sequence.size());
  for (const char more : sequence.substr(1)) c = c << 6 | (static_cast<unsigned char>(more) & 0x3Fu);
  return c;
}

}  // namespace

std::string printable(std::string_view s) {
  std::string out;
  out.reserve(s.size());
  while (!s.empty()) {
    const std::size_t n = utf8_sequence(s), taken = std::max<std::size_t>(n, 1);
    if (n == 0 || steers_terminal(code_point(s.substr(0, n))))
      for (const char byte : s.substr(0, taken)) out += fmt::format("\\x{:02X}", static_cast<unsigned char>(byte));
    else
      out += s.substr(0, n);
    s.remove_prefix(taken);
  }
  return out;
}

std::string printable_lines(std::string_view s) {
  std::string out;
  while (!s.empty()) {
    const std::size_t end = std::min(s.find('\n'), s.size());
    out += printable(s.substr(0, end));
    if (end < s.size()) out += '\n';
    s.remove_prefix(std::min(end + 1, s.size()));
  }
  return out;
}

}  // namespace opifex
