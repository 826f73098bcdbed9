/// One hash for what an image holds, whatever format holds it.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/progress.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex {

struct Image;

struct ContentDigest {
  std::string kind;  ///< "cd", "blocks", "cartridge"; empty: nothing that can be hashed as a whole (a package of files)
  std::uint64_t bytes = 0;
  std::string sha256 = {};

  friend bool operator==(const ContentDigest&, const ContentDigest&) = default;
};

/// Of a CD all its tracks with their pregaps as raw sectors of 2352 bytes, gaps that no file holds made, after a line
/// for each track (number, mode, session, where it begins and ends); without the subchannel. Of a disc of blocks, a
/// floppy or a memory card its bytes; of a cartridge the ROM alone, in the order of its bus.
ContentDigest digest_content(const Image& image, JobContext& context);

/// Hashes in one reading, each in a thread of its own, in the order of `names`. Error (device, refused) if it cannot be
/// read.
std::vector<NamedHash> hash_source(const ByteSource& source, const std::vector<std::string>& names,
                                   JobContext& context);
/// The same of a file.
std::vector<NamedHash> hash_file(const std::string& path, const std::vector<std::string>& names, JobContext& context);

}  // namespace opifex
