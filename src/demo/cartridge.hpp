// A cartridge for the museum.
#pragma once

#include <filesystem>

#include "opifex/core/io/output.hpp"

namespace opifex::demo {

/// reader/: what is in the reader, as files; the reader three times: dirty, wiped, clean; and a save to be written.
void make_cartridge(const std::filesystem::path& folder, Existing existing);

}  // namespace opifex::demo
