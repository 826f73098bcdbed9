#include "schema.hpp"

#include <functional>
#include <string>
#include <vector>

#include <fmt/format.h>

#include "opifex/core/base/error.hpp"

#include "database.hpp"
#include "item_rows.hpp"

namespace opifex {

namespace {

void run_all(Database& database, const std::vector<const char*>& commands) {
  for (const char* command : commands) database.command(command);
}

// Version 1: items, files, hashes. A path may be longer than any index takes: files and items are unique by the hash of
// where they lie, and looked for by what a path begins with.
void make_tables(Database& database) {
  run_all(
      database,
      {"create table opifex_shelf (name {text} primary key, value {text})",
       "create table folders (id {id}, place_key {text} unique, host {text}, path {text}, scanned_at {int})",
       "create table files (id {id}, place_key {text} unique, host {text}, path {text}, size_bytes {int}, "
       "modified_ns {int}, inode {int}, device {int}, other {int})",
       "create table items (id {id}, place_key {text} unique, host {text}, path {text}, inside {text}, kind {text}, "
       "format {text}, archive {text}, platform {text}, title {text}, serial {text}, region {text}, disc {int}, "
       "discs {int}, set_name {text}, verdict {text}, remark {text}, state {text}, complete {int}, compressed {int}, "
       "rotten {int}, stored_bytes {int}, content_bytes {int}, content_key {text}, same_key {text}, game_key {text}, "
       "known {text}, known_list {text}, known_set {text}, added_at {int}, checked_at {int}, gone_at {int}, "
       // Sums are made of groups of equal ones: of one column that is half of the work.
       "summary {text_only} generated always as (platform || '|' || format || '|' || verdict || '|' || known || '|' || "
       "cast(compressed as text) || '|' || cast(rotten as text)) stored)",
       "create table item_files (item_id {int} references items (id) on delete cascade, number {int}, "
       "file_id {int} references files (id) on delete cascade, primary key (item_id, number))",
       "create table contents (item_id {int} references items (id) on delete cascade, number {int}, kind {int}, "
       "path {text}, through {text}, parts {text}, disk {int}, merged {int}, sheet {int}, size_bytes {int}, "
       "crc32 {text}, md5 {text}, sha1 {text}, primary key (item_id, number))",
       "create index files_by_path on files (substr(path, 1, 200))",
       "create index files_by_inode on files (inode, device)",
       "create index items_by_path on items (substr(path, 1, 200))",
       "create index items_by_title on items (platform, title, disc, gone_at) where gone_at = 0",
       // What lists are filtered by and sums are made of, without the rows themselves.
       "create index items_overview on items (platform, format, verdict, known, compressed, rotten, region, "
       "checked_at, "
       "stored_bytes, content_bytes, host, gone_at) where gone_at = 0",
       "create index items_by_content on items (same_key, gone_at, rotten) where same_key <> '' and gone_at = 0 and "
       "rotten = 0",
       "create index items_by_summary on items (summary, stored_bytes, content_bytes, gone_at) where gone_at = 0",
       "create index items_by_check on items (checked_at, gone_at) where gone_at = 0",
       "create index items_by_set on items (platform, set_name, disc, discs, gone_at) where set_name <> '' and gone_at "
       "= 0",
       "create index items_gone on items (gone_at, content_key, stored_bytes, content_bytes) where gone_at <> 0",
       "create index contents_by_size on contents (size_bytes)",
       "create index item_files_by_file on item_files (file_id)"});
}

// Version 2: items are found by the beginnings of words.
void add_words(Database& database) {
  run_all(database, {"create table item_words (word {text}, item_id {int} references items (id) on delete cascade, "
                     "primary key (word, item_id)) {by_key}",
                     "create index item_words_by_item on item_words (item_id)"});
  std::vector<ShelfItem> items;
  database.each(fmt::format("select {} from items", kItemColumns), {}, kItemTypes,
                [&](const DbRow& row) { items.push_back(item_of(row)); });
  for (const ShelfItem& item : items) put_words(database, item);
}

// Version 3: the largest items are found without looking at all of them.
void add_sizes(Database& database) {
  run_all(database, {"create index items_by_size on items (stored_bytes, id, known, gone_at) where gone_at = 0"});
}

using Step = void (*)(Database&);
constexpr Step kSteps[kShelfVersion] = {make_tables, add_words, add_sizes};

bool has_table(Database& database, const std::string& name) {
  const char* sql = database.is_server()
                        ? "select count(*) from information_schema.tables where table_schema = current_schema() and "
                          "table_name = :a"
                        : "select count(*) from sqlite_master where type = 'table' and name = :a";
  return database.number(sql, {name}) > 0;
}

bool has_any_table(Database& database) {
  return !database.is_server() && database.number("select count(*) from sqlite_master where type = 'table'", {}) > 0;
}

int version_of(Database& database) {
  if (!has_table(database, "opifex_shelf")) return 0;
  std::int64_t version = -1;
  database.each("select value from opifex_shelf where name = 'version'", {}, "t", [&](const DbRow& row) {
    const std::string& text = row.text(0);
    const bool number = !text.empty() && text.size() < 9 && text.find_first_not_of("0123456789") == std::string::npos;
    version = number ? std::stoi(text) : -1;
  });
  if (version > 0) return static_cast<int>(version);
  throw Error({.code = "shelf_damaged",
               .what = "the shelf does not say of which version it is",
               .file = database.name(),
               .hint = "bring back a copy of it, or make a new one: no image is touched by that"});
}

void refuse_newer(const Database& database, int version) {
  if (version <= kShelfVersion) return;
  throw Error({.code = "shelf_newer",
               .what = "a later version of this program has made the shelf",
               .file = database.name(),
               .found = fmt::format("version {}", version),
               .expected = fmt::format("at most {}", kShelfVersion),
               .hint = "use that program, or another shelf with <at>"});
}

}  // namespace

void migrate(Database& database, int version) {
  const int before = version_of(database);
  refuse_newer(database, before);
  if (before >= version) return;
  if (before == 0 && has_any_table(database))
    throw Error({.code = "not_a_shelf",
                 .what = "this is the database of another program",
                 .file = database.name(),
                 .hint = "name another file with <at>; nothing was written"});
  database.transaction([&] {
    // Another one may have done it while this one waited.
    const int now = version_of(database);
    refuse_newer(database, now);
    for (int step = now; step < version; ++step) kSteps[step](database);
    if (now == 0)
      database.change("insert into opifex_shelf (name, value) values ('version', :a)", {std::to_string(version)});
    else
      database.change("update opifex_shelf set value = :a where name = 'version'", {std::to_string(version)});
  });
}

}  // namespace opifex
