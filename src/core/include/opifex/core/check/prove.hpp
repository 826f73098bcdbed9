/// Proof that an output decodes to its input, before it gets its name.
#pragma once

#include <string>

#include "opifex/core/convert/plan.hpp"
#include "opifex/core/io/folder_tree.hpp"

namespace opifex {

struct Proof {
  std::string sha1;      ///< of all bytes that were compared; empty if files were compared
  std::string compared;  ///< in words: "4 tracks with their gaps and marks, 1 575 sectors of 2352 bytes"
};

/// How the result was made of the source.
struct ProofRequest {
  Capabilities holds = {};  ///< of the result's format: what it cannot hold is not compared, it was told as a loss
  int data_track = 0;       ///< for formats of one data track; 0: the first
  bool rebuilt = false;     ///< files were packed anew: they are compared, not sectors
};

/// Compares both ways: the tracks, their places, gaps, marks, codes and texts; every sector; the subchannel where it is
/// kept; of discs of blocks every byte, and that nothing but zeros was added where that may be. Error (device,
/// "proof_failed") with the first difference.
Proof prove_same(const Image& source, const Image& result, const ProofRequest& request, JobContext& context);

/// For outputs that are plain copies of bytes: the files as they are against what they were made of.
Proof prove_copies(const WritePlan& plan, const FileSpace& staged, const std::vector<WrittenFile>& written,
                   JobContext& context);

/// For an image made of a folder: every file of the folder is in it with the same bytes, and no other one. Names the
/// image cannot hold may have changed: such files are known by their contents. `made_anew` are paths that the image has
/// its own version of. Error (device, "proof_failed").
Proof prove_folder(const FolderTree& tree, const Image& result, const std::vector<std::string>& made_anew,
                   JobContext& context);

/// True if what is left after these losses can be compared: the data of a CD that becomes blocks, a disc without its
/// subchannel or with its first session alone, its sectors without the borders of tracks, the game of an Xbox disc.
bool can_be_compared(const Image& source, const Format& target, const std::vector<Loss>& losses);

enum class Inspect {
  readable,  ///< the output opens: content was left out with the user's word
  layout,    ///< and its tracks are where the input has them
  prove      ///< and it decodes to the input
};

/// Opens the output by its own reader and looks at it; the outcome of a proof goes to `proof`. Error "not_readable" if
/// what was written cannot be opened again, or has its tracks elsewhere.
Inspection inspection_of(const Image& source, const ConvertRequest& request, const WritePlan& plan, Inspect how,
                         Proof& proof, JobContext& context);

}  // namespace opifex
