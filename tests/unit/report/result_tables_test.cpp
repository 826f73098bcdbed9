// Results as tables: nothing that is in the result is missing in them, and it stands by the result it belongs to.
#include "result_tables.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex::report {
namespace {

using testkit::Random;
using testkit::TempFolder;

std::vector<std::vector<std::string>> rows_of(const ResultTable& table) {
  std::vector<std::vector<std::string>> rows;
  table.each(table.rows(), [&](const std::vector<Cell>& cells) {
    std::vector<std::string> row;
    for (const Cell& cell : cells) row.push_back(cell.text);
    rows.push_back(std::move(row));
  });
  return rows;
}

TEST(ResultTables, ListsBecomeTablesOfTheirOwn) {
  const TempFolder folder;
  ResultTables tables(folder.path());
  tables.add(Json::parse(R"({"path": "a.cue", "verdict": "damaged", "hashes": {"crc32": "0a"}, "empty": null,
    "tracks": [{"number": 1, "ranges": [{"lba": 5}, {"lba": 9}]}, {"number": 2, "ranges": []}], "words": ["x", "y"]})"));
  tables.add(Json::parse(R"({"path": "b.iso", "verdict": "intact", "size_bytes": 7})"));
  const ResultTable& results = *tables.find("results");
  const std::vector<std::string> columns = {"path", "verdict", "hashes.crc32", "empty", "words", "size_bytes"};
  EXPECT_EQ(results.columns(), columns);
  const std::vector<std::vector<std::string>> rows = {{"a.cue", "damaged", "0a", "", "x; y", ""},
                                                      {"b.iso", "intact", "", "", "", "7"}};
  EXPECT_EQ(rows_of(results), rows);
  EXPECT_TRUE(results.is_empty(3));
  EXPECT_TRUE(results.is_number(5));
  EXPECT_FALSE(results.is_number(0));
  const std::vector<std::vector<std::string>> tracks = {{"a.cue", "1", ""}, {"a.cue", "2", ""}};
  EXPECT_EQ(tables.find("tracks")->columns().at(0), "of");
  EXPECT_EQ(rows_of(*tables.find("tracks")).at(0).at(1), "1");
  const std::vector<std::vector<std::string>> ranges = {{"a.cue", "1", "5"}, {"a.cue", "1", "9"}};
  EXPECT_EQ(rows_of(*tables.find("tracks-ranges")), ranges);
  EXPECT_EQ(tables.find("tracks-ranges")->columns(), (std::vector<std::string>{"of", "track", "lba"}));
}

/// Every scalar of a result has a text of its own, so that it can be found again.
Json random_json(Random& random, int depth, std::multiset<std::string>& scalars) {
  Json object = Json::object();
  for (std::uint64_t n = 1 + random.below(5); n > 0; --n) {
    const std::string key = fmt::format("k{}", random.below(12));
    if (object.contains(key)) continue;
    switch (random.below(depth > 0 ? 6 : 3)) {
      case 0:
        object[key] = static_cast<std::int64_t>(scalars.size()) + 1'000'000;
        scalars.insert(object[key].dump());
        break;
      case 1:
        object[key] = fmt::format("text {} \xE7\x81\xAF\n\"", scalars.size());
        scalars.insert(object[key].get<std::string>());
        break;
      case 2:
        object[key] = nullptr;
        break;
      case 3:
        object[key] = random_json(random, depth - 1, scalars);
        break;
      default: {
        Json list = Json::array();
        for (std::uint64_t items = random.below(4); items > 0; --items)
          list.push_back(random_json(random, depth - 1, scalars));
        object[key] = list;
      }
    }
  }
  return object;
}

TEST(ResultTables, NothingOfARandomResultIsMissing) {
  for (std::uint64_t seed = 0; seed < 200; ++seed) {
    const TempFolder folder;
    Random random(seed);
    ResultTables tables(folder.path());
    std::multiset<std::string> scalars, found;
    for (std::uint64_t n = 1 + random.below(4); n > 0; --n) {
      std::multiset<std::string> own = scalars;
      tables.add(random_json(random, 3, scalars));
    }
    for (const auto& table : tables.all())
      for (const auto& row : rows_of(*table))
        for (std::size_t c = 0; c < row.size(); ++c)
          if (!row[c].empty() && table->columns()[c].find('k') == 0 && scalars.contains(row[c])) found.insert(row[c]);
    for (const std::string& scalar : scalars) EXPECT_GE(found.count(scalar), 1u) << seed << ": " << scalar;
  }
}

TEST(ResultTables, AHundredThousandRowsDoNotStayInMemory) {
  const TempFolder folder;
  ResultTables tables(folder.path());
  tables.add(Json{{"path", "x"}});
  for (int i = 0; i < 100'000; ++i)
    tables.add_item("entries", Json{{"path", fmt::format("file {}", i)}, {"size_bytes", i}});
  const ResultTable& entries = *tables.find("entries");
  EXPECT_EQ(entries.rows(), 100'000u);
  EXPECT_GT(std::filesystem::file_size(folder / "entries.rows"), 2'000'000u);
  std::uint64_t row = 0;
  entries.each(100'000, [&](const std::vector<Cell>& cells) {
    EXPECT_EQ(cells.at(2).text, fmt::format("{}", row));
    ++row;
  });
  EXPECT_EQ(row, 100'000u);
}

}  // namespace
}  // namespace opifex::report
