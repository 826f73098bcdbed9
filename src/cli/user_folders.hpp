/// Where the user's own files of this program are, by the XDG Base Directory Specification.
#pragma once

#include <filesystem>

namespace opifex::cli {

/// For lists that were read; empty: there is no place for it, and nothing is kept.
std::filesystem::path list_cache_folder();

/// The user's own shelf; empty: there is no place for it.
std::filesystem::path shelf_file();

}  // namespace opifex::cli
