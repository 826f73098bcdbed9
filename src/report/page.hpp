// The page of a report: built as a tree, so that whatever comes from outside is text and nothing else.
#pragma once

#include <string>
#include <vector>

#include "opifex/report/figure.hpp"
#include "opifex/report/json.hpp"

#include "result_tables.hpp"

namespace opifex::report {

struct PageContent {
  std::string command, version;
  int exit_code = 0;
  std::int64_t made = 0;              ///< seconds since 1970
  std::vector<std::string> subjects;  ///< what the results are about, at most a few
  std::uint64_t results = 0;
  const ResultTables& tables;
  const std::vector<std::pair<Figure, std::string>>& figures;  ///< with their SVG
  std::uint64_t undrawn = 0;                                   ///< results for whose figures there was no room
  std::string text;                                            ///< as the terminal shows it
  bool text_cut = false;
};

/// One HTML document, UTF-8, that needs nothing else.
std::string page_html(const PageContent& content);

/// The label of a key: "start_lba" is "Start (LBA)".
std::string label_of(std::string_view key);
/// The heading of a table.
std::string heading_of(std::string_view table);
/// What the report of a command is called.
std::string title_of(std::string_view command);

}  // namespace opifex::report
