/// Where the user's own files of this program are, by the XDG Base Directory Specification.
#pragma once

#include <filesystem>

namespace opifex::cli {

/// For lists that were read; empty: there is no place for it, and nothing is kept.
std::filesystem::path list_cache_folder();

}  // namespace opifex::cli
