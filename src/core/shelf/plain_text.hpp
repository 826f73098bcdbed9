/// Text as every database takes it: names are bytes, columns are UTF-8 without zeros.
#pragma once

#include <string>
#include <string_view>

namespace opifex {

/// What is UTF-8 stays as it is, but for "\" as "\\"; every other byte becomes "\xNN".
std::string to_plain(std::string_view bytes);
/// Back from it. What is no such text stays as it is.
std::string from_plain(std::string_view text);

}  // namespace opifex
