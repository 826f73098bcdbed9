#include "opifex/report/csv.hpp"

#include "opifex/core/base/text.hpp"

namespace opifex::report {
namespace {

bool is_number(std::string_view text) {
  return !text.empty() && text.find_first_not_of("-0123456789.") == std::string_view::npos && text != "-";
}

std::string cell_text(const std::string& cell) {
  std::string text = printable(cell);
  // What begins so is computed by spreadsheets: a title must not.
  if (!text.empty() && std::string_view("=+-@\t\r").find(text.front()) != std::string_view::npos && !is_number(text))
    text.insert(0, 1, '\'');
  if (text.find_first_of(",\"\r\n;") == std::string::npos) return text;
  std::string quoted = "\"";
  for (const char c : text) quoted += c == '"' ? "\"\"" : std::string(1, c);
  return quoted + '"';
}

}  // namespace

std::string csv_row(const std::vector<std::string>& cells) {
  std::string row;
  for (const std::string& cell : cells) row += (row.empty() && &cell == &cells.front() ? "" : ",") + cell_text(cell);
  return row + "\n";
}

}  // namespace opifex::report
