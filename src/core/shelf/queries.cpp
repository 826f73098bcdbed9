#include <algorithm>

#include <fmt/ranges.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/settings.hpp"
#include "opifex/core/shelf/shelf.hpp"

#include "database.hpp"
#include "item_rows.hpp"
#include "words.hpp"

namespace opifex {

namespace {

struct Column {
  const char* name;
  const char* sql;  // to sort by
};
constexpr Column kColumns[] = {{"item", "id"},
                               {"title", "title"},
                               {"platform", "platform"},
                               {"format", "format"},
                               {"serial", "serial"},
                               {"region", "region"},
                               {"disc", "disc"},
                               {"set", "set_name"},
                               {"verdict", "verdict"},
                               {"known", "known"},
                               {"stored", "stored_bytes"},
                               {"content", "content_bytes"},
                               {"checked", "checked_at"},
                               {"added", "added_at"},
                               {"computer", "host"},
                               {"path", "path"}};

/// Conditions and their values.
class Where {
 public:
  void add(std::string condition) { conditions_.push_back(std::move(condition)); }
  /// `{}` in the condition stands for the value.
  void add(const char* condition, DbValue value) {
    conditions_.push_back(fmt::format(fmt::runtime(condition), place(std::move(value))));
  }
  std::string place(DbValue value) {
    values_.push_back(std::move(value));
    return fmt::format(":p{}", values_.size());
  }
  std::string sql() const {
    return conditions_.empty() ? "" : fmt::format(" where {}", fmt::join(conditions_, " and "));
  }
  const DbValues& values() const { return values_; }

 private:
  std::vector<std::string> conditions_;
  DbValues values_;
};

/// Sets of which a number is missing, as far as anybody knows how many discs there should be.
constexpr const char* kGaps =
    "select platform, set_name from items where gone_at = 0 and set_name <> '' group by platform, set_name having "
    "count(distinct disc) < max(case when discs > disc then discs else disc end)";

Where where_of(const ShelfFilter& filter) {
  Where where;
  const std::pair<const char*, const std::string*> texts[] = {{"host = {}", &filter.host},
                                                              {"platform = {}", &filter.platform},
                                                              {"format = {}", &filter.format},
                                                              {"verdict = {}", &filter.verdict},
                                                              {"lower(region) = lower({})", &filter.region}};
  for (const auto& [condition, text] : texts)
    if (!text->empty()) where.add(condition, *text);
  constexpr const char* kIsKnown = "known in ('known', 'renamed', 'extra', 'duplicate')";
  switch (filter.known) {
    case ShelfFilter::Known::any:
      break;
    case ShelfFilter::Known::yes:
      where.add(kIsKnown);
      break;
    case ShelfFilter::Known::no:
      where.add(fmt::format("known <> '' and not {}", kIsKnown));
      break;
    case ShelfFilter::Known::unasked:
      where.add("known = ''");
      break;
  }
  if (filter.gone != ShelfFilter::Gone::any)
    where.add(filter.gone == ShelfFilter::Gone::no ? "gone_at = 0" : "gone_at <> 0");
  if (filter.not_compressed) where.add("compressed = 0 and content_bytes > 0");
  if (filter.incomplete_sets) where.add(fmt::format("(platform, set_name) in ({})", kGaps));
  if (filter.not_checked_since) where.add("checked_at < {}", *filter.not_checked_since);
  if (!filter.below.empty()) {
    const auto [first, last] = path_bounds(filter.below);
    where.add("substr(path, 1, 200) >= substr({}, 1, 200)", first);
    where.add("substr(path, 1, 200) <= substr({}, 1, 200)", last);
  }
  for (const std::string& word : words_in(filter.words)) {
    const std::string from = where.place(word), to = where.place(word + "\xF4\x8F\xBF\xBF");
    where.add(fmt::format("id in (select item_id from item_words where word >= {} and word <= {})", from, to));
  }
  // A text without a word in it is found nowhere.
  if (!filter.words.empty() && words_in(filter.words).empty()) where.add("1 = 0");
  if (!filter.ids.empty()) where.add(fmt::format("id in ({})", fmt::join(filter.ids, ", ")));
  return where;
}

std::string order_of(const ShelfFilter& filter) {
  std::vector<std::string> keys;
  for (const std::string& key : filter.sort) {
    const bool down = key.starts_with('-');
    const std::string name = key.substr(down ? 1 : 0);
    const auto* const at =
        std::find_if(std::begin(kColumns), std::end(kColumns), [&](const Column& c) { return c.name == name; });
    if (at == std::end(kColumns)) unknown_word("column", name, shelf_columns());
    keys.push_back(fmt::format("{}{}", at->sql, down ? " desc" : ""));
  }
  if (keys.empty()) keys = {"platform", "title", "set_name", "disc", "path"};
  keys.emplace_back("id");  // always the same order
  return fmt::format(" order by {}", fmt::join(keys, ", "));
}

}  // namespace

const std::vector<std::string>& shelf_columns() {
  static const std::vector<std::string> kNames = [] {
    std::vector<std::string> names;
    for (const Column& c : kColumns) names.emplace_back(c.name);
    return names;
  }();
  return kNames;
}

void Shelf::each(const ShelfFilter& filter, const std::function<void(const ShelfItem&)>& item) const {
  const Where where = where_of(filter);
  std::string sql = fmt::format("select {} from items{}{}", kItemColumns, where.sql(), order_of(filter));
  // Of a folder more rows may come than lie in it: they are counted here.
  if (filter.limit != 0 && filter.below.empty()) sql += fmt::format(" limit {}", filter.limit);
  std::uint64_t told = 0;
  database_->each(sql, where.values(), kItemTypes, [&](const DbRow& row) {
    if (!filter.below.empty() && !lies_at_or_below(row.text(2), filter.below)) return;
    if (filter.limit == 0 || told++ < filter.limit) item(item_of(row));
  });
}

std::vector<ShelfItem> Shelf::list(const ShelfFilter& filter) const {
  std::vector<ShelfItem> items;
  each(filter, [&](const ShelfItem& item) { items.push_back(item); });
  return items;
}

std::uint64_t Shelf::count(const ShelfFilter& filter) const {
  const Where where = where_of(filter);
  if (filter.below.empty())
    return static_cast<std::uint64_t>(database_->number("select count(*) from items" + where.sql(), where.values()));
  std::uint64_t count = 0;
  database_->each("select path from items" + where.sql(), where.values(), "t",
                  [&](const DbRow& row) { count += lies_at_or_below(row.text(0), filter.below) ? 1U : 0U; });
  return count;
}

std::vector<ShelfSet> Shelf::sets(bool only_incomplete) const {
  std::vector<ShelfSet> sets;
  const auto add = [&](const ShelfItem& item) {
    if (sets.empty() || sets.back().platform != item.platform || sets.back().name != item.set)
      sets.push_back({item.platform, item.set, {}, {}});
    sets.back().discs.push_back(item);
  };
  const std::string only = only_incomplete ? fmt::format(" and (platform, set_name) in ({})", kGaps) : "";
  database_->each(
      fmt::format("select {} from items where gone_at = 0 and set_name <> ''{} order by platform, set_name, "
                  "disc, path, id",
                  kItemColumns, only),
      {}, kItemTypes, [&](const DbRow& row) { add(item_of(row)); });
  for (ShelfSet& set : sets) {
    int most = 0;
    std::vector<int> there;
    for (const ShelfItem& disc : set.discs) most = std::max({most, disc.disc, disc.discs}), there.push_back(disc.disc);
    for (int n = 1; n <= most; ++n)
      if (std::find(there.begin(), there.end(), n) == there.end()) set.missing.push_back(n);
  }
  return sets;
}

std::vector<std::pair<ShelfItem, ShelfItem>> Shelf::moved() const {
  std::vector<std::pair<ShelfItem, ShelfItem>> moved;
  std::map<std::string, ShelfItem> lost;
  const auto pick = [](const char* condition) {
    // The content itself, not the game in it: a trimmed copy is not what was there.
    return fmt::format("select {} from items where content_key <> '' and {} order by id", kItemColumns, condition);
  };
  std::vector<ShelfItem> gone;
  database_->each(pick("gone_at <> 0"), {}, kItemTypes, [&](const DbRow& row) { gone.push_back(item_of(row)); });
  if (gone.empty()) return moved;
  std::map<std::string, ShelfItem> there;
  database_->each(
      pick("gone_at = 0 and rotten = 0 and content_key in (select content_key from items where gone_at <> 0)"), {},
      kItemTypes, [&](const DbRow& row) {
        const ShelfItem item = item_of(row);
        there.try_emplace(item.content_key, item);
      });
  for (const ShelfItem& item : gone)
    if (const auto at = there.find(item.content_key); at != there.end()) moved.emplace_back(item, at->second);
  return moved;
}

namespace {

std::vector<ShelfCount> counts(Database& database, const char* column, const char* condition = "gone_at = 0") {
  std::vector<ShelfCount> all;
  database.each(
      fmt::format("select {}, count(*), cast(sum(stored_bytes) as bigint), cast(sum(content_bytes) as bigint) "
                  "from items where {} group by 1 order by 3 desc, 1",
                  column, condition),
      {}, "tnnn", [&](const DbRow& row) {
        all.push_back({row.text(0), static_cast<std::uint64_t>(row.number(1)),
                       static_cast<std::uint64_t>(row.number(2)), static_cast<std::uint64_t>(row.number(3))});
      });
  return all;
}

ShelfCount sum_of(const std::vector<ShelfCount>& counts) {
  ShelfCount sum;
  for (const ShelfCount& c : counts)
    sum.items += c.items, sum.stored_bytes += c.stored_bytes, sum.content_bytes += c.content_bytes;
  return sum;
}

}  // namespace

ShelfStats Shelf::stats(std::int64_t now) const {
  ShelfStats s;
  Database& db = *database_;
  constexpr std::int64_t kDay = 86'400;
  const std::string age = fmt::format(
      "case when checked_at = 0 then 'never' when checked_at >= {} then 'a week' when checked_at >= {} then 'a month' "
      "when checked_at >= {} then 'a year' else 'longer' end",
      now - 7 * kDay, now - 31 * kDay, now - 366 * kDay);
  // One reading of the table for all: what is asked is summed up here.
  std::map<std::string, ShelfCount> platforms, formats, verdicts, known, ages;
  db.each(
      fmt::format("select platform, format, verdict, known, {}, compressed, rotten, count(*), cast(sum(stored_bytes) "
                  "as bigint), cast(sum(content_bytes) as bigint) from items where gone_at = 0 group by 1, 2, 3, 4, "
                  "5, 6, 7",
                  age),
      {}, "tttttnnnnn", [&](const DbRow& row) {
        const ShelfCount c{"", static_cast<std::uint64_t>(row.number(7)), static_cast<std::uint64_t>(row.number(8)),
                           static_cast<std::uint64_t>(row.number(9))};
        const auto add = [&](ShelfCount& to) {
          to.items += c.items, to.stored_bytes += c.stored_bytes, to.content_bytes += c.content_bytes;
        };
        add(s.all);
        add(platforms[row.text(0)]);
        add(formats[row.text(1)]);
        add(verdicts[row.text(2)]);
        add(known[row.text(3)]);
        add(ages[row.text(4)]);
        if (row.number(5) != 0) add(s.compressed);
        if (row.number(6) != 0) s.rotten += c.items;
      });
  const auto sorted = [](const std::map<std::string, ShelfCount>& from, std::vector<ShelfCount>& to) {
    for (const auto& [name, count] : from) to.push_back({name, count.items, count.stored_bytes, count.content_bytes});
    std::stable_sort(to.begin(), to.end(),
                     [](const ShelfCount& a, const ShelfCount& b) { return a.stored_bytes > b.stored_bytes; });
  };
  sorted(platforms, s.platforms);
  sorted(formats, s.formats);
  sorted(verdicts, s.verdicts);
  sorted(known, s.known);
  for (const char* name : {"a week", "a month", "a year", "longer", "never"})
    if (const auto at = ages.find(name); at != ages.end())
      s.ages.push_back({name, at->second.items, at->second.stored_bytes, at->second.content_bytes});
  s.gone = sum_of(counts(db, "''", "gone_at <> 0"));
  s.sets = static_cast<std::uint64_t>(db.number(
      "select count(*) from (select 1 from items where gone_at = 0 and set_name <> '' group by platform, set_name) s",
      {}));
  s.incomplete_sets = static_cast<std::uint64_t>(db.number(fmt::format("select count(*) from ({}) s", kGaps), {}));
  s.hosts = static_cast<std::uint64_t>(db.number("select count(distinct host) from items where gone_at = 0", {}));
  return s;
}

}  // namespace opifex
