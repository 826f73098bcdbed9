// One random cartridge in a reader with random faults, dumped as a user would: what is claimed is held against what is
// in it.
#pragma once

#include <map>
#include <string>

#include "testkit.hpp"

namespace opifex::campaign {

struct CartridgeCounts {
  std::map<std::string, std::uint64_t> ends;  ///< by verdict, or by the code of what stopped it
  std::uint64_t resumed = 0, saves_written = 0;
};

/// What was claimed and is not so; empty if all was true.
std::string cartridge_trial(std::uint64_t seed, CartridgeCounts& counts);

}  // namespace opifex::campaign
