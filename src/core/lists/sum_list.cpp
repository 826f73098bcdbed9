// Checksum lists: SFV, the lines of md5sum and its kin, BSD lines. A list may have lines of several kinds.
#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"

#include "lines.hpp"
#include "readers.hpp"

namespace opifex {
namespace {

bool is_hex(std::string_view s) {
  return !s.empty() && s.find_first_not_of("0123456789abcdefABCDEF") == std::string_view::npos;
}

bool is_blank(char c) { return c == ' ' || c == '\t'; }

std::optional<ListHash> hash_of_length(std::size_t digits) {
  switch (digits) {
    case 32:
      return ListHash::md5;
    case 40:
      return ListHash::sha1;
    case 64:
      return ListHash::sha256;
    default:
      return std::nullopt;
  }
}

/// Nothing: an algorithm that is not compared here.
std::optional<ListHash> hash_of_word(std::string_view word) {
  const std::string upper = to_upper_ascii(word);
  if (upper == "CRC32" || upper == "CRC-32") return ListHash::crc32;
  if (upper == "MD5") return ListHash::md5;
  if (upper == "SHA1" || upper == "SHA-1") return ListHash::sha1;
  if (upper == "SHA256" || upper == "SHA-256" || upper == "SHA2-256") return ListHash::sha256;
  return std::nullopt;
}

/// What coreutils do with a name that has a line end or a backslash in it.
std::string unescaped(std::string_view name) {
  std::string out;
  for (std::size_t i = 0; i < name.size(); ++i) {
    const char next = name[i] == '\\' && i + 1 < name.size() ? name[i + 1] : '\0';
    const char meant = next == '\\' ? '\\' : next == 'n' ? '\n' : next == 'r' ? '\r' : '\0';
    out.push_back(meant != '\0' ? meant : name[i]);
    if (meant != '\0') ++i;
  }
  return out;
}

struct SumLine {
  std::string name;
  std::string_view digits;
  std::optional<ListHash> hash;  // nothing: unknown algorithm
  std::string_view word = {};    // of a BSD line
  ListKind kind = ListKind::sfv;
};

/// `MD5 (name) = HASH`, `SHA2-256(name)= HASH`.
std::optional<SumLine> bsd_line(std::string_view line) {
  const bool escaped = line.starts_with('\\');
  if (escaped) line.remove_prefix(1);
  const std::size_t word_end = std::min(line.find(" ("), line.find('('));
  if (word_end == 0 || word_end == std::string_view::npos) return std::nullopt;
  const std::string_view word = line.substr(0, word_end);
  constexpr std::size_t kLongestWord = 16;
  if (word.size() > kLongestWord || word.find_first_of(" \t/.") != std::string_view::npos) return std::nullopt;
  const std::size_t name_at = line.find('(') + 1;
  std::size_t name_end = line.rfind(") =");
  std::size_t value_at = name_end == std::string_view::npos ? 0 : name_end + 3;
  if (name_end == std::string_view::npos) {
    name_end = line.rfind(")=");
    value_at = name_end + 2;
  }
  if (name_end == std::string_view::npos || name_end < name_at) return std::nullopt;
  const std::string_view digits = trim(line.substr(value_at));
  if (!is_hex(digits)) return std::nullopt;
  const std::string_view name = line.substr(name_at, name_end - name_at);
  return SumLine{escaped ? unescaped(name) : std::string(name), digits, hash_of_word(word), word, ListKind::bsd};
}

/// `HASH  name`, `HASH *name`, `HASH name`.
std::optional<SumLine> sums_line(std::string_view line) {
  const bool escaped = line.starts_with('\\');
  if (escaped) line.remove_prefix(1);
  const std::size_t end = line.find_first_of(" \t");
  if (end == std::string_view::npos) return std::nullopt;
  const std::string_view digits = line.substr(0, end);
  const auto hash = hash_of_length(digits.size());
  if (!hash || !is_hex(digits)) return std::nullopt;
  std::string_view name = line.substr(end + 1);
  if (name.starts_with(' ') || name.starts_with('*')) name.remove_prefix(1);
  if (name.empty()) return std::nullopt;
  const ListKind kind = *hash == ListHash::md5    ? ListKind::md5
                        : *hash == ListHash::sha1 ? ListKind::sha1
                                                  : ListKind::sha256;
  return SumLine{escaped ? unescaped(name) : std::string(name), digits, hash, {}, kind};
}

/// `name CRC32`; folders are parted by backslashes.
std::optional<SumLine> sfv_line(std::string_view line) {
  while (!line.empty() && is_blank(line.back())) line.remove_suffix(1);
  constexpr std::size_t kDigits = 8;
  if (line.size() < kDigits + 2 || !is_blank(line[line.size() - kDigits - 1])) return std::nullopt;
  const std::string_view digits = line.substr(line.size() - kDigits);
  std::string_view name = line.substr(0, line.size() - kDigits);
  while (!name.empty() && is_blank(name.back())) name.remove_suffix(1);
  if (!is_hex(digits) || name.empty()) return std::nullopt;
  std::string slashed(name);
  std::replace(slashed.begin(), slashed.end(), '\\', '/');
  return SumLine{std::move(slashed), digits, ListHash::crc32, {}, ListKind::sfv};
}

std::optional<SumLine> read_line(std::string_view line, SumTie tie) {
  if (tie == SumTie::sfv)
    if (auto sfv = sfv_line(line)) return sfv;
  if (auto sums = sums_line(line)) return sums;
  if (auto bsd = bsd_line(line)) return bsd;
  return tie == SumTie::sums ? std::nullopt : sfv_line(line);
}

}  // namespace

ListKind read_sum_list(const ByteSource& source, SumTie tie, ListBuilder& builder) {
  ListLines lines(source, builder.file());
  builder.set_line([&] { return lines.line(); });
  std::optional<ListKind> kind;
  bool useful = false;
  while (const auto raw = lines.next()) {
    std::string_view line = *raw;
    const std::string_view bare = trim(line);
    if (bare.empty() || bare == "\x1A" || bare.front() == ';' || bare.front() == '#') continue;
    const auto sum = read_line(line, tie);
    if (!sum) {
      builder.problem("bad_line", "this line is no checksum with a name: " + printable(bare.substr(0, 60)));
      continue;
    }
    useful = true;
    if (!sum->hash) {
      builder.problem("unknown_algorithm", fmt::format("{} is not compared here", printable(sum->word)));
      continue;
    }
    builder.add_sum(sum->name, *sum->hash, sum->digits);
    kind = !kind || *kind == sum->kind ? sum->kind : ListKind::mixed;
  }
  if (!useful)
    refuse_list(builder.file(), "unknown_format", 0, "this is no list: no line of it is a checksum with a name",
                "a list is an XML datafile, the older form in parentheses, or checksums with names");
  builder.set_line([last = lines.line()] { return last; });
  return kind.value_or(ListKind::bsd);
}

}  // namespace opifex
