/// Plain tables and lines of facts for terminals and files. What comes in is made printable here, and nowhere else: a
/// name out of an image stays within its line and cannot steer a terminal.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace opifex::report {

enum class Align { left, right };

/// Columns are as wide as their widest cell, two blanks apart; no rules, no colour.
class Table {
 public:
  struct Column {
    std::string title;
    Align align = Align::left;
  };
  explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void add(const std::vector<std::string>& cells);
  /// Each line begins with `indent`; columns empty in every row are left out.
  std::string text(const std::string& indent = "") const;

 private:
  std::string_view cell(std::size_t row, std::size_t column) const;

  std::vector<Column> columns_;
  // All cells one behind the other: of a hundred thousand rows a string for each would take three times as much.
  std::string cells_;
  std::vector<std::size_t> ends_;
};

/// "  Label       value" lines.
class Facts {
 public:
  /// An empty value adds no line.
  void add(std::string_view label, const std::string& value);
  const std::string& text() const { return text_; }

 private:
  std::string text_;
};

/// Columns a terminal needs to show the text: wide East Asian characters take two, marks none.
std::size_t shown_width(std::string_view text);

}  // namespace opifex::report
