/// Rows of a table for spreadsheets (RFC 4180, with the line ends of this system).
#pragma once

#include <string>
#include <vector>

namespace opifex::report {

/// One row with its line end. Made printable; a cell that a spreadsheet would take for a formula begins with an
/// apostrophe.
std::string csv_row(const std::vector<std::string>& cells);

}  // namespace opifex::report
