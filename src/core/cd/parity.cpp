// EDC and ECC at the speed of memory.
//
// From naive to fast:
//  1. edc_reference: a bit at a time. Portable: sixteen bytes a step by tables (T[k][i] = what byte i does k bytes
//  later).
//     With carry-less multiplication: four 16-byte lanes are folded over the following 64 bytes, one multiplication for
//     each half; what is left is 16 bytes with the same remainder, for the tables.
//  2. compute_ecc_reference: a word at a time, each byte by log and power tables. P words are the columns of 26 rows of
//     86 bytes, so one Horner step over a row advances all 86 words at once: alpha*x is (x+x) ^ (0x1D where x < 0), no
//     table. 32-byte vectors, the running sums in registers.
//  3. Q words run down diagonals. Turn the 26 x 43 matrix of 16-bit words so that its columns lie in rows; then place m
//     of all 26 Q word pairs is one contiguous run that starts at word m mod 26 of column m, each column stored twice.
//  4. Checking needs no parity to be made: carry Horner on through the stored parity and compare with zero.
// The same source is compiled for the plain machine and for AVX2, and chosen at run time. bench/parity_bench.cpp
// measures both; on a 2.5 GHz server core the AVX2 build checks several GB/s.
#include "opifex/core/cd/parity.hpp"

#include <cstring>

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace opifex::cd {
namespace {

// ---- EDC -----------------------------------------------------------------------------------------------------------

constexpr std::size_t kEdcStep = 16;

struct EdcTables {
  std::array<std::array<std::uint32_t, 256>, kEdcStep> t{};
  constexpr EdcTables() {
    for (std::uint32_t i = 0; i < 256; ++i) {
      std::uint32_t c = i;
      for (int bit = 0; bit < 8; ++bit) c = c >> 1 ^ (c & 1 ? 0xD8018001u : 0u);
      t[0][i] = c;
    }
    for (std::size_t k = 1; k < kEdcStep; ++k)
      for (std::uint32_t i = 0; i < 256; ++i) t[k][i] = t[k - 1][i] >> 8 ^ t[0][t[k - 1][i] & 255];
  }
};
constexpr EdcTables kEdc;

std::uint32_t edc_by_tables(ByteView bytes, std::uint32_t initial) {
  const unsigned char* p = raw_bytes(bytes);
  std::size_t left = bytes.size();
  std::uint32_t c = initial;
  const auto& t = kEdc.t;
  for (; left >= kEdcStep; left -= kEdcStep, p += kEdcStep) {
    std::uint32_t word[4];
    std::memcpy(word, p, sizeof word);
    word[0] ^= c;
    c = 0;
    for (std::size_t w = 0; w < 4; ++w) {
      const std::size_t later = 15 - 4 * w;
      c ^= t[later][word[w] & 255] ^ t[later - 1][word[w] >> 8 & 255] ^ t[later - 2][word[w] >> 16 & 255] ^
           t[later - 3][word[w] >> 24];
    }
  }
  for (; left > 0; --left) c = c >> 8 ^ t[0][(c ^ *p++) & 255];
  return c;
}

#if defined(__x86_64__)

/// x^n mod the EDC's polynomial, bit-reversed and shifted as the multiplication of reversed numbers wants it.
constexpr std::uint64_t fold_constant(int n) {
  std::uint32_t r = 1;
  for (int i = 0; i < n; ++i) r = r << 1 ^ (r & 0x80000000u ? 0x8001801Bu : 0u);
  std::uint32_t reversed = 0;
  for (int i = 0; i < 32; ++i) reversed |= (r >> i & 1u) << (31 - i);
  return std::uint64_t{reversed} << 1;
}

/// Moves `x` on by a distance whose constants are `k` and lays `next` over it.
[[gnu::target("pclmul,sse4.1")]] inline __m128i fold(__m128i x, __m128i k, __m128i next) {
  return _mm_xor_si128(_mm_xor_si128(_mm_clmulepi64_si128(x, k, 0x00), _mm_clmulepi64_si128(x, k, 0x11)), next);
}

[[gnu::target("pclmul,sse4.1")]] inline __m128i load16(const unsigned char* p) {
  __m128i x;
  std::memcpy(&x, p, sizeof x);
  return x;
}

[[gnu::target("pclmul,sse4.1")]] std::uint32_t edc_by_folding(ByteView bytes, std::uint32_t initial) {
  constexpr std::size_t kLane = 16, kStride = 4 * kLane;
  if (bytes.size() < 2 * kStride) return edc_by_tables(bytes, initial);
  constexpr std::uint64_t kFar = fold_constant(512 + 32), kFarHigh = fold_constant(512 - 32);
  constexpr std::uint64_t kNear = fold_constant(128 + 32), kNearHigh = fold_constant(128 - 32);
  const __m128i far = _mm_set_epi64x(static_cast<long long>(kFarHigh), static_cast<long long>(kFar));
  const __m128i near = _mm_set_epi64x(static_cast<long long>(kNearHigh), static_cast<long long>(kNear));
  const unsigned char* p = raw_bytes(bytes);
  std::size_t left = bytes.size();
  __m128i a = _mm_xor_si128(load16(p), _mm_cvtsi32_si128(static_cast<int>(initial)));
  __m128i b = load16(p + kLane), c = load16(p + 2 * kLane), d = load16(p + 3 * kLane);
  for (p += kStride, left -= kStride; left >= kStride; p += kStride, left -= kStride) {
    a = fold(a, far, load16(p));
    b = fold(b, far, load16(p + kLane));
    c = fold(c, far, load16(p + 2 * kLane));
    d = fold(d, far, load16(p + 3 * kLane));
  }
  a = fold(fold(fold(a, near, b), near, c), near, d);
  for (; left >= kLane; p += kLane, left -= kLane) a = fold(a, near, load16(p));
  std::array<std::byte, kLane> rest;
  std::memcpy(rest.data(), &a, sizeof a);
  return edc_by_tables(bytes.last(left), edc_by_tables(rest, 0));
}

#endif

// ---- ECC -----------------------------------------------------------------------------------------------------------

using V32 = std::uint8_t __attribute__((vector_size(32)));
using S32 = std::int8_t __attribute__((vector_size(32)));
using W8 = std::uint16_t __attribute__((vector_size(16)));
using W16 = std::uint16_t __attribute__((vector_size(32)));

constexpr std::size_t kRows = 26, kColumns = 43, kRowBytes = 86;
constexpr std::size_t kRowStride = 96;      // 3 vectors of 32
constexpr std::size_t kColumnStride = 128;  // 26 words twice (104 bytes) + what the last vector reads past them
constexpr std::size_t kQBytes = 52, kQAt = 2248;
constexpr std::size_t kHeaderBytes = 4;

/// Each byte becomes alpha times as much.
[[gnu::always_inline]] inline void times_alpha(V32& v) {
  v = (v + v) ^ (reinterpret_cast<V32>(reinterpret_cast<S32>(v) < S32{}) & 0x1D);
}

/// Two sums over the words of a run of columns: A = sum v, B = Horner sum of alpha^k v.
template <std::size_t Vectors>
struct Sums {
  V32 a[Vectors] = {}, b[Vectors] = {};

  [[gnu::always_inline]] inline void step(const unsigned char* row) {
    for (std::size_t i = 0; i < Vectors; ++i) {
      V32 v;
      std::memcpy(&v, row + 32 * i, 32);
      a[i] ^= v;
      times_alpha(b[i]);
      b[i] ^= v;
    }
  }
  [[gnu::always_inline]] inline void store(unsigned char* to_a, unsigned char* to_b) const {
    std::memcpy(to_a, a, sizeof a);
    std::memcpy(to_b, b, sizeof b);
  }
  /// True if the first `bytes` bytes of both sums are zero.
  [[gnu::always_inline]] inline bool zero(std::size_t bytes) const {
    unsigned char both[2][32 * Vectors];
    store(both[0], both[1]);
    unsigned char any = 0;
    for (std::size_t i = 0; i < bytes; ++i) any = static_cast<unsigned char>(any | both[0][i] | both[1][i]);
    return any == 0;
  }
};

/// The covered bytes, rows of 86, turned: column c holds word c of every row, twice.
struct alignas(32) Columns {
  unsigned char column[kColumns][kColumnStride];
};

/// Words 0..3 of both halves of `a` and `b` in turn; words 4..7.
[[gnu::always_inline]] inline void mix_low(W16& out, const W16& a, const W16& b) {
  out = __builtin_shufflevector(a, b, 0, 16, 1, 17, 2, 18, 3, 19, 8, 24, 9, 25, 10, 26, 11, 27);
}
[[gnu::always_inline]] inline void mix_high(W16& out, const W16& a, const W16& b) {
  out = __builtin_shufflevector(a, b, 4, 20, 5, 21, 6, 22, 7, 23, 12, 28, 13, 29, 14, 30, 15, 31);
}

/// Turns 8 x 8 words whose top left is row r, column c, and as many from row s on: a block in each half of a vector.
[[gnu::always_inline]] inline void turn_blocks(Columns& m, const unsigned char* rows, std::size_t r, std::size_t s,
                                               std::size_t c) {
  W16 x[8], y[8];
  for (std::size_t i = 0; i < 8; ++i) {
    W8 low, high;
    std::memcpy(&low, rows + kRowBytes * (r + i) + 2 * c, sizeof low);
    std::memcpy(&high, rows + kRowBytes * (s + i) + 2 * c, sizeof high);
    x[i] = __builtin_shufflevector(low, high, 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15);
  }
  for (std::size_t i = 0; i < 4; ++i) {
    mix_low(y[2 * i], x[i], x[i + 4]);
    mix_high(y[2 * i + 1], x[i], x[i + 4]);
  }
  // y[2i] holds words 0..3 of rows i and i+4 in turn, y[2i+1] words 4..7.
  for (std::size_t half = 0; half < 2; ++half) {
    W16 even_low, even_high, odd_low, odd_high;
    mix_low(even_low, y[half], y[4 + half]);
    mix_high(even_high, y[half], y[4 + half]);
    mix_low(odd_low, y[2 + half], y[6 + half]);
    mix_high(odd_high, y[2 + half], y[6 + half]);
    mix_low(x[4 * half], even_low, odd_low);
    mix_high(x[4 * half + 1], even_low, odd_low);
    mix_low(x[4 * half + 2], even_high, odd_high);
    mix_high(x[4 * half + 3], even_high, odd_high);
  }
  for (std::size_t i = 0; i < 8; ++i) {
    const W8 low = __builtin_shufflevector(x[i], x[i], 0, 1, 2, 3, 4, 5, 6, 7);
    const W8 high = __builtin_shufflevector(x[i], x[i], 8, 9, 10, 11, 12, 13, 14, 15);
    std::memcpy(m.column[c + i] + 2 * r, &low, sizeof low);
    std::memcpy(m.column[c + i] + 2 * s, &high, sizeof high);
  }
}

[[gnu::always_inline]] inline void turn_to_columns(Columns& m, const unsigned char* rows) {
  // The last block of rows and of columns overlaps the one before, so that none reads outside the rows. Column by
  // column: a column read back while its parts are still on their way to the cache would wait for them.
  for (const std::size_t c : {0u, 8u, 16u, 24u, 32u, 35u}) {
    turn_blocks(m, rows, 0, 8, c);
    turn_blocks(m, rows, 16, 18, c);
  }
  for (auto& column : m.column) std::memcpy(column + kQBytes, column, kQBytes);
}

/// The first `count` rows into the sums of P; a header that does not count is taken as zeros.
[[gnu::always_inline]] inline void add_rows(Sums<3>& p, const unsigned char* rows, std::size_t count,
                                            EccHeader header) {
  unsigned char first[kRowStride];
  std::memcpy(first, rows, sizeof first);
  if (header == EccHeader::zero) std::memset(first, 0, kHeaderBytes);
  p.step(first);
  for (std::size_t r = 1; r < count; ++r) p.step(rows + kRowBytes * r);
}

[[gnu::always_inline]] inline void add_columns(Sums<2>& q, const unsigned char* rows, EccHeader header) {
  Columns m;
  turn_to_columns(m, rows);
  if (header == EccHeader::zero)
    for (std::size_t word = 0; word < kHeaderBytes / 2; ++word)
      for (const std::size_t copy : {std::size_t{0}, kQBytes}) std::memset(m.column[word] + copy, 0, 2);
  for (std::size_t c = 0; c < kColumns; ++c) q.step(m.column[c] + 2 * (c % kRows));
}

[[gnu::always_inline]] inline bool ecc_check(const unsigned char* sector, EccHeader header) {
  const unsigned char* const rows = sector + kSyncBytes;
  Sums<3> p;
  add_rows(p, rows, kRows, header);
  if (!p.zero(kRowBytes)) return false;
  Sums<2> q;
  add_columns(q, rows, header);
  unsigned char parity[2][64] = {};
  std::memcpy(parity[0], sector + kQAt, kQBytes);
  std::memcpy(parity[1], sector + kQAt + kQBytes, kQBytes);
  q.step(parity[0]);
  q.step(parity[1]);
  return q.zero(kQBytes);
}

/// From the sums over the data to the two parity bytes of each word: with B moved on over the two places to be filled,
/// the first is F4h (A + B) and the second A + the first. F4h by doubling and adding, from its highest bit on: tables
/// look up a byte at a time.
template <std::size_t Vectors>
[[gnu::always_inline]] inline void put_parity(const Sums<Vectors>& sums, unsigned char* first, unsigned char* second,
                                              std::size_t bytes) {
  constexpr bool kBelowHighest[] = {true, true, true, false, true, false, false};  // F4h = 1 1110100b
  V32 to_first[Vectors], to_second[Vectors];
  for (std::size_t i = 0; i < Vectors; ++i) {
    V32 x = sums.b[i];
    times_alpha(x);
    times_alpha(x);
    x ^= sums.a[i];
    V32 product = x;
    for (const bool one : kBelowHighest) {
      times_alpha(product);
      if (one) product ^= x;
    }
    to_first[i] = product;
    to_second[i] = sums.a[i] ^ product;
  }
  std::memcpy(first, to_first, bytes);
  std::memcpy(second, to_second, bytes);
}

[[gnu::always_inline]] inline void ecc_make(unsigned char* sector, EccHeader header) {
  unsigned char* const rows = sector + kSyncBytes;
  Sums<3> p;
  add_rows(p, rows, kRows - 2, header);
  put_parity(p, rows + kRowBytes * (kRows - 2), rows + kRowBytes * (kRows - 1), kRowBytes);
  Sums<2> q;
  add_columns(q, rows, header);
  put_parity(q, sector + kQAt, sector + kQAt + kQBytes, kQBytes);
}

bool check_portable(SectorView s, EccHeader h) { return ecc_check(raw_bytes(s), h); }
void make_portable(SectorSpan s, EccHeader h) { ecc_make(raw_bytes_mut(s), h); }

#if defined(__x86_64__)
[[gnu::target("avx2")]] bool check_avx2(SectorView s, EccHeader h) { return ecc_check(raw_bytes(s), h); }
[[gnu::target("avx2")]] void make_avx2(SectorSpan s, EccHeader h) { ecc_make(raw_bytes_mut(s), h); }
bool have_avx2() { return __builtin_cpu_supports("avx2") && __builtin_cpu_supports("pclmul"); }
#endif

const ParityVariant& chosen() {
  static const ParityVariant best = [] {
    ParityVariant pick = parity_variants().front();
    for (const ParityVariant& v : parity_variants())
      if (v.supported) pick = v;
    return pick;
  }();
  return best;
}

}  // namespace

std::vector<ParityVariant> parity_variants() {
  std::vector<ParityVariant> all = {{"portable", true, &edc_by_tables, &make_portable, &check_portable}};
#if defined(__x86_64__)
  all.push_back({"avx2", have_avx2(), &edc_by_folding, &make_avx2, &check_avx2});
#endif
  return all;
}

std::uint32_t edc(ByteView bytes, std::uint32_t initial) { return chosen().edc(bytes, initial); }
void compute_ecc(SectorSpan s, EccHeader header) { chosen().compute_ecc(s, header); }
bool ecc_is_right(SectorView s, EccHeader header) { return chosen().ecc_is_right(s, header); }

bool parity_is_right(SectorView s, SectorKind kind) {
  switch (kind) {
    case SectorKind::mode1:
      return load_le32(s, kMode1EdcAt) == edc(s.first(kMode1EdcAt)) &&
             all_zero(s.subspan(kReservedAt, kReservedBytes)) && ecc_is_right(s, EccHeader::counts);
    case SectorKind::mode2_form1:
      return load_le32(s, kForm1EdcAt) == edc(s.subspan(kSubheaderAt, kForm1EdcAt - kSubheaderAt)) &&
             ecc_is_right(s, EccHeader::zero);
    case SectorKind::mode2_form2: {
      const std::uint32_t stored = load_le32(s, kForm2EdcAt);
      return stored == 0 || stored == edc(s.subspan(kSubheaderAt, kForm2EdcAt - kSubheaderAt));
    }
    default:
      return true;
  }
}

}  // namespace opifex::cd
