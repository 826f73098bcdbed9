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

constexpr std::size_t kRows = 26, kColumns = 43, kRowBytes = 86;
constexpr std::size_t kRowStride = 96;      // 3 vectors of 32
constexpr std::size_t kColumnStride = 128;  // 26 words twice (104 bytes) + what the last vector reads past them
constexpr std::size_t kQBytes = 52;

/// Two sums over the words of a run of columns: A = sum v, B = Horner sum of alpha^k v.
template <std::size_t Vectors>
struct Sums {
  V32 a[Vectors] = {}, b[Vectors] = {};

  [[gnu::always_inline]] inline void step(const unsigned char* row) {
    for (std::size_t i = 0; i < Vectors; ++i) {
      V32 v;
      std::memcpy(&v, row + 32 * i, 32);
      a[i] ^= v;
      b[i] = (b[i] + b[i]) ^ (reinterpret_cast<V32>(reinterpret_cast<S32>(b[i]) < S32{}) & 0x1D) ^ v;
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

/// The covered bytes as rows of 86, padded to vectors.
struct alignas(32) Matrix {
  unsigned char row[kRows][kRowStride];
  unsigned char column[kColumns][kColumnStride];
};

[[gnu::always_inline]] inline void load_rows(Matrix& m, const unsigned char* sector, EccHeader header) {
  for (std::size_t r = 0; r + 1 < kRows; ++r) std::memcpy(m.row[r], sector + 12 + kRowBytes * r, kRowStride);
  std::memcpy(m.row[kRows - 1], sector + 12 + kRowBytes * (kRows - 1), kRowBytes);
  if (header == EccHeader::zero) std::memset(m.row[0], 0, 4);
}

/// Transposes 8 x 8 words whose top left is row r, column c.
[[gnu::always_inline]] inline void turn_block(Matrix& m, std::size_t r, std::size_t c) {
  W8 x[8], y[8];
  for (std::size_t i = 0; i < 8; ++i) std::memcpy(&x[i], m.row[r + i] + 2 * c, 16);
  for (std::size_t i = 0; i < 4; ++i) {
    y[2 * i] = __builtin_shufflevector(x[i], x[i + 4], 0, 8, 1, 9, 2, 10, 3, 11);
    y[2 * i + 1] = __builtin_shufflevector(x[i], x[i + 4], 4, 12, 5, 13, 6, 14, 7, 15);
  }
  // y[2i] holds words 0..3 of rows i and i+4 in turn, y[2i+1] words 4..7.
  for (std::size_t half = 0; half < 2; ++half) {
    const W8 &a = y[half], &b = y[2 + half], &d = y[4 + half], &e = y[6 + half];
    const W8 ad_low = __builtin_shufflevector(a, d, 0, 8, 1, 9, 2, 10, 3, 11);
    const W8 ad_high = __builtin_shufflevector(a, d, 4, 12, 5, 13, 6, 14, 7, 15);
    const W8 be_low = __builtin_shufflevector(b, e, 0, 8, 1, 9, 2, 10, 3, 11);
    const W8 be_high = __builtin_shufflevector(b, e, 4, 12, 5, 13, 6, 14, 7, 15);
    x[4 * half] = __builtin_shufflevector(ad_low, be_low, 0, 8, 1, 9, 2, 10, 3, 11);
    x[4 * half + 1] = __builtin_shufflevector(ad_low, be_low, 4, 12, 5, 13, 6, 14, 7, 15);
    x[4 * half + 2] = __builtin_shufflevector(ad_high, be_high, 0, 8, 1, 9, 2, 10, 3, 11);
    x[4 * half + 3] = __builtin_shufflevector(ad_high, be_high, 4, 12, 5, 13, 6, 14, 7, 15);
  }
  for (std::size_t i = 0; i < 8; ++i) std::memcpy(m.column[c + i] + 2 * r, &x[i], 16);
}

[[gnu::always_inline]] inline void turn_to_columns(Matrix& m) {
  // The last block of rows and of columns overlaps the one before, so that none reads outside the matrix. Column by
  // column: a column read back while its parts are still on their way to the cache would wait for them.
  for (const std::size_t c : {0u, 8u, 16u, 24u, 32u, 35u})
    for (const std::size_t r : {0u, 8u, 16u, 18u}) turn_block(m, r, c);
  for (auto& column : m.column) std::memcpy(column + kQBytes, column, kQBytes);
}

[[gnu::always_inline]] inline bool ecc_check(const unsigned char* sector, EccHeader header) {
  Matrix m;
  load_rows(m, sector, header);
  Sums<3> p;
  for (const auto& row : m.row) p.step(row);
  if (!p.zero(kRowBytes)) return false;
  turn_to_columns(m);
  Sums<2> q;
  for (std::size_t c = 0; c < kColumns; ++c) q.step(m.column[c] + 2 * (c % kRows));
  unsigned char parity[2][64] = {};
  std::memcpy(parity[0], sector + 2248, kQBytes);
  std::memcpy(parity[1], sector + 2300, kQBytes);
  q.step(parity[0]);
  q.step(parity[1]);
  return q.zero(kQBytes);
}

/// From the sums over the data to the two parity bytes of each word.
template <std::size_t Vectors>
[[gnu::always_inline]] inline void put_parity(Sums<Vectors>& sums, unsigned char* first, unsigned char* second,
                                              std::size_t words) {
  static const auto times_f4 = [] {
    std::array<unsigned char, 256> table{};
    for (unsigned i = 0; i < 256; ++i) table[i] = gf_multiply(static_cast<std::uint8_t>(i), 0xF4);
    return table;
  }();
  unsigned char zero[32 * Vectors] = {}, a[32 * Vectors], b[32 * Vectors];
  sums.store(a, b);
  sums.step(zero);  // B = alpha^2 B: the two parity places follow
  sums.step(zero);
  unsigned char unused[32 * Vectors];
  sums.store(unused, b);
  for (std::size_t i = 0; i < words; ++i) {
    first[i] = times_f4[a[i] ^ b[i]];
    second[i] = static_cast<unsigned char>(a[i] ^ first[i]);
  }
}

[[gnu::always_inline]] inline void ecc_make(unsigned char* sector, EccHeader header) {
  Matrix m;
  load_rows(m, sector, header);
  Sums<3> p;
  for (std::size_t r = 0; r + 2 < kRows; ++r) p.step(m.row[r]);
  put_parity(p, m.row[24], m.row[25], kRowBytes);
  std::memcpy(sector + 2076, m.row[24], kRowBytes);
  std::memcpy(sector + 2162, m.row[25], kRowBytes);
  turn_to_columns(m);
  Sums<2> q;
  for (std::size_t c = 0; c < kColumns; ++c) q.step(m.column[c] + 2 * (c % kRows));
  put_parity(q, sector + 2248, sector + 2300, kQBytes);
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
