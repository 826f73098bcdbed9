/// From a table of contents to a disc's layout: where each pregap begins, and what the tracks hold, which only the
/// sectors tell.
#pragma once

#include "opifex/core/dump/medium.hpp"
#include "opifex/core/dump/reader.hpp"

namespace opifex::dump {

/// How much of the subchannel the drive returns.
SubchannelPart subchannel_of(Drive& drive, const Toc& toc);

/// First sector of each track's pregap (index 0), by the Q subchannel read backwards from its start. Tracks without one
/// are absent. What is odd or not certain is added to `warnings`.
std::map<int, cd::Lba> find_pregaps(Drive& drive, const Toc& toc, SubchannelPart subchannel,
                                    std::vector<Warning>& warnings);

/// A layout, and where in a pregap the sectors of another kind end: before a data track stand some of music, behind one
/// some of data.
struct DiscLayout {
  cd::Layout layout;
  std::map<int, cd::Lba> own_from = {};  ///< by track number; absent: from its pregap on
};

/// The layout a dump of this disc has. Reads raw sectors of each track to tell its mode, and of the gaps between data
/// and music to tell where one ends; those that prove themselves are kept in `medium.seen`.
DiscLayout make_layout(Drive& drive, Medium& medium, const std::map<int, cd::Lba>& pregaps, SubchannelPart subchannel);

/// What there is to read: runs of sectors of one kind.
std::vector<Region> regions_of(const cd::Layout& layout, const std::map<int, cd::Lba>& own_from = {});

/// Ends the layout at `end`, where the drive can read no further.
void cut_layout(cd::Layout& layout, cd::Lba end);

/// Indexes from 02 on, from the packed subchannel of all sectors; `at` gives the 96 bytes of a sector.
void add_indexes(cd::Layout& layout, const std::function<cd::Subchannel(cd::Lba)>& at);

}  // namespace opifex::dump
