#include "result_tables.hpp"

#include <fstream>

#include "opifex/core/base/error.hpp"

namespace opifex::report {
namespace {

namespace fs = std::filesystem;
constexpr std::size_t kFlushBytes = 64 << 10;

bool is_list_of_objects(const Json& value) {
  return value.is_array() && !value.empty() &&
         std::all_of(value.begin(), value.end(), [](const Json& item) { return item.is_object(); });
}

std::string plain(const Json& value) {
  return value.is_string() ? value.get<std::string>() : value.dump(-1, ' ', false, Json::error_handler_t::replace);
}

Cell cell_of(const Json& value) {
  if (value.is_null()) return {};
  if (value.is_number()) return {CellKind::number, value.dump()};
  if (value.is_boolean()) return {CellKind::yes_no, value.get<bool>() ? "yes" : "no"};
  if (value.is_string())
    return value.get_ref<const std::string&>().empty() ? Cell{} : Cell{CellKind::text, value.get<std::string>()};
  std::string joined;
  for (const Json& item : value) joined += (joined.empty() ? "" : "; ") + plain(item);
  return joined.empty() ? Cell{} : Cell{CellKind::text, joined};
}

/// What names an object in the rows of its lists.
std::string name_of(const Json& object, std::uint64_t number) {
  for (const char* key : {"path", "number", "place", "name", "title", "id", "file"})
    if (const auto at = object.find(key); at != object.end() && !at->is_null() && !at->is_structured())
      return plain(*at);
  return fmt::format("{}", number);
}

/// "known-tracks-" of many is "known-track" of one.
std::string one_of(const std::string& prefix) {
  return prefix.ends_with("s-") ? prefix.substr(0, prefix.size() - 2) : prefix.substr(0, prefix.size() - 1);
}

void put(std::string& out, std::uint32_t n) { out.append(reinterpret_cast<const char*>(&n), sizeof n); }

[[noreturn]] void spool_failed(const fs::path& file) {
  throw Error({.fault = Fault::device,
               .code = "report_failed",
               .what = "the report cannot be written",
               .file = file.string(),
               .hint = "look whether the drive for temporary files is full"});
}

}  // namespace

ResultTable::ResultTable(std::string name, const fs::path& folder)
    : name_(std::move(name)), spool_(folder / (name_ + ".rows")) {}

ResultTable::~ResultTable() {
  std::error_code ignored;
  fs::remove(spool_, ignored);
}

std::size_t ResultTable::column(const std::string& key) {
  const auto [at, fresh] = numbers_.try_emplace(key, columns_.size());
  if (fresh) {
    columns_.push_back(key);
    filled_.push_back(false);
    worded_.push_back(false);
  }
  return at->second;
}

void ResultTable::add(const Row& row) {
  std::string cells;
  std::uint32_t count = 0;
  for (const auto& [key, cell] : row) {
    const std::size_t c = column(key);
    if (cell.kind == CellKind::empty) continue;
    filled_[c] = true;
    if (cell.kind != CellKind::number) worded_[c] = true;
    put(cells, static_cast<std::uint32_t>(c));
    put(cells, static_cast<std::uint32_t>(cell.kind));
    put(cells, static_cast<std::uint32_t>(cell.text.size()));
    cells += cell.text;
    ++count;
  }
  put(waiting_, count);
  waiting_ += cells;
  ++rows_;
  if (waiting_.size() >= kFlushBytes) flush();
}

void ResultTable::flush() const {
  if (waiting_.empty()) return;
  std::ofstream file(spool_, std::ios::binary | std::ios::app);
  file.write(waiting_.data(), static_cast<std::streamsize>(waiting_.size()));
  file.close();
  if (!file) spool_failed(spool_);
  waiting_.clear();
}

void ResultTable::each(std::uint64_t most, const std::function<void(const std::vector<Cell>&)>& take) const {
  flush();
  std::ifstream file(spool_, std::ios::binary);
  const auto number = [&] {
    std::uint32_t n = 0;
    file.read(reinterpret_cast<char*>(&n), sizeof n);
    return n;
  };
  for (std::uint64_t row = 0; row < std::min(most, rows_); ++row) {
    std::vector<Cell> cells(columns_.size());
    for (std::uint32_t n = number(); n > 0; --n) {
      const std::uint32_t column = number(), kind = number(), size = number();
      if (!file) spool_failed(spool_);
      Cell& cell = cells.at(column);
      cell.kind = static_cast<CellKind>(kind);
      cell.text.resize(size);
      file.read(cell.text.data(), size);
    }
    if (!file) spool_failed(spool_);
    take(cells);
  }
}

ResultTable& ResultTables::table(const std::string& name) {
  for (const auto& t : tables_)
    if (t->name() == name) return *t;
  return *tables_.emplace_back(std::make_unique<ResultTable>(name, folder_));
}

const ResultTable* ResultTables::find(std::string_view name) const {
  for (const auto& t : tables_)
    if (t->name() == name) return t.get();
  return nullptr;
}

void ResultTables::add_row(ResultTable& into, ResultTable::Row row, const Json& object, const std::string& prefix) {
  const ResultTable::Row owner = row;
  std::vector<std::pair<std::string, const Json*>> lists;
  const std::function<void(const Json&, const std::string&)> flatten = [&](const Json& from,
                                                                           const std::string& before) {
    for (const auto& [key, value] : from.items()) {
      if (value.is_object()) {
        flatten(value, before + key + ".");
      } else if (is_list_of_objects(value)) {
        lists.emplace_back(before + key, &value);
      } else {
        row.emplace_back(before + key, cell_of(value));
      }
    }
  };
  flatten(object, "");
  into.add(row);
  for (const auto& [key, items] : lists) {
    std::string name = prefix + key;
    std::replace(name.begin(), name.end(), '.', '-');
    std::replace(name.begin(), name.end(), '_', '-');
    // Whose rows these are: the result's, and within it the item's.
    ResultTable::Row of = owner;
    if (prefix.empty())
      of = {{"of", {CellKind::text, current_}}};
    else
      of.emplace_back(one_of(prefix), Cell{CellKind::text, name_of(object, into.rows())});
    ResultTable& table_of_list = table(name);
    for (const Json& item : *items) add_row(table_of_list, of, item, name + "-");
  }
}

void ResultTables::add(const Json& result) {
  ResultTable& results = table("results");
  current_ = name_of(result, results.rows() + 1);
  add_row(results, {}, result, "");
}

void ResultTables::add_item(const std::string& list, const Json& item) {
  std::string name = list;
  std::replace(name.begin(), name.end(), '_', '-');
  add_row(table(name), {{"of", {CellKind::text, current_}}}, item, name + "-");
}

void ResultTables::add_errors(const Json& errors) {
  for (const Json& error : errors) add_row(table("errors"), {}, error, "errors-");
}

}  // namespace opifex::report
