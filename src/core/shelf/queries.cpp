#include <algorithm>

#include <fmt/ranges.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/settings.hpp"
#include "opifex/core/shelf/shelf.hpp"

#include "database.hpp"
#include "item_rows.hpp"
#include "plain_text.hpp"
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

constexpr const char* kLastCharacter = "\xF4\x8F\xBF\xBF";

/// As the databases count: characters of the text that is kept.
std::size_t characters_in(const std::string& path) {
  const std::string text = to_plain(path);
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

/// Sets of which a number is missing, as far as anybody knows how many discs there should be.
constexpr const char* kHasGap = "count(distinct disc) < max(case when discs > disc then discs else disc end)";
const std::string kGaps = fmt::format(
    "select platform, set_name from items where gone_at = 0 and set_name <> '' group by platform, set_name having {}",
    kHasGap);

/// `path` itself and what lies in it. The index has the first 200 characters of each path.
std::string below_condition(Where& where, const std::string& path) {
  const std::string folder = path == "/" ? path : path + "/";
  std::string behind = folder;
  ++behind.back();  // the first name that no longer lies in it
  const bool is_short = characters_in(folder) < 190;
  // Values stand in the order of their places.
  std::string condition = fmt::format("((substr(path, 1, 200) = substr({}, 1, 200)", where.place(path));
  condition += fmt::format(" and path = {})", where.place(path));
  condition += fmt::format(" or (substr(path, 1, 200) >= substr({}, 1, 200)", where.place(folder));
  condition +=
      fmt::format(" and substr(path, 1, 200) {} substr({}, 1, 200)", is_short ? "<" : "<=", where.place(behind));
  // Of a long one the index does not tell all.
  if (!is_short) condition += fmt::format(" and substr(path, 1, {}) = {}", characters_in(folder), where.place(folder));
  return condition + "))";
}

/// The rarest word decides; each of the few items that have it is asked for the others.
void add_words(Where& where, const std::vector<std::string>& words,
               const std::function<std::int64_t(const std::string&)>& count) {
  std::vector<std::pair<std::int64_t, std::string>> by_count;
  for (const std::string& word : words) by_count.emplace_back(words.size() == 1 ? 0 : count(word), word);
  std::sort(by_count.begin(), by_count.end());
  bool first = true;
  for (const auto& [n, word] : by_count) {
    const std::string from = where.place(word), to = where.place(word + kLastCharacter);
    if (std::exchange(first, false))
      where.add(fmt::format("id in (select item_id from item_words where word >= {} and word <= {})", from, to));
    else
      where.add(
          fmt::format("exists (select 1 from item_words w where w.item_id = items.id and w.word >= {} and w.word <= "
                      "{})",
                      from, to));
  }
}

Where where_of(const ShelfFilter& filter, Database& database) {
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
  if (!filter.below.empty()) where.add(below_condition(where, filter.below));
  add_words(where, words_in(filter.words), [&](const std::string& word) {
    constexpr std::int64_t kEnough = 2000;
    return database.number("select count(*) from (select 1 from item_words where word >= :a and word <= :b limit :c) w",
                           {word, word + kLastCharacter, kEnough});
  });
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
  if (keys.empty() && !filter.below.empty()) keys = {"substr(path, 1, 200)"};
  if (keys.empty()) keys = {"platform", "title", "disc"};
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

std::vector<std::int64_t> Shelf::ids(const ShelfFilter& filter) const {
  const Where where = where_of(filter, *database_);
  std::string sql = fmt::format("select id from items{}{}", where.sql(), order_of(filter));
  if (filter.limit != 0) sql += fmt::format(" limit {}", filter.limit);
  std::vector<std::int64_t> ids;
  database_->each(sql, where.values(), "n", [&](const DbRow& row) { ids.push_back(row.number(0)); });
  return ids;
}

void Shelf::each(const std::vector<std::int64_t>& ids, const std::function<void(const ShelfItem&)>& item) const {
  constexpr std::size_t kAtOnce = 250;
  for (std::size_t from = 0; from < ids.size(); from += kAtOnce) {
    const auto some = std::span(ids).subspan(from, std::min(kAtOnce, ids.size() - from));
    std::map<std::int64_t, ShelfItem> items;
    database_->each(fmt::format("select {} from items where id in ({})", kItemColumns, fmt::join(some, ",")), {},
                    kItemTypes, [&](const DbRow& row) { items.emplace(row.number(0), item_of(row)); });
    for (const std::int64_t id : some)
      if (const auto at = items.find(id); at != items.end()) item(at->second);
  }
}

std::vector<ShelfItem> Shelf::list(const ShelfFilter& filter) const {
  std::vector<ShelfItem> items;
  each(ids(filter), [&](const ShelfItem& item) { items.push_back(item); });
  return items;
}

std::uint64_t Shelf::count(const ShelfFilter& filter) const {
  const Where where = where_of(filter, *database_);
  return static_cast<std::uint64_t>(database_->number("select count(*) from items" + where.sql(), where.values()));
}

std::vector<ShelfSet> Shelf::sets(bool only_incomplete) const {
  std::vector<ShelfSet> sets;
  const std::string only = only_incomplete ? fmt::format(" and (platform, set_name) in ({})", kGaps) : "";
  database_->each(
      fmt::format(
          "select id, host, path, inside, archive, title, verdict, platform, set_name, disc, discs from items where "
          "gone_at = 0 and set_name <> ''{} order by platform, set_name, disc",
          only),
      {}, "nttttttttnn", [&](const DbRow& row) {
        ShelfItem item{.id = row.number(0), .host = row.text(1), .path = row.text(2), .inside = row.text(3)};
        item.archive = row.text(4);
        item.title = row.text(5);
        item.verdict = row.text(6);
        item.platform = row.text(7);
        item.set = row.text(8);
        item.disc = static_cast<int>(row.number(9));
        item.discs = static_cast<int>(row.number(10));
        if (sets.empty() || sets.back().platform != item.platform || sets.back().name != item.set)
          sets.push_back({item.platform, item.set, {}, {}});
        sets.back().discs.push_back(std::move(item));
      });
  for (ShelfSet& set : sets) {
    std::sort(set.discs.begin(), set.discs.end(), [](const ShelfItem& a, const ShelfItem& b) {
      return std::tie(a.disc, a.path, a.id) < std::tie(b.disc, b.path, b.id);
    });
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
    return fmt::format("select {} from items where content_key <> '' and {}", kItemColumns, condition);
  };
  std::vector<ShelfItem> gone;
  database_->each(pick("gone_at <> 0"), {}, kItemTypes, [&](const DbRow& row) { gone.push_back(item_of(row)); });
  if (gone.empty()) return moved;
  std::sort(gone.begin(), gone.end(), [](const ShelfItem& a, const ShelfItem& b) { return a.id < b.id; });
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

/// Of a summary: what stands between its strokes, six parts whatever is in it.
std::vector<std::string> parts_of(const std::string& summary) {
  std::vector<std::string> parts(1);
  for (const char c : summary) {
    if (c == '|')
      parts.emplace_back();
    else
      parts.back() += c;
  }
  parts.resize(6);
  return parts;
}

}  // namespace

ShelfStats Shelf::stats(std::int64_t now) const {
  ShelfStats s;
  Database& db = *database_;
  const auto count_of = [](const DbRow& row, std::size_t c) {
    return ShelfCount{"", static_cast<std::uint64_t>(row.number(c)), static_cast<std::uint64_t>(row.number(c + 1)),
                      static_cast<std::uint64_t>(row.number(c + 2))};
  };
  const auto add = [](ShelfCount& to, const ShelfCount& c) {
    to.items += c.items, to.stored_bytes += c.stored_bytes, to.content_bytes += c.content_bytes;
  };
  constexpr const char* kSums = "count(*), cast(sum(stored_bytes) as bigint), cast(sum(content_bytes) as bigint)";
  // In the order of the index, read once: the groups are few, and are summed up here.
  std::map<std::string, ShelfCount> platforms, formats, verdicts, known;
  db.each(fmt::format("select summary, {} from items where gone_at = 0 group by summary", kSums), {}, "tnnn",
          [&](const DbRow& row) {
            const std::vector<std::string> parts = parts_of(row.text(0));
            const ShelfCount c = count_of(row, 1);
            add(s.all, c);
            add(platforms[parts.at(0)], c);
            add(formats[parts.at(1)], c);
            add(verdicts[parts.at(2)], c);
            add(known[parts.at(3)], c);
            if (parts.at(4) != "0") add(s.compressed, c);
            if (parts.at(5) != "0") s.rotten += c.items;
          });
  constexpr std::int64_t kDay = 86'400;
  const std::tuple<const char*, std::int64_t, std::int64_t> ages[] = {{"a week", now - 7 * kDay, INT64_MAX},
                                                                      {"a month", now - 31 * kDay, now - 7 * kDay},
                                                                      {"a year", now - 366 * kDay, now - 31 * kDay},
                                                                      {"longer", 1, now - 366 * kDay},
                                                                      {"never", INT64_MIN, 1}};
  for (const auto& [name, from, until] : ages)
    if (const auto n = db.number(
            "select count(*) from items where checked_at >= :a and checked_at < :b and gone_at = 0", {from, until}))
      s.ages.push_back({name, static_cast<std::uint64_t>(n)});
  const auto sorted = [](const std::map<std::string, ShelfCount>& from, std::vector<ShelfCount>& to) {
    for (const auto& [name, count] : from) to.push_back({name, count.items, count.stored_bytes, count.content_bytes});
    std::stable_sort(to.begin(), to.end(),
                     [](const ShelfCount& a, const ShelfCount& b) { return a.stored_bytes > b.stored_bytes; });
  };
  sorted(platforms, s.platforms);
  sorted(formats, s.formats);
  sorted(verdicts, s.verdicts);
  sorted(known, s.known);
  db.each(fmt::format("select {} from items where gone_at <> 0", kSums), {}, "nnn",
          [&](const DbRow& row) { s.gone = count_of(row, 0); });
  db.each(fmt::format(
              "select count(*), coalesce(sum(gap), 0) from (select case when {} then 1 else 0 end as gap from items "
              "where gone_at = 0 and set_name <> '' group by platform, set_name) s",
              kHasGap),
          {}, "nn", [&](const DbRow& row) {
            s.sets = static_cast<std::uint64_t>(row.number(0));
            s.incomplete_sets = static_cast<std::uint64_t>(row.number(1));
          });
  s.hosts = static_cast<std::uint64_t>(db.number("select count(distinct host) from folders", {}));
  return s;
}

}  // namespace opifex
