// Mending Mode 1 and Form 1 sectors by their product code. P words are columns, Q words diagonals of one matrix, so an
// error one code cannot place is often placed by the other; repair() lets them help each other until P is clean.
#include <algorithm>
#include <bitset>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"

namespace opifex::cd {
namespace {

constexpr int kAt = 12;          // the codes count bytes from the header
constexpr int kInMatrix = 2236;  // bytes that lie in a P and in a Q word
constexpr int kMaxRounds = 40;   // measured: what is not mended by then never is

/// A word of one of the two codes.
struct Code {
  int words, length;
  int data_places;  ///< places that lie in the other code too
  int (*place)(int, int);
  Syndrome (*syndrome)(SectorView, int, EccHeader);
};
constexpr Code kP = {kPWords, kPLength, kPLength, &p_place, &p_syndrome};
constexpr Code kQ = {kQWords, kQLength, kQLength - 2, &q_place, &q_syndrome};

int p_word_of(int b) { return b % 86; }
int q_word_of(int b) {
  const int column = (b % 86) >> 1, row = b / 86;
  return 2 * ((row - column + 2 * 26) % 26) + (b & 1);
}

std::uint8_t weight(const Code& code, int m) { return gf_power(code.length - 1 - m); }

/// A byte to change: at sector offset `at`, XOR `value`.
struct Fix {
  int at = 0;
  std::uint8_t value = 0;
};

class Mender {
 public:
  Mender(Sector sector, EccHeader header, std::span<const Erasure> known_bad) : s_(sector), header_(header) {
    for (const Erasure& e : known_bad)
      for (std::size_t i = e.first; i <= e.last && i < kRawBytes; ++i) erased_.set(i);
    refresh();
  }

  const Sector& sector() const { return s_; }
  bool p_clean() const { return bad_p_.none(); }

  /// Corrects every word of a code by itself.
  void correct_alone(const Code& code) {
    std::vector<Fix> fixes;
    for (int w = 0; w < code.words; ++w)
      if (const auto fix = single(code, w)) fixes.push_back(*fix);
    apply(fixes);
  }

  /// One round of mutual help; false when nothing changes any more.
  bool round() {
    using Step = std::vector<Fix> (Mender::*)();
    for (const Step step : {&Mender::explained, &Mender::crossings, &Mender::best_pairs, &Mender::confirmed}) {
      const std::vector<Fix> fixes = (this->*step)();
      if (fixes.empty()) continue;
      apply(fixes);
      return true;
    }
    return false;
  }

 private:
  const Syndrome& syndrome(const Code& code, int w) const {
    return code.words == kPWords ? p_.at(static_cast<std::size_t>(w)) : q_.at(static_cast<std::size_t>(w));
  }
  bool is_bad(const Code& code, int w) const {
    return code.words == kPWords ? bad_p_.test(static_cast<std::size_t>(w)) : bad_q_.test(static_cast<std::size_t>(w));
  }
  static const Code& other(const Code& code) { return code.words == kPWords ? kQ : kP; }
  static int other_word(const Code& code, int at) {
    return code.words == kPWords ? q_word_of(at - kAt) : p_word_of(at - kAt);
  }

  void refresh() {
    for (int w = 0; w < kPWords; ++w) {
      p_.at(static_cast<std::size_t>(w)) = p_syndrome(s_, w, header_);
      bad_p_.set(static_cast<std::size_t>(w), !p_.at(static_cast<std::size_t>(w)).clean());
    }
    for (int w = 0; w < kQWords; ++w) {
      q_.at(static_cast<std::size_t>(w)) = q_syndrome(s_, w, header_);
      bad_q_.set(static_cast<std::size_t>(w), !q_.at(static_cast<std::size_t>(w)).clean());
    }
  }

  void apply(const std::vector<Fix>& fixes) {
    for (const Fix& fix : fixes) s_.at(static_cast<std::size_t>(fix.at)) ^= std::byte{fix.value};
    refresh();
  }

  bool usable(const Code& code, int m, int at) const {
    if (header_ == EccHeader::zero && at < kAt + 4) return false;  // Form 1's header is in neither code
    return m < code.data_places;
  }

  /// The one error that explains a word, if one can.
  std::optional<Fix> single(const Code& code, int w) const {
    const Syndrome s = syndrome(code, w);
    if (s.s0 == 0 || s.s1 == 0) return std::nullopt;
    const int exponent = (gf_log(s.s1) - gf_log(s.s0) + 255) % 255;
    const int m = code.length - 1 - exponent;
    if (m < 0) return std::nullopt;
    const int at = code.place(w, m);
    return usable(code, m, at) ? std::optional(Fix{at, s.s0}) : std::nullopt;
  }

  std::vector<Fix> candidates(const Code& code) const {
    std::vector<Fix> all;
    for (int w = 0; w < code.words; ++w)
      if (is_bad(code, w))
        if (const auto fix = single(code, w)) all.push_back(*fix);
    return all;
  }

  /// Words whose syndromes are exactly the sum of the other code's candidates that lie in them.
  std::vector<Fix> explained() {
    std::vector<Fix> fixes;
    for (const Code& code : {kP, kQ}) {
      const std::vector<Fix> from_other = candidates(other(code));
      for (int w = 0; w < code.words; ++w) {
        if (!is_bad(code, w)) continue;
        Syndrome sum;
        std::vector<Fix> inside;
        for (int m = 0; m < code.data_places; ++m)
          for (const Fix& fix : from_other) {
            if (fix.at != code.place(w, m)) continue;
            sum.s0 ^= fix.value;
            sum.s1 ^= gf_multiply(weight(code, m), fix.value);
            inside.push_back(fix);
          }
        const Syndrome s = syndrome(code, w);
        if (!inside.empty() && sum.s0 == s.s0 && sum.s1 == s.s1)
          fixes.insert(fixes.end(), inside.begin(), inside.end());
      }
      if (!fixes.empty()) return fixes;
    }
    return fixes;
  }

  /// Places of a bad word that are under suspicion: known bad, or in a bad word of the other code.
  std::vector<int> suspects(const Code& code, int w) const {
    std::vector<int> places;
    for (int m = 0; m < code.data_places; ++m) {
      const int at = code.place(w, m);
      if (!usable(code, m, at)) continue;
      const bool in_matrix = at < kAt + kInMatrix;
      const bool suspected = erased_.any() ? erased_.test(static_cast<std::size_t>(at))
                                           : in_matrix && is_bad(other(code), other_word(code, at));
      if (suspected) places.push_back(m);
    }
    return places;
  }

  std::optional<std::array<Fix, 2>> solve_pair(const Code& code, int w, int m1, int m2) const {
    const Syndrome s = syndrome(code, w);
    const std::uint8_t x1 = weight(code, m1), x2 = weight(code, m2);
    const auto numerator = static_cast<std::uint8_t>(s.s1 ^ gf_multiply(x2, s.s0));
    const int divisor_log = gf_log(static_cast<std::uint8_t>(x1 ^ x2));
    const std::uint8_t e1 = gf_multiply(numerator, gf_power(255 - divisor_log));
    const auto e2 = static_cast<std::uint8_t>(e1 ^ s.s0);
    if (e1 == 0 || e2 == 0) return std::nullopt;
    return std::array{Fix{code.place(w, m1), e1}, Fix{code.place(w, m2), e2}};
  }

  /// How many words of the other code become clean by these changes.
  int words_made_clean(const Code& code, std::span<const Fix> fixes) {
    for (const Fix& fix : fixes) s_.at(static_cast<std::size_t>(fix.at)) ^= std::byte{fix.value};
    int clean = 0;
    for (const Fix& fix : fixes) clean += other(code).syndrome(s_, other_word(code, fix.at), header_).clean() ? 1 : 0;
    for (const Fix& fix : fixes) s_.at(static_cast<std::size_t>(fix.at)) ^= std::byte{fix.value};
    return clean;
  }

  /// Bad words with one or two suspects: there the errors can be computed. A Q word may be bad in its own parity alone,
  /// so its solution counts only if it makes a P word clean.
  std::vector<Fix> crossings() {
    for (const Code& code : {kP, kQ}) {
      std::vector<Fix> fixes;
      for (int w = 0; w < code.words; ++w) {
        if (!is_bad(code, w)) continue;
        const std::vector<int> places = suspects(code, w);
        std::vector<Fix> solution;
        const Syndrome s = syndrome(code, w);
        if (places.size() == 1 && s.s0 != 0 && gf_multiply(weight(code, places[0]), s.s0) == s.s1) {
          solution = {Fix{code.place(w, places[0]), s.s0}};
        } else if (places.size() == 2) {
          if (const auto pair = solve_pair(code, w, places[0], places[1])) solution.assign(pair->begin(), pair->end());
        }
        if (solution.empty() || (code.words == kQWords && words_made_clean(code, solution) == 0)) continue;
        fixes.insert(fixes.end(), solution.begin(), solution.end());
      }
      if (!fixes.empty()) return fixes;
    }
    return {};
  }

  /// Bad P words with 3 to 8 suspects: the one pair of errors that makes most Q words clean.
  std::vector<Fix> best_pairs() {
    std::vector<Fix> fixes;
    for (int w = 0; w < kPWords; ++w) {
      if (!is_bad(kP, w)) continue;
      const std::vector<int> places = suspects(kP, w);
      if (places.size() < 3 || places.size() > 8) continue;
      std::optional<std::array<Fix, 2>> best;
      int best_clean = 0;
      bool only_one = true;
      for (std::size_t i = 0; i < places.size(); ++i)
        for (std::size_t j = i + 1; j < places.size(); ++j) {
          const auto pair = solve_pair(kP, w, places[i], places[j]);
          const int clean = pair ? words_made_clean(kP, *pair) : 0;
          if (clean == 0 || clean < best_clean) continue;
          only_one = clean > best_clean;
          best_clean = clean;
          best = pair;
        }
      if (best && only_one) fixes.insert(fixes.end(), best->begin(), best->end());
    }
    return fixes;
  }

  /// Every single-error candidate that the other code does not contradict.
  std::vector<Fix> confirmed() {
    for (const Code& code : {kP, kQ}) {
      std::vector<Fix> fixes;
      for (const Fix& fix : candidates(code))
        if (fix.at < kAt + kInMatrix && is_bad(other(code), other_word(code, fix.at))) fixes.push_back(fix);
      if (!fixes.empty()) return fixes;
    }
    return {};
  }

  Sector s_;
  EccHeader header_;
  std::bitset<kRawBytes> erased_;
  std::array<Syndrome, kPWords> p_{};
  std::array<Syndrome, kQWords> q_{};
  std::bitset<kPWords> bad_p_;
  std::bitset<kQWords> bad_q_;
};

bool edc_fits(const Sector& s, SectorKind kind) {
  return kind == SectorKind::mode1
             ? load_le32(s, kMode1EdcAt) == edc(ByteView(s).first(kMode1EdcAt))
             : load_le32(s, kForm1EdcAt) == edc(ByteView(s).subspan(kSubheaderAt, kForm1EdcAt - kSubheaderAt));
}

/// The proof a repair needs. Q is computed anew: it may have been damaged in its own parity alone.
std::optional<Sector> proven(const Mender& mender, SectorKind kind, EccHeader header) {
  if (!mender.p_clean() || !edc_fits(mender.sector(), kind)) return std::nullopt;
  Sector s = mender.sector();
  compute_ecc(s, header);
  return s;
}

std::optional<Sector> mend(const Sector& start, SectorKind kind, std::span<const Erasure> known_bad) {
  const EccHeader header = kind == SectorKind::mode1 ? EccHeader::counts : EccHeader::zero;
  if (edc_fits(start, kind)) {  // only the parity, and Mode 1's zero bytes, can be wrong
    Sector s = start;
    if (kind == SectorKind::mode1) std::fill_n(s.begin() + kReservedAt, kReservedBytes, std::byte{0});
    compute_ecc(s, header);
    return s;
  }
  if (known_bad.empty()) {
    for (const Code& code : {kP, kQ}) {
      Mender alone(start, header, {});
      alone.correct_alone(code);
      if (const auto s = proven(alone, kind, header)) return s;
    }
  }
  Mender together(start, header, known_bad);
  for (int i = 0; i < kMaxRounds && !together.p_clean(); ++i)
    if (!together.round()) break;
  if (const auto s = proven(together, kind, header)) return s;
  return known_bad.empty() ? std::nullopt : mend(start, kind, {});
}

}  // namespace

bool repair(SectorSpan s, const SectorPlace& place, std::span<const Erasure> known_bad) {
  const SectorReport before = examine(s, place);
  const bool kind_can_be_mended = before.kind == SectorKind::mode1 || before.kind == SectorKind::mode2_form1;
  if (before.problems == 0 || before.sync_lost || !kind_can_be_mended) return false;
  if (before.damage == Damage::authored || before.damage == Damage::placeholder) return false;
  if (before.damage == Damage::none && !(before.problems & (kProblemSync | kProblemHeader | kProblemMode)))
    return false;

  Sector start;
  std::copy(s.begin(), s.end(), start.begin());
  std::copy(kSync.begin(), kSync.end(), start.begin());
  const bool header_lost = (before.problems & (kProblemHeader | kProblemMode)) != 0;
  const bool form1 = before.kind == SectorKind::mode2_form1;
  if (header_lost && place.lba) put_header(start, *place.lba, form1 ? 2 : 1);
  if (header_lost && form1 && !place.lba) return false;  // nothing covers Form 1's header

  const auto mended = mend(start, before.kind, known_bad);
  if (!mended || !has_valid_header(*mended)) return false;
  std::copy(mended->begin(), mended->end(), s.begin());
  return true;
}

}  // namespace opifex::cd
