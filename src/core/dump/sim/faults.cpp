#include "faults.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/cd/sector.hpp"

namespace opifex::dump {

using cd::Lba;

std::uint64_t sim_mix(std::uint64_t x) {  // splitmix64
  x += 0x9E3779B97F4A7C15u;
  x = (x ^ x >> 30) * 0xBF58476D1CE4E5B9u;
  x = (x ^ x >> 27) * 0x94D049BB133111EBu;
  return x ^ x >> 31;
}

std::uint64_t sim_draw(std::uint64_t seed, Lba lba, std::uint64_t attempt, std::uint64_t salt) {
  return sim_mix(sim_mix(sim_mix(sim_mix(seed) ^ static_cast<std::uint32_t>(lba)) ^ attempt) ^ salt);
}

/// The numbers of one reading, one after the other.
struct SimFaults::Draws {
  std::uint64_t x;
  double share() {
    const double u = static_cast<double>(x >> 11) * 0x1p-53;
    x = sim_mix(x);
    return u;
  }
  std::size_t below(std::size_t n) { return static_cast<std::size_t>(share() * static_cast<double>(n)); }
};

SimFaults::SimFaults(std::vector<SimDefect> defects, std::uint64_t seed, double c2_reports)
    : defects_(std::move(defects)), seed_(seed), c2_reports_(c2_reports) {}

bool SimFaults::clean(Lba first, Lba end) const {
  // Those of commands strike no sector by itself.
  return std::none_of(defects_.begin(), defects_.end(), [&](const SimDefect& d) {
    return d.kind != DefectKind::jitter && d.kind != DefectKind::edge && d.first < end && d.last >= first;
  });
}

bool SimFaults::crosses_edge(Lba first, Lba end) const {
  return std::any_of(defects_.begin(), defects_.end(), [&](const SimDefect& d) {
    return d.kind == DefectKind::edge && d.first > first && d.first < end;
  });
}

int SimFaults::jitter(Lba lba, std::uint64_t attempt) const {
  for (std::size_t i = 0; i < defects_.size(); ++i) {
    const SimDefect& d = defects_[i];
    if (d.kind != DefectKind::jitter || lba < d.first || lba > d.last || d.max == 0) continue;
    Draws draws{sim_draw(seed_, lba, attempt, i + 1)};
    if (draws.share() >= d.p) continue;
    return static_cast<int>(draws.below(2 * d.max + 1)) - static_cast<int>(d.max);
  }
  return 0;
}

SectorFate SimFaults::fate(Lba lba, std::uint64_t attempt, unsigned slower, unsigned kbs) {
  SectorFate fate;
  for (std::size_t i = 0; i < defects_.size(); ++i)
    if (lba >= defects_[i].first && lba <= defects_[i].last) apply(defects_[i], i + 1, lba, attempt, slower, kbs, fate);
  return fate;
}

/// True if the defect makes the reading fail as a whole.
bool SimFaults::fails(const SimDefect& d, std::uint64_t attempt, unsigned slower, unsigned kbs, Draws& draws) {
  switch (d.kind) {
    case DefectKind::unreadable:
      return true;
    case DefectKind::weak:
      return draws.share() < (1 - d.p) / (d.halving ? static_cast<double>(1u << std::min(slower, 16u)) : 1.0);
    case DefectKind::after:
      return attempt + 1 < d.n;
    case DefectKind::slow_only:
      return kbs > d.kbs;
    default:
      return false;
  }
}

std::optional<std::uint32_t> SimFaults::group_sense(Lba first, Lba end, std::uint64_t attempt, unsigned slower,
                                                    unsigned kbs) const {
  for (std::size_t i = 0; i < defects_.size(); ++i) {
    const SimDefect& d = defects_[i];
    if (d.first >= end || d.last < first) continue;
    Draws draws{sim_draw(seed_, first, attempt, i + 1)};
    if (fails(d, attempt, slower, kbs, draws)) return d.sense;
  }
  return std::nullopt;
}

void SimFaults::apply(const SimDefect& d, std::uint64_t salt, Lba lba, std::uint64_t attempt, unsigned slower,
                      unsigned kbs, SectorFate& fate) {
  Draws draws{sim_draw(seed_, lba, attempt, salt)};
  const auto spoil = [&](bool flag) {
    std::set<std::size_t> places;
    while (places.size() < d.bytes) places.insert(draws.below(cd::kRawBytes));
    for (const std::size_t at : places) {
      fate.wrong.emplace_back(at, static_cast<std::byte>(1 + draws.below(255)));
      if (flag && draws.share() < c2_reports_) fate.flagged.push_back(at);
    }
  };
  switch (d.kind) {
    case DefectKind::unreadable:
    case DefectKind::weak:
    case DefectKind::after:
    case DefectKind::slow_only:
      if (fails(d, attempt, slower, kbs, draws)) fate.sense = d.sense;
      break;
    case DefectKind::c2:
      if (draws.share() < d.p) spoil(true);
      break;
    case DefectKind::silent:
      if (d.fixed) draws.x = sim_draw(seed_, lba, 0, salt);
      if (draws.share() < d.p) spoil(false);
      break;
    case DefectKind::slow:
      fate.extra_ms += d.ms;
      break;
    case DefectKind::hang:
      if (used_[salt]++ < d.count) {
        fate.extra_ms += d.ms;
        fate.hangs = fate.passing = true;
      }
      break;
    case DefectKind::retry_sense:
      if (used_[salt]++ < d.count) {
        fate.sense = d.sense;
        fate.passing = true;
      }
      break;
    case DefectKind::dead:
      fate.dies = true;
      break;
    case DefectKind::eject:
      fate.ejects = true;
      break;
    case DefectKind::swap:
      fate.swaps = used_[salt]++ == 0;
      break;
    case DefectKind::q_bad:
      fate.bad_q = draws.share() < d.p;
      break;
    case DefectKind::q_fixed:
      if (const auto i = static_cast<std::size_t>(lba - d.first); i < d.frames.size()) fate.fixed_q = &d.frames[i];
      break;
    case DefectKind::brief:
      if (used_[salt]++ == 0) {
        fate.missing = d.n;
        fate.passing = true;
      }
      break;
    case DefectKind::jitter:
    case DefectKind::edge:
      break;  // of commands, not of sectors
  }
}

bool SimCache::holds(Lba lba) const {
  return std::any_of(runs_.begin(), runs_.end(), [&](const Run& r) { return lba >= r.first && lba < r.end; });
}

void SimCache::add(Lba first, Lba end) {
  if (first >= end) return;
  if (!runs_.empty() && runs_.back().end == first)
    runs_.back().end = end;
  else
    runs_.push_back({first, end});
  held_ += static_cast<std::size_t>(end - first);
  while (held_ > room_ && !runs_.empty()) {
    Run& oldest = runs_.front();
    const std::size_t length = static_cast<std::size_t>(oldest.end - oldest.first), over = held_ - room_;
    if (over >= length) {
      held_ -= length;
      runs_.pop_front();
    } else {
      oldest.first += static_cast<Lba>(over);
      held_ -= over;
    }
  }
}

}  // namespace opifex::dump
