#include "opifex/core/check/sample_votes.hpp"

#include <algorithm>
#include <bitset>

namespace opifex {
namespace {

void count(std::uint8_t& votes) {
  if (votes < UINT8_MAX) ++votes;
}

}  // namespace

void SampleVotes::add(ByteView sector, const std::vector<cd::Erasure>& flagged) {
  std::bitset<kSamples> bad;
  for (const cd::Erasure& e : flagged)
    for (std::size_t i = e.first / kSampleBytes; i <= std::min(e.last / kSampleBytes, kSamples - 1); ++i) bad.set(i);
  const bool fresh = first_.empty();
  if (fresh) first_.resize(kSamples);
  ++readings_;
  for (std::size_t i = 0; i < kSamples; ++i) {
    Sample sample;
    std::copy_n(sector.begin() + static_cast<std::ptrdiff_t>(i * kSampleBytes), kSampleBytes, sample.begin());
    if (fresh) first_[i].bytes = sample;
    if (Value* value = value_of(i, sample)) count(bad[i] ? value->flagged : value->clean);
  }
}

/// Its place among the others is made if it is new; null if there are too many values for any to win.
SampleVotes::Value* SampleVotes::value_of(std::size_t sample, const Sample& bytes) {
  constexpr std::ptrdiff_t kMostValues = 12;
  if (first_[sample].bytes == bytes) return &first_[sample];
  const auto from = std::lower_bound(others_.begin(), others_.end(), sample,
                                     [](const Other& o, std::size_t wanted) { return o.sample < wanted; });
  auto at = from;
  for (; at != others_.end() && at->sample == sample; ++at)
    if (at->value.bytes == bytes) return &at->value;
  if (at - from >= kMostValues) return nullptr;
  return &others_.insert(at, Other{static_cast<std::uint16_t>(sample), {bytes, 0, 0}})->value;
}

std::span<const SampleVotes::Other> SampleVotes::others_of(std::size_t sample) const {
  const auto from = std::lower_bound(others_.begin(), others_.end(), sample,
                                     [](const Other& o, std::size_t wanted) { return o.sample < wanted; });
  auto end = from;
  while (end != others_.end() && end->sample == sample) ++end;
  return {from, end};
}

SampleVotes::Value SampleVotes::leader(std::size_t sample) const {
  Value best = first_[sample];
  for (const Other& o : others_of(sample))
    if (o.value.better_than(best)) best = o.value;
  return best;
}

bool SampleVotes::is_confirmed(std::size_t sample, unsigned needed) const {
  const Value best = leader(sample);
  if (best.clean < needed) return false;
  const auto rival = [&](const Value& v) { return v.bytes != best.bytes && v.clean > 0 && best.clean < v.clean + 2; };
  const auto others = others_of(sample);
  return !rival(first_[sample]) &&
         std::none_of(others.begin(), others.end(), [&](const Other& o) { return rival(o.value); });
}

/// Wrong samples that the drive did not flag: then two may be wrong in the same way.
bool SampleVotes::has_unflagged_errors() const {
  return std::any_of(others_.begin(), others_.end(), [&](const Other& o) {
    const auto siblings = others_of(o.sample);
    const auto clean =
        std::count_if(siblings.begin(), siblings.end(), [](const Other& s) { return s.value.clean > 0; });
    return clean + (first_[o.sample].clean > 0 ? 1 : 0) > 1;
  });
}

unsigned SampleVotes::needed_for(unsigned least) const {
  constexpr unsigned kIfDoubted = 3;
  return has_unflagged_errors() ? std::max(least, kIfDoubted) : least;
}

bool SampleVotes::confirmed(unsigned least) const {
  if (readings_ < least) return false;
  const unsigned needed = needed_for(least);
  for (std::size_t i = 0; i < kSamples; ++i)
    if (!is_confirmed(i, needed)) return false;
  return true;
}

cd::Sector SampleVotes::best() const {
  cd::Sector sector{};
  for (std::size_t i = 0; i < first_.size(); ++i) {
    const Value value = leader(i);
    std::copy(value.bytes.begin(), value.bytes.end(), sector.begin() + static_cast<std::ptrdiff_t>(i * kSampleBytes));
  }
  return sector;
}

std::vector<cd::Erasure> SampleVotes::open_bytes(unsigned least) const {
  const unsigned needed = needed_for(least);
  std::vector<cd::Erasure> open;
  for (std::size_t i = 0; i < first_.size(); ++i) {
    if (is_confirmed(i, needed)) continue;
    const std::size_t from = i * kSampleBytes, to = from + kSampleBytes - 1;
    if (!open.empty() && open.back().last + 1 == from)
      open.back().last = to;
    else
      open.push_back({from, to});
  }
  return open;
}

}  // namespace opifex
