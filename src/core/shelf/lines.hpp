/// One item of a shelf as a line of JSON.
#pragma once

#include <string>

#include "opifex/core/shelf/item.hpp"

namespace opifex {

/// What a line of an export holds; its number is the shelf's own matter. Error (refused, "bad_shelf_lines") with `file`
/// and `number`, whatever is in it.
ShelfItem item_of_line(const std::string& line, const std::string& file, std::uint32_t number);
std::string line_of_item(const ShelfItem& item);

}  // namespace opifex
