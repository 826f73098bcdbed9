/// Plain tables and lines of facts for terminals and files. What comes in is made printable here, and nowhere else: a
/// name out of an image stays within its line and cannot steer a terminal.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace opifex::report {

enum class Align { left, right };
enum class CellFit {
  whole,    ///< as wide as its widest cell
  shorten,  ///< a path, a title: loses its middle where the terminal is too narrow
  state     ///< begins with a word of the palette, and has its colour where there are colours
};

/// Columns are as wide as their widest cell, two blanks apart; no rules.
class Table {
 public:
  struct Column {
    std::string title;
    Align align = Align::left;
    CellFit fit = CellFit::whole;
  };
  explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void add(const std::vector<std::string>& cells);
  /// Each line begins with `indent`; columns empty in every row are left out. Not yet laid out: see terminal.hpp.
  std::string text(const std::string& indent = "") const;

 private:
  std::vector<Column> columns_;
  // All rows one behind the other: of a hundred thousand a string for each cell would take three times as much.
  std::string rows_;
};
/// Columns of a path or a title, and of a state.
inline Table::Column path_column(std::string title) { return {std::move(title), Align::left, CellFit::shorten}; }
inline Table::Column state_column(std::string title) { return {std::move(title), Align::left, CellFit::state}; }

/// "  Label       value" lines.
class Facts {
 public:
  /// An empty value adds no line.
  void add(std::string_view label, const std::string& value);
  /// The same of a state; `rest` follows it.
  void add_state(std::string_view label, std::string_view word, const std::string& rest = "");
  const std::string& text() const { return text_; }

 private:
  std::string text_;
};

/// Columns a terminal needs to show the text: wide East Asian characters take two, marks none.
std::size_t shown_width(std::string_view text);

}  // namespace opifex::report
