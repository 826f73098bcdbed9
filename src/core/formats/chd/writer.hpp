/// Writing version 5 (README, sections 1, 2 and 10).
#pragma once

#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/format.hpp"

#include "sheet_tag.hpp"

namespace opifex::chd {

struct WriteRequest {
  SourcePtr logical;  ///< everything the CHD holds; CDs are padded to whole frames already
  std::uint32_t hunk_bytes = 0, unit_bytes = 0;
  std::vector<std::string> codecs;  ///< at most four; empty: uncompressed hunks in a compressed map
  std::vector<Tag> tags;            ///< in the order they are listed
  Effort effort = Effort::normal;
  std::shared_ptr<const Chd> parent = {};  ///< null: the CHD stands alone; else of the same unit
  /// A sheet to keep, its files cut from the sectors of `runs`; it is listed behind `tags`.
  std::optional<SheetTag> sheet = {};
  std::vector<FrameRun> runs = {};
  /// The CHD the data come from: what it claims of them is claimed on, so that damage cannot become a right checksum.
  std::shared_ptr<const Chd> origin = {};
};
/// The output as a piece that makes its own bytes. Identical hunks are stored once, those of the parent not at all; the
/// same bytes on any number of threads.
PackerPtr make_packer(WriteRequest request);

}  // namespace opifex::chd
