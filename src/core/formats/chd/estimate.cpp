#include "estimate.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace opifex::chd {
namespace {

/// Bytes for symbols that occur so often, each with its own share of the whole.
double coded_bytes(std::span<const std::uint32_t> counts) {
  double total = 0, sum = 0;
  for (const std::uint32_t c : counts)
    if (c != 0) {
      total += c;
      sum += c * std::log2(static_cast<double>(c));
    }
  constexpr double kBitsInByte = 8;
  return total == 0 ? 0 : (total * std::log2(total) - sum) / kBitsInByte;
}

using Samples = std::vector<std::int32_t>;

/// Bits for the residual of the best of the predictors of order 0 to 3.
double channel_bits(const Samples& s) {
  std::array<double, 4> sums{};
  std::int64_t a = 0, b = 0, c = 0;  // the three samples before
  for (const std::int64_t x : s) {
    sums[0] += static_cast<double>(std::abs(x));
    sums[1] += static_cast<double>(std::abs(x - a));
    sums[2] += static_cast<double>(std::abs(x - 2 * a + b));
    sums[3] += static_cast<double>(std::abs(x - 3 * a + 3 * b - c));
    c = b;
    b = a;
    a = x;
  }
  const auto n = static_cast<double>(s.size());
  const double mean = *std::min_element(sums.begin(), sums.end()) / n;
  // A Rice code of a Laplacian residual: about two bits more than the logarithm of its mean. Silence costs nothing.
  constexpr double kRiceBits = 1.9, kBlockBytes = 12;
  return mean == 0 ? kBlockBytes : n * std::max(1.0, std::log2(mean) + kRiceBits);
}

}  // namespace

double plain_entropy(ByteView data) {
  std::array<std::uint32_t, 256> counts{};
  for (const std::byte b : data) ++counts[std::to_integer<std::size_t>(b)];
  return coded_bytes(counts);
}

double context_entropy(ByteView data) {
  constexpr std::size_t kContexts = 8, kShift = 5;
  std::array<std::array<std::uint32_t, 256>, kContexts> counts{};
  std::size_t before = 0;
  for (const std::byte b : data) {
    const auto v = std::to_integer<std::size_t>(b);
    ++counts[before >> kShift][v];
    before = v;
  }
  double sum = 0;
  for (const auto& c : counts) sum += coded_bytes(c);
  return sum;
}

double sound_size(ByteView data, bool big_endian) {
  constexpr std::size_t kStereo = 4;
  const std::size_t n = data.size() / kStereo;
  Samples left(n), right(n), mid(n), side(n);
  const auto sample = [&](std::size_t at) {
    const auto first = std::to_integer<unsigned>(data[at]), second = std::to_integer<unsigned>(data[at + 1]);
    return static_cast<std::int16_t>(big_endian ? first << 8 | second : second << 8 | first);
  };
  for (std::size_t i = 0; i < n; ++i) {
    left[i] = sample(kStereo * i);
    right[i] = sample(kStereo * i + 2);
    mid[i] = (left[i] + right[i]) / 2;
    side[i] = left[i] - right[i];
  }
  const double l = channel_bits(left), r = channel_bits(right), m = channel_bits(mid), s = channel_bits(side);
  constexpr double kBitsInByte = 8;
  return std::min({l + r, m + s, l + s, r + s}) / kBitsInByte;
}

}  // namespace opifex::chd
