#include "opifex/core/check/combine.hpp"

#include <algorithm>
#include <bitset>
#include <cstring>
#include <map>
#include <set>

#include "opifex/core/cd/parity.hpp"

namespace opifex {
namespace {

using cd::Lba;
using cd::Sector;

constexpr std::size_t kSampleBytes = 4;
constexpr std::size_t kMaxRuns = 16;
constexpr std::uint32_t kMaxMixes = 1 << 16;  // a sector: the chance of a false EDC stays at 2^-16

using Flags = std::bitset<cd::kRawBytes>;

Flags flags_of(const Reading& r) {
  Flags flags;
  for (const cd::Erasure& e : r.flagged)
    for (std::size_t i = e.first; i <= e.last && i < cd::kRawBytes; ++i) flags.set(i);
  return flags;
}

/// Form 2 without EDC. And zeros: they have the right parity in Mode 2 and are Mode 0 alike, so that nothing says
/// whether the mode byte is what it was.
bool no_edc(cd::SectorView s) {
  const bool form2 = cd::kind_of(s) == cd::SectorKind::mode2_form2;
  return all_zero(ByteView(s).subspan(form2 ? cd::kForm2EdcAt : cd::kSubheaderAt));
}

/// Equal sectors with how often they occur; the most frequent first, at equal numbers the bytewise smallest.
struct Candidate {
  Sector bytes;
  std::size_t count;
};
std::vector<Candidate> tally(const std::vector<Sector>& sectors) {
  std::map<Sector, std::size_t> counts;
  for (const Sector& s : sectors) ++counts[s];
  std::vector<Candidate> result;
  for (const auto& [bytes, n] : counts) result.push_back({bytes, n});
  std::stable_sort(result.begin(), result.end(),
                   [](const Candidate& a, const Candidate& b) { return a.count > b.count; });
  return result;
}

CombinedSector taken(const Sector& bytes, Combining how, std::span<const Reading> readings) {
  CombinedSector result{how, bytes, {}};
  for (std::size_t i = 0; i < readings.size(); ++i)
    if (readings[i].bytes == bytes) result.givers.push_back(i);
  return result;
}

/// The most frequent value of each group of `unit` bytes; flagged ones count only if all are flagged.
Sector vote(std::span<const Reading> readings, std::size_t unit) {
  std::vector<Flags> flags;
  for (const Reading& r : readings) flags.push_back(flags_of(r));
  Sector result{};
  for (std::size_t at = 0; at < cd::kRawBytes; at += unit) {
    const auto flagged = [&](std::size_t r) {
      for (std::size_t i = at; i < at + unit; ++i)
        if (flags[r].test(i)) return true;
      return false;
    };
    bool any_clean = false;
    for (std::size_t r = 0; r < readings.size(); ++r) any_clean = any_clean || !flagged(r);
    std::map<std::vector<std::byte>, std::size_t> counts;
    for (std::size_t r = 0; r < readings.size(); ++r) {
      if (any_clean && flagged(r)) continue;
      const auto value = std::span(readings[r].bytes).subspan(at, unit);
      ++counts[{value.begin(), value.end()}];
    }
    const auto best = std::max_element(counts.begin(), counts.end(),
                                       [](const auto& a, const auto& b) { return a.second < b.second; });
    std::copy(best->first.begin(), best->first.end(), result.begin() + static_cast<std::ptrdiff_t>(at));
  }
  return result;
}

/// Runs of bytes in which two sectors differ: single bytes if they are few, else neighbours together.
std::vector<cd::Erasure> differences(const Sector& a, const Sector& b) {
  std::vector<cd::Erasure> bytes, runs;
  for (std::size_t i = 0; i < a.size(); ++i) {
    if (a[i] == b[i]) continue;
    bytes.push_back({i, i});
    if (!runs.empty() && runs.back().last + 1 == i)
      runs.back().last = i;
    else
      runs.push_back({i, i});
  }
  return bytes.size() <= kMaxRuns ? bytes : runs;
}

/// Every mix of two readings until one proves itself, or `budget` tries are used up.
std::optional<Sector> mix(const Sector& a, const Sector& b, Lba lba, std::uint32_t& budget) {
  const auto runs = differences(a, b);
  if (runs.empty() || runs.size() > kMaxRuns) return std::nullopt;
  for (std::uint32_t choice = 1; choice + 1 < 1u << runs.size() && budget > 0; ++choice, --budget) {
    Sector s = a;
    for (std::size_t r = 0; r < runs.size(); ++r)
      if ((choice >> r & 1) != 0)
        std::copy(b.begin() + static_cast<std::ptrdiff_t>(runs[r].first),
                  b.begin() + static_cast<std::ptrdiff_t>(runs[r].last) + 1,
                  s.begin() + static_cast<std::ptrdiff_t>(runs[r].first));
    if (proves_itself(s, lba)) return s;
  }
  return std::nullopt;
}

std::optional<Sector> mended(const Sector& bytes, Lba lba, std::span<const cd::Erasure> known_bad) {
  Sector s = bytes;
  if (cd::repair(s, {lba, true}, known_bad) && proves_itself(s, lba)) return s;
  return std::nullopt;
}

}  // namespace

bool proves_itself(cd::SectorView s, Lba lba) {
  constexpr std::byte kHighestMode{2};  // above it block indicators: no checksum of Mode 2 covers them
  if (!cd::has_valid_header(s) || cd::header_lba(s) != lba || s[15] > kHighestMode) return false;
  const cd::SectorKind kind = cd::kind_of(s);
  const bool has_edc =
      kind == cd::SectorKind::mode1 || kind == cd::SectorKind::mode2_form1 || kind == cd::SectorKind::mode2_form2;
  return has_edc && !no_edc(s) && cd::parity_is_right(s, kind);
}

CombinedSector combine_data(std::span<const Reading> readings, Lba lba) {
  if (readings.empty()) return {};
  std::vector<Sector> proved, repaired;
  bool without_edc = false;
  for (const Reading& r : readings) {
    if (proves_itself(r.bytes, lba)) proved.push_back(r.bytes);
    without_edc = without_edc || (cd::has_valid_header(r.bytes) && cd::header_lba(r.bytes) == lba && no_edc(r.bytes));
  }
  if (!proved.empty()) {
    const auto candidates = tally(proved);
    return taken(candidates[0].bytes, candidates.size() > 1 ? Combining::conflict : Combining::as_read, readings);
  }
  if (without_edc) return combine_audio(readings);
  for (const Reading& r : readings)
    if (const auto s = mended(r.bytes, lba, r.flagged)) repaired.push_back(*s);
  if (!repaired.empty()) {
    const auto candidates = tally(repaired);
    return {candidates.size() > 1 ? Combining::conflict : Combining::repaired, candidates[0].bytes, {}};
  }
  const Sector voted = vote(readings, 1);
  if (proves_itself(voted, lba)) return {Combining::combined, voted, {}};
  if (const auto s = mended(voted, lba, {})) return {Combining::combined, *s, {}};
  std::set<Sector> distinct;  // in an order that does not depend on that of the readings
  for (const Reading& r : readings) distinct.insert(r.bytes);
  std::uint32_t budget = kMaxMixes;
  for (auto a = distinct.begin(); a != distinct.end(); ++a)
    for (auto b = std::next(a); b != distinct.end(); ++b)
      if (const auto s = mix(*a, *b, lba, budget)) return {Combining::combined, *s, {}};
  return {};
}

CombinedSector combine_audio(std::span<const Reading> readings) {
  if (readings.empty()) return {};
  std::vector<Sector> clean;
  for (const Reading& r : readings)
    if (r.flagged.empty()) clean.push_back(r.bytes);
  constexpr std::size_t kAgreeing = 2;
  if (const auto best = tally(clean); !best.empty() && best[0].count >= kAgreeing)
    return taken(best[0].bytes, Combining::as_read, readings);
  return taken(vote(readings, kSampleBytes), Combining::unsure, readings);
}

}  // namespace opifex
