/// Plain tables for terminals and files.
#pragma once

#include <string>
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
  std::vector<Column> columns_;
  std::vector<std::vector<std::string>> rows_;
};

/// Columns a terminal needs to show the text: wide East Asian characters take two, marks none.
std::size_t shown_width(const std::string& text);

}  // namespace opifex::report
