/// A list that was read once, as arrays in a file that is mapped. What is wrong with such a file is never an error: the
/// list is read anew.
#pragma once

#include <filesystem>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/lists/known_list.hpp"

namespace opifex {

/// The list, from the folder of caches if one of just these bytes and this name is there; else read, and kept there for
/// the next time. `folder` may be empty: nothing is kept. Error as read_list().
KnownListPtr cached_list(const ByteSource& source, const std::string& name, const std::filesystem::path& folder);

}  // namespace opifex
