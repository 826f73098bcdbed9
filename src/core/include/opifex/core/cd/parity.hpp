/// EDC and ECC of data sectors (ECMA-130, 14.3 and Annex A).
///
/// Each computation exists twice: a plain one that follows the standard word by word and stays for ever as the
/// reference, and one made for speed that is compared with it by the tests on every variant the processor offers.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

#include "opifex/core/cd/sector.hpp"

namespace opifex::cd {

/// CRC-32 of polynomial 0x8001801B, least significant bit first, initial 0, no final inversion.
std::uint32_t edc(ByteView bytes, std::uint32_t initial = 0);

/// Whether the 4 header bytes count (Mode 1) or stand as zero (Mode 2 Form 1) in the ECC.
enum class EccHeader { counts, zero };

/// Writes the P and Q parity at 2076..2351.
void compute_ecc(SectorSpan s, EccHeader header);

/// True if all 86 P words and 52 Q words are code words.
bool ecc_is_right(SectorView s, EccHeader header);

/// True if the sector is sound and exactly what its own header, subheader and user data regenerate: EDC right, P and Q
/// right, Mode 1's reserved bytes zero. Form 2: EDC right or absent. This is the check every sector goes through; only
/// those that fail are looked at closely.
bool parity_is_right(SectorView s, SectorKind kind);

// ---- Reed-Solomon words, for diagnosis and repair -----------------------------------------------------------------

inline constexpr int kPWords = 86, kPLength = 26, kQWords = 52, kQLength = 45;

/// Sector offset of place `m` of P word `p` (0..85, 0..25) or Q word `q` (0..51, 0..44).
int p_place(int p, int m);
int q_place(int q, int m);

std::uint8_t gf_multiply(std::uint8_t a, std::uint8_t b);
/// alpha^n, n >= 0.
std::uint8_t gf_power(int n);
/// n with alpha^n = x; x != 0.
int gf_log(std::uint8_t x);

/// S0 = sum v[m], S1 = sum alpha^(n-1-m) v[m]; both zero in a code word.
struct Syndrome {
  std::uint8_t s0 = 0, s1 = 0;
  bool clean() const { return s0 == 0 && s1 == 0; }
};
Syndrome p_syndrome(SectorView s, int p, EccHeader header);
Syndrome q_syndrome(SectorView s, int q, EccHeader header);

// ---- The reference, and the fast variants by name, for tests and benchmarks ---------------------------------------

std::uint32_t edc_reference(ByteView bytes, std::uint32_t initial = 0);
void compute_ecc_reference(SectorSpan s, EccHeader header);

struct ParityVariant {
  std::string_view name;  ///< "portable", "avx2"
  bool supported;         ///< by this processor
  std::uint32_t (*edc)(ByteView, std::uint32_t);
  void (*compute_ecc)(SectorSpan, EccHeader);
  bool (*ecc_is_right)(SectorView, EccHeader);
};
std::vector<ParityVariant> parity_variants();

}  // namespace opifex::cd
