/// What a WBFS container holds, for those who want to see all of it. Formats themselves open one disc.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex {

struct WbfsListing {
  std::string_view format = {}, platform = {};
  struct Disc {
    std::size_t slot = 0;
    std::string id, title;         ///< of the disc's own header
    std::uint64_t size_bytes = 0;  ///< of the disc
    std::uint64_t stored_bytes = 0;
  };
  std::uint64_t block_bytes = 0, blocks = 0;  ///< of the container
  std::vector<Disc> discs = {};
  std::vector<Warning> warnings = {};
};

/// Error (refused) as for opening it.
WbfsListing list_wbfs(const SourcePtr& file);

}  // namespace opifex
