#include "bits.hpp"

#include <algorithm>

namespace opifex::chd {

std::optional<PrefixCode> PrefixCode::make(const std::vector<std::uint8_t>& lengths, unsigned max_bits) {
  constexpr unsigned kLongest = 32;
  std::array<std::uint64_t, kLongest + 1> count{}, first{};
  for (const std::uint8_t n : lengths) {
    if (n > max_bits) return std::nullopt;
    if (n > 0) ++count[n];
  }
  std::uint64_t start = 0;
  for (unsigned n = kLongest; n >= 1; --n) {
    const std::uint64_t total = start + count[n];
    if (n > 1 ? total % 2 != 0 : total > 2) return std::nullopt;
    first[n] = start;
    start = total / 2;
  }
  PrefixCode code;
  const unsigned longest =
      std::max<unsigned>(1, lengths.empty() ? 1 : *std::max_element(lengths.begin(), lengths.end()));
  code.max_bits_ = longest;
  code.table_.resize(std::size_t{1} << longest);
  for (std::size_t s = 0; s < lengths.size(); ++s) {
    const unsigned n = lengths[s];
    if (n == 0) continue;
    const std::uint64_t value = first[n]++;
    if (value >> n != 0) return std::nullopt;
    const auto from = static_cast<std::size_t>(value << (longest - n));
    const Entry entry{static_cast<std::int16_t>(s), static_cast<std::uint8_t>(n)};
    std::fill_n(code.table_.begin() + static_cast<std::ptrdiff_t>(from), std::size_t{1} << (longest - n), entry);
  }
  return code;
}

std::optional<PrefixCode> read_rle_tree(BitReader& in, std::size_t symbols, unsigned max_bits) {
  const unsigned width = max_bits >= 16 ? 5 : max_bits >= 8 ? 4 : 3;
  constexpr std::size_t kShortestRun = 3;
  std::vector<std::uint8_t> lengths;
  while (lengths.size() < symbols && !in.overran()) {
    const auto value = static_cast<std::uint8_t>(in.bits(width));
    if (value != 1) {
      lengths.push_back(value);
      continue;
    }
    const auto escaped = static_cast<std::uint8_t>(in.bits(width));
    const std::size_t run = escaped == 1 ? 1 : static_cast<std::size_t>(in.bits(width)) + kShortestRun;
    if (run > symbols - lengths.size()) return std::nullopt;
    lengths.insert(lengths.end(), run, escaped);
  }
  if (in.overran()) return std::nullopt;
  return PrefixCode::make(lengths, max_bits);
}

std::optional<PrefixCode> read_small_tree(BitReader& in) {
  constexpr std::size_t kSmall = 24, kSymbols = 256;
  constexpr unsigned kSmallBits = 6, kBits = 16, kStop = 7, kLongRun = 9, kRunBits = 8;
  std::vector<std::uint8_t> small(kSmall, 0);
  small[0] = static_cast<std::uint8_t>(in.bits(3));
  for (std::size_t i = static_cast<std::size_t>(in.bits(3)) + 1; i < kSmall; ++i) {
    const auto v = static_cast<std::uint8_t>(in.bits(3));
    if (v == kStop) break;
    small[i] = v;
  }
  const auto tree = PrefixCode::make(small, kSmallBits);
  if (!tree) return std::nullopt;
  std::vector<std::uint8_t> lengths;
  std::uint8_t last = 0;
  while (lengths.size() < kSymbols && !in.overran()) {
    const int t = tree->next(in);
    if (t < 0) return std::nullopt;
    if (t > 0) {
      last = static_cast<std::uint8_t>(t - 1);
      lengths.push_back(last);
      continue;
    }
    std::size_t run = static_cast<std::size_t>(in.bits(3)) + 2;
    if (run == kLongRun) run += static_cast<std::size_t>(in.bits(kRunBits));
    lengths.insert(lengths.end(), std::min(run, kSymbols - lengths.size()), last);
  }
  if (in.overran()) return std::nullopt;
  return PrefixCode::make(lengths, kBits);
}

}  // namespace opifex::chd
