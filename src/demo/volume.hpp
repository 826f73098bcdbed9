/// A minimal ISO 9660 volume for made-up discs.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::demo {

struct VolumeFile {
  std::string name;  ///< "SYSTEM.CNF"
  Bytes contents = {};
  std::uint32_t sectors = 0;  ///< if not 0: that many sectors elsewhere made (streams)
};

/// The blocks of 2048 bytes up to the last file with contents; `first_file_sector` tells where each file begins.
struct Volume {
  std::vector<Bytes> blocks;
  std::vector<std::uint32_t> file_sectors;
};
Volume make_volume(const std::string& volume_id, const std::vector<VolumeFile>& files, std::uint32_t total_sectors);

}  // namespace opifex::demo
