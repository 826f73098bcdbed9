// EDC and ECC word by word, as ECMA-130 Annex A writes them: the yardstick the fast variants are compared with, and the
// view of single words that diagnosis and repair need.
#include "opifex/core/cd/parity.hpp"

namespace opifex::cd {
namespace {

constexpr unsigned kFieldPolynomial = 0x11D;         // x^8+x^4+x^3+x^2+1, alpha = 2
constexpr std::uint32_t kEdcReflected = 0xD8018001;  // 0x8001801B, least significant bit first
constexpr int kDataAt = 12;                          // ECC covers from the header on
constexpr int kCovered = 2236;                       // bytes P and Q run over cyclically: header to P parity

struct Field {
  std::array<std::uint8_t, 512> power{};
  std::array<std::uint8_t, 256> log{};
  constexpr Field() {
    unsigned x = 1;
    for (unsigned i = 0; i < 255; ++i) {
      power[i] = power[i + 255] = static_cast<std::uint8_t>(x);
      log[x] = static_cast<std::uint8_t>(i);
      x <<= 1;
      if (x & 0x100) x ^= kFieldPolynomial;
    }
  }
};
constexpr Field kField;

std::uint8_t value_at(SectorView s, int place, EccHeader header) {
  const bool hidden = header == EccHeader::zero && place < kDataAt + 4;
  return hidden ? std::uint8_t{0} : std::to_integer<std::uint8_t>(s[static_cast<std::size_t>(place)]);
}

template <int (*Place)(int, int)>
Syndrome syndrome(SectorView s, int word, int length, EccHeader header) {
  Syndrome r;
  for (int m = 0; m < length; ++m) {
    const std::uint8_t v = value_at(s, Place(word, m), header);
    r.s0 ^= v;
    r.s1 = static_cast<std::uint8_t>(gf_multiply(2, r.s1) ^ v);
  }
  return r;
}

template <int (*Place)(int, int)>
void encode(SectorSpan s, int word, int length, EccHeader header) {
  std::uint8_t a = 0, b = 0;
  for (int m = 0; m < length - 2; ++m) {
    const std::uint8_t v = value_at(s, Place(word, m), header);
    a ^= v;
    b = static_cast<std::uint8_t>(gf_multiply(2, b) ^ v);
  }
  b = gf_multiply(4, b);
  constexpr std::uint8_t kInverseOfAlphaPlusOne = 0xF4;
  const std::uint8_t first = gf_multiply(a ^ b, kInverseOfAlphaPlusOne);
  s[static_cast<std::size_t>(Place(word, length - 2))] = std::byte{first};
  s[static_cast<std::size_t>(Place(word, length - 1))] = static_cast<std::byte>(a ^ first);
}

}  // namespace

std::uint8_t gf_multiply(std::uint8_t a, std::uint8_t b) {
  if (a == 0 || b == 0) return 0;
  return kField.power[static_cast<std::size_t>(kField.log[a] + kField.log[b])];
}
std::uint8_t gf_power(int n) { return kField.power[static_cast<std::size_t>(n % 255)]; }
int gf_log(std::uint8_t x) { return kField.log[x]; }

int p_place(int p, int m) { return kDataAt + 86 * m + p; }

int q_place(int q, int m) {
  if (m >= kQLength - 2) return kDataAt + kCovered + (m - (kQLength - 2)) * kQWords + q;
  return kDataAt + ((q >> 1) * 86 + (q & 1) + 88 * m) % kCovered;
}

Syndrome p_syndrome(SectorView s, int p, EccHeader header) { return syndrome<p_place>(s, p, kPLength, header); }
Syndrome q_syndrome(SectorView s, int q, EccHeader header) { return syndrome<q_place>(s, q, kQLength, header); }

std::uint32_t edc_reference(ByteView bytes, std::uint32_t initial) {
  std::uint32_t c = initial;
  for (std::byte b : bytes) {
    c ^= std::to_integer<std::uint32_t>(b);
    for (int bit = 0; bit < 8; ++bit) c = c >> 1 ^ (c & 1 ? kEdcReflected : 0);
  }
  return c;
}

void compute_ecc_reference(SectorSpan s, EccHeader header) {
  for (int p = 0; p < kPWords; ++p) encode<p_place>(s, p, kPLength, header);
  for (int q = 0; q < kQWords; ++q) encode<q_place>(s, q, kQLength, header);
}

}  // namespace opifex::cd
