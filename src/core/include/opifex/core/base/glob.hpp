/// Patterns for paths.
#pragma once

#include <string_view>

namespace opifex {

/// True if `path` fits `pattern`, without case: * and ? within one part of the path, ** over parts; a folder's path
/// fits all below it.
bool path_fits(std::string_view pattern, std::string_view path);

}  // namespace opifex
