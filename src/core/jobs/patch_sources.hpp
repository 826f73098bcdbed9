// What a patch may be for: a file as it is, or what is in it.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "opifex/core/convert/patch.hpp"

namespace opifex::jobs {

struct PatchSource {
  SourcePtr bytes;
  std::string inside = {};  ///< for people; empty: the file as it is
  /// Puts what was patched back into what stood around it; null: that is written as it is.
  std::function<Bytes(Bytes)> packed = {};
};

/// The file itself first; then the ROM without what a dump program put around it, the blocks or sectors that a
/// container stores, the images of an archive. Error (device) if it cannot be read.
std::vector<PatchSource> patch_sources(const std::filesystem::path& path);

/// The one that the patch is for, and how it fits; the file itself where the patch does not tell, or none fits.
struct ChosenSource {
  const PatchSource& source;
  PatchFit fit;
};
ChosenSource choose(const std::vector<PatchSource>& all, const PatchFacts& facts);

/// The file below that folder whose contents have the patch's checksum. Error (refused): "patch_tells_nothing",
/// "no_file_fits".
std::filesystem::path found_among(const std::filesystem::path& folder, const PatchFacts& facts,
                                  const std::filesystem::path& patch, JobContext& context);

}  // namespace opifex::jobs
