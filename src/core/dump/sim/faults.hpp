/// What goes wrong when the simulated drive reads a sector, and what its buffer remembers.
#pragma once

#include <deque>
#include <map>
#include <optional>

#include "opifex/core/dump/sim.hpp"

namespace opifex::dump {

/// What one physical reading of one sector came to.
struct SectorFate {
  std::optional<std::uint32_t> sense = {};  ///< it failed
  unsigned extra_ms = 0;
  bool hangs = false, dies = false, ejects = false, swaps = false;
  unsigned missing = 0;                                       ///< sectors the reply lacks without a word
  bool passing = false;                                       ///< it is over once told: the buffer does not repeat it
  std::vector<std::pair<std::size_t, std::byte>> wrong = {};  ///< place and value to XOR
  std::vector<std::size_t> flagged = {};                      ///< C2
  bool bad_q = false;
  const Bytes* fixed_q = nullptr;
};

class SimFaults {
 public:
  SimFaults(std::vector<SimDefect> defects, std::uint64_t seed, double c2_reports);

  /// True if no defect touches [first, end).
  bool clean(cd::Lba first, cd::Lba end) const;
  /// True if a track border lies inside [first, end), that commands may not cross.
  bool crosses_edge(cd::Lba first, cd::Lba end) const;
  /// Reading number `attempt` of the sector; `slower` steps below the top speed, at `kbs`.
  SectorFate fate(cd::Lba lba, std::uint64_t attempt, unsigned slower, unsigned kbs);
  /// Reading number `attempt` of the ECC group [first, end) of a DVD or Blu-ray disc: it is right as a whole or not at
  /// all.
  std::optional<std::uint32_t> group_sense(cd::Lba first, cd::Lba end, std::uint64_t attempt, unsigned slower,
                                           unsigned kbs) const;
  /// Samples by which audio is off after a seek to `lba`.
  int jitter(cd::Lba lba, std::uint64_t attempt) const;

 private:
  struct Draws;
  static bool fails(const SimDefect& d, std::uint64_t attempt, unsigned slower, unsigned kbs, Draws& draws);
  void apply(const SimDefect& d, std::uint64_t salt, cd::Lba lba, std::uint64_t attempt, unsigned slower, unsigned kbs,
             SectorFate& fate);

  std::vector<SimDefect> defects_;
  std::uint64_t seed_;
  double c2_reports_;
  std::map<std::size_t, unsigned> used_;  // counts of hang and retry_sense, by defect
};

/// The sectors the buffer holds, oldest first.
class SimCache {
 public:
  explicit SimCache(std::size_t sectors) : room_(sectors) {}
  bool holds(cd::Lba lba) const;
  void add(cd::Lba first, cd::Lba end);
  void clear() { runs_.clear(), held_ = 0; }

 private:
  struct Run {
    cd::Lba first, end;
  };
  std::size_t room_, held_ = 0;
  std::deque<Run> runs_;
};

}  // namespace opifex::dump
