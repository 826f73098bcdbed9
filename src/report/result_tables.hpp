// Results taken apart into tables, as a data base would hold them: one row a result, and a table of its own for each
// list in it, whose rows begin with the result they belong to.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

enum class CellKind : std::uint8_t { empty, text, number, yes_no };

struct Cell {
  CellKind kind = CellKind::empty;
  std::string text = {};  ///< numbers without groups
};

/// One table. Rows lie in a file until they are asked for: of a hundred thousand none is in memory.
class ResultTable {
 public:
  ResultTable(std::string name, const std::filesystem::path& folder);
  ~ResultTable();
  ResultTable(const ResultTable&) = delete;

  const std::string& name() const { return name_; }  ///< "results", "tracks", "tracks-ranges"
  std::uint64_t rows() const { return rows_; }
  const std::vector<std::string>& columns() const { return columns_; }  ///< keys: "hashes.sha1"
  bool is_empty(std::size_t column) const { return !filled_[column]; }  ///< in every row
  bool is_number(std::size_t column) const { return filled_[column] && !worded_[column]; }

  using Row = std::vector<std::pair<std::string, Cell>>;  ///< by key
  void add(const Row& row);
  /// The first `most` rows, each with a cell for every column.
  void each(std::uint64_t most, const std::function<void(const std::vector<Cell>&)>& take) const;

 private:
  std::size_t column(const std::string& key);
  void flush() const;

  std::string name_;
  std::filesystem::path spool_;
  std::uint64_t rows_ = 0;
  std::vector<std::string> columns_;
  std::map<std::string, std::size_t, std::less<>> numbers_;
  std::vector<bool> filled_, worded_;
  mutable std::string waiting_;  // not yet in the file
};

class ResultTables {
 public:
  explicit ResultTables(std::filesystem::path folder) : folder_(std::move(folder)) {}

  /// One result, but for a list that comes item by item.
  void add(const Json& result);
  /// An item of the last result's list.
  void add_item(const std::string& list, const Json& item);
  void add_errors(const Json& errors);

  /// In the order in which they came up; "results" first.
  const std::vector<std::unique_ptr<ResultTable>>& all() const { return tables_; }
  const ResultTable* find(std::string_view name) const;

 private:
  ResultTable& table(const std::string& name);
  void add_row(ResultTable& into, ResultTable::Row row, const Json& object, const std::string& prefix);

  std::filesystem::path folder_;
  std::vector<std::unique_ptr<ResultTable>> tables_;
  std::string current_;  // what the last result is called in the rows of its lists
};

}  // namespace opifex::report
