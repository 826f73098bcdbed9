/// What the sectors of a disc are found to be, one by one, as they come by.
#pragma once

#include <atomic>
#include <map>
#include <mutex>
#include <optional>
#include <string_view>
#include <vector>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/image/image.hpp"

namespace opifex {

struct BadSector {
  cd::Lba lba;
  cd::Damage damage;
  unsigned problems;
  bool repairable;
};

/// What the sectors of one track were found to be.
struct SectorFindings {
  std::map<std::string_view, std::uint64_t> kinds;
  std::vector<BadSector> bad, formless;
  /// Of the pause before a data track: what has no sync may belong to the track before, up to the first that has one.
  std::vector<BadSector> pause_without_sync;
  std::optional<cd::Lba> pause_begins;
  std::uint64_t authored = 0, data_in_audio = 0, reserved_used = 0;
  std::uint64_t q_blocks = 0, q_bad = 0, q_elsewhere = 0;
};

/// Safe from many threads; `tallies` is asked when all are done.
class SectorJudge {
 public:
  explicit SectorJudge(const CdImage& disc) : disc_(disc) {}
  void judge(const DecodedRun& run);
  /// By track number.
  std::map<int, SectorFindings>& tallies() { return tallies_; }

 private:
  void judge_one(const DecodedRun& run, const cd::Track& track, std::size_t i, SectorFindings& part);
  void judge_q(const Extent& e, cd::Lba lba, ByteView stored, SectorFindings& part) const;

  const CdImage& disc_;
  std::mutex mutex_;
  std::map<int, SectorFindings> tallies_;
  std::atomic<std::uint64_t> tries_{0};
};

/// Neighbours with the same damage as one range, in the order of the disc; sorts `bad`.
std::vector<DamagedRange> ranges_of(std::vector<BadSector>& bad);

}  // namespace opifex
