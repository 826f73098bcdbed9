#include "opifex/core/shelf/shelf.hpp"

#include <algorithm>
#include <set>

#include <fmt/ranges.h>

#include "opifex/core/base/error.hpp"

#include "database.hpp"
#include "item_rows.hpp"
#include "schema.hpp"

namespace opifex {

Shelf::Shelf(const std::string& at, Opening how)
    : database_(std::make_unique<Database>(at, how == Opening::create ? DbOpening::create : DbOpening::existing)) {
  migrate(*database_);
}

Shelf::~Shelf() = default;

const std::string& Shelf::name() const { return database_->name(); }

void Shelf::require_sound() const { database_->require_sound(); }

std::vector<ShelfFolder> Shelf::folders() const {
  std::vector<ShelfFolder> folders;
  database_->each("select host, path, scanned_at from folders order by host, path", {}, "ttn", [&](const DbRow& row) {
    folders.push_back({row.text(0), row.text(1), row.number(2)});
  });
  return folders;
}

void Shelf::add_folder(const ShelfFolder& folder) {
  database_->transaction([&] {
    database_->change(
        "insert into folders (place_key, host, path, scanned_at) values (:a, :b, :c, :d) on conflict (place_key) do "
        "update set scanned_at = excluded.scanned_at",
        {place_key(folder.host, folder.path), folder.host, folder.path, folder.scanned_at});
  });
}

void Shelf::forget_folder(const std::string& host, const std::string& path) {
  database_->transaction([&] {
    for (const ShelfFolder& f : folders())
      if (f.host == host && lies_at_or_below(f.path, path))
        database_->change("delete from folders where place_key = :a", {place_key(f.host, f.path)});
  });
}

std::vector<ShelfStanding> Shelf::standing(const std::string& host, const std::string& path) const {
  const auto [first, last] = path_bounds(path);
  std::vector<ShelfStanding> files;
  std::int64_t last_id = 0;
  database_->each(
      fmt::format(
          "select f.id, {}, coalesce(i.item_id, 0) from files f left join item_files i on i.file_id = f.id where "
          "f.host = :a and substr(f.path, 1, 200) >= substr(:b, 1, 200) and substr(f.path, 1, 200) <= "
          "substr(:c, 1, 200) order by f.id",
          kFileColumns),
      {host, first, last}, fmt::format("n{}n", kFileTypes), [&](const DbRow& row) {
        if (!lies_at_or_below(row.text(1), path)) return;
        if (row.number(0) != last_id) files.push_back({file_of(row, 1), {}});
        last_id = row.number(0);
        if (const std::int64_t item = row.number(7); item != 0) files.back().items.push_back(item);
      });
  return files;
}

std::vector<ShelfItem> Shelf::items_below(const std::string& host, const std::string& path) const {
  return list({.host = host, .gone = ShelfFilter::Gone::any, .below = path});
}

namespace {

void delete_item(Database& database, std::int64_t id) {
  std::vector<std::int64_t> files;
  database.each("select file_id from item_files where item_id = :a", {id}, "n",
                [&](const DbRow& row) { files.push_back(row.number(0)); });
  database.change("delete from items where id = :a", {id});
  drop_unused_files(database, files);
}

/// Names may be swapped: each goes out of the way first.
void move_files(Database& database, const std::string& host,
                const std::vector<std::pair<std::string, ShelfFile>>& moved) {
  for (const auto& [from, to] : moved) {
    const std::string key = place_key(host, from);
    database.change("update files set place_key = :a where place_key = :b", {"moving " + key, key});
  }
  for (const auto& [from, to] : moved) {
    const std::string key = place_key(host, to.path);
    database.change("delete from files where place_key = :a", {key});
    database.change(
        "update files set place_key = :a, path = :b, size_bytes = :c, modified_ns = :d, inode = :e, device = :f where "
        "place_key = :g",
        {key, to.path, static_cast<std::int64_t>(to.size_bytes), to.modified_ns, static_cast<std::int64_t>(to.inode),
         static_cast<std::int64_t>(to.device), "moving " + place_key(host, from)});
  }
}

void rename_items(Database& database, std::vector<ShelfItem>& renamed) {
  for (const ShelfItem& item : renamed)
    database.change("update items set place_key = :a where id = :b", {fmt::format("moving {}", item.id), item.id});
  for (ShelfItem& item : renamed) {
    const std::string key = place_key(item.host, item.path, item.inside);
    // Whatever had the name before was overwritten, or is one of these.
    database.change("delete from items where place_key = :a", {key});
    database.change("update items set place_key = :a, path = :b where id = :c", {key, item.path, item.id});
    put_item(database, item);
  }
}

}  // namespace

void Shelf::apply(Change& change, const std::string& host, std::int64_t now) {
  Database& db = *database_;
  const auto set_each = [&](const std::vector<std::int64_t>& ids, const char* what, const DbValues& values) {
    for (const std::int64_t id : ids) {
      DbValues all = values;
      all.emplace_back(id);
      db.change(fmt::format("update items set {} where id = :z", what), all);
    }
  };
  db.transaction([&] {
    // Old names first: a new item may have one of them.
    for (const std::int64_t id : change.forget) delete_item(db, id);
    move_files(db, host, change.moved);
    rename_items(db, change.renamed);
    for (ShelfItem& item : change.put) put_item(db, item);
    for (const ShelfFile& file : change.others) put_file(db, host, file);
    set_each(change.gone, "gone_at = :a", {now});
    set_each(change.back, "gone_at = 0", {});
    set_each(change.checked, "checked_at = :a, rotten = 0", {now});
    for (const auto& [id, why] : change.rotten)
      db.change("update items set checked_at = :a, rotten = 1, remark = :b where id = :c", {now, why, id});
    if (change.others_not_known)
      db.change(
          "update items set known = 'not_known', known_list = '', known_set = '' where gone_at = 0 and known <> "
          "'not_known'",
          {});
    for (const Change::Known& k : change.known)
      db.change("update items set known = :a, known_list = :b, known_set = :c where id = :d",
                {k.verdict, k.list, k.set, k.id});
    for (const std::string& path : change.lost_files)
      db.change(
          "delete from files where place_key = :a and not exists (select 1 from item_files where file_id = files.id)",
          {place_key(host, path)});
  });
}

void Shelf::add_details(std::vector<ShelfItem>& items) const {
  constexpr std::size_t kAtOnce = 200;
  for (std::size_t from = 0; from < items.size(); from += kAtOnce) {
    const auto some = std::span(items).subspan(from, std::min(kAtOnce, items.size() - from));
    std::map<std::int64_t, std::vector<ShelfItem*>> by_id;
    for (ShelfItem& item : some) {
      item.files.clear();
      item.contents.clear();
      by_id[item.id].push_back(&item);
    }
    std::vector<std::int64_t> ids;
    for (const auto& [id, its] : by_id) ids.push_back(id);
    const auto each_of = [&](std::int64_t id, const auto& action) {
      for (ShelfItem* item : by_id[id]) action(*item);
    };
    database_->each(
        fmt::format("select i.item_id, {} from item_files i join files f on f.id = i.file_id where i.item_id "
                    "in ({}) order by i.item_id, i.number",
                    kFileColumns, fmt::join(ids, ",")),
        {}, fmt::format("n{}", kFileTypes), [&](const DbRow& row) {
          each_of(row.number(0), [&](ShelfItem& item) { item.files.push_back(file_of(row, 1)); });
        });
    database_->each(
        fmt::format("select c.item_id, {} from contents c where c.item_id in ({}) order by c.item_id, c.number",
                    kContentColumns, fmt::join(ids, ",")),
        {}, fmt::format("n{}", kContentTypes), [&](const DbRow& row) {
          each_of(row.number(0), [&](ShelfItem& item) { item.contents.push_back(content_of(row, 1)); });
        });
  }
}

std::optional<ShelfItem> Shelf::item(std::int64_t id) const {
  std::vector<ShelfItem> found = list({.gone = ShelfFilter::Gone::any, .ids = {id}});
  if (found.empty()) return std::nullopt;
  add_details(found);
  return std::move(found.front());
}

std::vector<std::int64_t> Shelf::ids_of_sums(const std::vector<std::uint64_t>& sizes) const {
  std::vector<std::int64_t> ids;
  if (sizes.empty()) return ids;
  const std::set<std::uint64_t> wanted(sizes.begin(), sizes.end());
  // Files without the sheet, or the tracks in a container.
  database_->each(
      "select c.item_id, cast(sum(c.size_bytes) as bigint) from contents c join items i on i.id = c.item_id where "
      "i.gone_at "
      "= 0 and i.rotten = 0 and ((c.kind = 2 and c.merged = 0) or (c.kind = 0 and c.sheet = 0)) group by c.item_id, "
      "c.kind "
      "having count(*) > 1",
      {}, "nn", [&](const DbRow& row) {
        if (wanted.contains(static_cast<std::uint64_t>(row.number(1)))) ids.push_back(row.number(0));
      });
  return ids;
}

std::vector<std::int64_t> Shelf::rotten_ids() const {
  std::vector<std::int64_t> ids;
  database_->each("select id from items where rotten = 1", {}, "n",
                  [&](const DbRow& row) { ids.push_back(row.number(0)); });
  return ids;
}

std::vector<std::int64_t> Shelf::ids_of_sizes(const std::vector<std::uint64_t>& sizes) const {
  std::vector<std::int64_t> ids;
  const auto take = [&](const DbRow& row) { ids.push_back(row.number(0)); };
  constexpr std::size_t kMost = 20'000;  // beyond that reading all of them is quicker
  if (sizes.empty() || sizes.size() > kMost) {
    database_->each("select id from items where gone_at = 0 and rotten = 0 order by id", {}, "n", take);
    return ids;
  }
  constexpr std::size_t kAtOnce = 500;
  for (std::size_t from = 0; from < sizes.size(); from += kAtOnce) {
    std::vector<std::int64_t> some;
    for (std::size_t i = from; i < std::min(from + kAtOnce, sizes.size()); ++i)
      some.push_back(static_cast<std::int64_t>(sizes[i]));
    database_->each(
        fmt::format("select distinct i.id from contents c join items i on i.id = c.item_id where c.size_bytes in "
                    "({}) and i.gone_at = 0 and i.rotten = 0",
                    fmt::join(some, ",")),
        {}, "n", take);
  }
  std::sort(ids.begin(), ids.end());
  ids.erase(std::unique(ids.begin(), ids.end()), ids.end());
  return ids;
}

}  // namespace opifex
