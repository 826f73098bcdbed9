/// A verdict on each track, and the words for what is wrong with it.
#pragma once

#include "sector_judge.hpp"

namespace opifex {

/// Fills in what the tally says of the track, and tells what is worth saying.
std::vector<Finding> judge_track(const CdImage& disc, SectorFindings& tally, TrackCheck& track);

}  // namespace opifex
