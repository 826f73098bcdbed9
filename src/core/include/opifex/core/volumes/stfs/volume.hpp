/// Content packages that hold files themselves (STFS), reading: blocks of 4096 bytes, chained and hashed by tables
/// between them.
#pragma once

#include "opifex/core/base/progress.hpp"
#include "opifex/core/volumes/stfs/content_header.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

struct StfsPackage {
  ContentHeader header;
  Volume volume;
  std::uint64_t blocks = 0;  ///< of data, as far as the file reaches
  unsigned copies = 1;       ///< of each table
};

/// Error (refused, "bad_package") if the header cannot be read. Broken chains and names are problems of the volume.
StfsPackage read_stfs(SourcePtr file);

/// A block or a table whose hash is wrong.
struct StfsFault {
  bool table = false;
  std::uint64_t block = 0, offset = 0;  ///< number of the block, or of the first that the table describes; in the file
  std::vector<std::string> files = {};  ///< that it hits
};
/// Every hash, on all threads.
std::vector<StfsFault> verify_stfs(const SourcePtr& file, const StfsPackage& package, JobContext& context);

}  // namespace opifex
