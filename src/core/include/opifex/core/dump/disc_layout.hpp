/// From a table of contents to a disc's layout: where each pregap begins, and what the data tracks hold, which only the
/// sectors tell.
#pragma once

#include "opifex/core/dump/medium.hpp"
#include "opifex/core/dump/reader.hpp"

namespace opifex::dump {

/// First sector of each track's pregap (index 0), by the Q subchannel read backwards from its start. Tracks without one
/// are absent. What is odd is added to `warnings`.
std::map<int, cd::Lba> find_pregaps(Drive& drive, const Toc& toc, std::vector<Warning>& warnings);

/// The layout a dump of this disc has. Reads a raw sector of each track to tell its mode.
cd::Layout make_layout(Drive& drive, Medium& medium, const std::map<int, cd::Lba>& pregaps);

/// What there is to read: a region for each track with its pregap.
std::vector<Region> regions_of(const cd::Layout& layout);

/// Ends the layout at `end`, where the drive can read no further.
void cut_layout(cd::Layout& layout, cd::Lba end);

/// Indexes from 02 on, from the packed subchannel of all sectors; `at` gives the 96 bytes of a sector.
void add_indexes(cd::Layout& layout, const std::function<cd::Subchannel(cd::Lba)>& at);

}  // namespace opifex::dump
