/// One good image of several imperfect dumps of the same pressing: sector by sector, by proof where the medium has a
/// checksum, by agreement where it has none.
#pragma once

#include <memory>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/check/sector_map.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex {

struct RescueInput {
  Image image;
  std::optional<SectorMapFile> map = {};  ///< what its dump knew of each sector
};

/// Where a sector of the result comes from.
enum class RescueHow {
  agreed,    ///< every input that has it has the same
  taken,     ///< proved, or agreed on by enough, in some of the inputs
  repaired,  ///< mended by its own error correction
  combined,  ///< put together from several, and proved
  unsure,    ///< music or blocks without proof: one input has it, or the most frequent was taken
  conflict,  ///< inputs that prove themselves differ: the more frequent was taken
  lost       ///< in no input
};
std::string_view to_string(RescueHow how);

struct RescueRange {
  cd::Lba first = 0, end = 0;
  RescueHow how = RescueHow::lost;
  std::vector<std::size_t> inputs = {};  ///< that hold exactly these bytes
};

struct RescueResult {
  std::vector<RescueRange> ranges;
  std::vector<std::uint64_t> only_from;  ///< sectors that this input alone gave
  std::vector<int> shifts;               ///< samples by which each input's music lies behind that of the surest one
  SectorMap map{0, 0};                   ///< of the result
  Image image;                           ///< reads the result; the inputs stay open
  std::vector<Warning> warnings = {};
  std::uint64_t count(RescueHow how) const;
  bool complete() const { return count(RescueHow::lost) == 0; }
};

/// Reads all inputs once. Error: fewer than two, other discs (`different_discs`, with the first difference), nothing in
/// common. The order of the inputs does not change the bytes of the result.
RescueResult plan_rescue(std::vector<RescueInput> inputs, JobContext& context);

/// The sector map beside an image, if its dump left one (`NAME.opifex-map`).
std::optional<SectorMapFile> find_sector_map(const Image& image);

}  // namespace opifex
