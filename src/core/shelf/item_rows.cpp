#include "item_rows.hpp"

#include <charconv>

#include <fmt/ranges.h>

#include "opifex/core/base/hash.hpp"

#include "plain_text.hpp"
#include "words.hpp"

namespace opifex {

namespace {

std::int64_t as_signed(std::uint64_t n) { return static_cast<std::int64_t>(n); }  // inodes may have all 64 bits
std::uint64_t as_unsigned(std::int64_t n) { return static_cast<std::uint64_t>(n); }

std::vector<std::uint32_t> numbers_in(const std::string& text) {
  std::vector<std::uint32_t> numbers;
  const char* at = text.data();
  const char* const end = at + text.size();
  while (at < end) {
    std::uint32_t n = 0;
    const auto [next, error] = std::from_chars(at, end, n);
    if (error != std::errc()) break;
    numbers.push_back(n);
    at = next == end ? end : next + 1;
  }
  return numbers;
}

void put_children(Database& database, const ShelfItem& item) {
  for (std::size_t i = 0; i < item.files.size(); ++i)
    database.change("insert into item_files (item_id, number, file_id) values (:a, :b, :c)",
                    {item.id, static_cast<std::int64_t>(i), put_file(database, item.host, item.files[i])});
  for (std::size_t i = 0; i < item.contents.size(); ++i) {
    const ShelfContent& c = item.contents[i];
    database.change(
        "insert into contents (item_id, number, kind, path, through, parts, disk, merged, sheet, size_bytes, crc32, "
        "md5, sha1) values (:a, :b, :c, :d, :e, :f, :g, :h, :i, :j, :k, :l, :m)",
        {item.id, static_cast<std::int64_t>(i), static_cast<std::int64_t>(c.kind), c.path, c.through,
         fmt::format("{}", fmt::join(c.of, ",")), std::int64_t{c.disk}, std::int64_t{c.merged}, std::int64_t{c.sheet},
         as_signed(c.size_bytes), c.crc32, c.md5, c.sha1});
  }
}

}  // namespace

std::string place_of(const ShelfItem& item) {
  if (item.inside.empty()) return item.path;
  return item.archive.empty() ? item.path + " (" + item.inside + ")" : item.path + "!" + item.inside;
}

ShelfItem item_of(const DbRow& row) {
  ShelfItem i;
  i.id = row.number(0);
  std::size_t c = 1;
  for (std::string* text :
       {&i.host, &i.path, &i.inside, &i.kind, &i.format, &i.archive, &i.platform, &i.title, &i.serial, &i.region})
    *text = row.text(c++);
  i.disc = static_cast<int>(row.number(c++));
  i.discs = static_cast<int>(row.number(c++));
  for (std::string* text : {&i.set, &i.verdict, &i.remark, &i.state}) *text = row.text(c++);
  for (bool* flag : {&i.complete, &i.compressed, &i.rotten}) *flag = row.number(c++) != 0;
  i.stored_bytes = as_unsigned(row.number(c++));
  i.content_bytes = as_unsigned(row.number(c++));
  for (std::string* text : {&i.content_key, &i.game_key, &i.known, &i.known_list, &i.known_set}) *text = row.text(c++);
  for (std::int64_t* time : {&i.added_at, &i.checked_at, &i.gone_at}) *time = row.number(c++);
  return i;
}

ShelfFile file_of(const DbRow& row, std::size_t c) {
  return {.path = row.text(c),
          .size_bytes = as_unsigned(row.number(c + 1)),
          .modified_ns = row.number(c + 2),
          .inode = as_unsigned(row.number(c + 3)),
          .device = as_unsigned(row.number(c + 4)),
          .other = row.number(c + 5) != 0};
}

ShelfContent content_of(const DbRow& row, std::size_t c) {
  return {.kind = static_cast<ShelfContent::Kind>(row.number(c)),
          .path = row.text(c + 1),
          .through = row.text(c + 2),
          .of = numbers_in(row.text(c + 3)),
          .disk = row.number(c + 4) != 0,
          .merged = row.number(c + 5) != 0,
          .sheet = row.number(c + 6) != 0,
          .size_bytes = as_unsigned(row.number(c + 7)),
          .crc32 = row.text(c + 8),
          .md5 = row.text(c + 9),
          .sha1 = row.text(c + 10)};
}

std::string place_key(std::string_view host, std::string_view path, std::string_view inside) {
  Digest digest("sha1");
  for (const std::string_view part : {host, path, inside}) {
    digest.update(as_view(part));
    digest.update_zeros(1);  // which no name can have in it
  }
  return digest.finish();
}

std::int64_t put_file(Database& database, const std::string& host, const ShelfFile& file) {
  return database.number(
      "insert into files (place_key, host, path, size_bytes, modified_ns, inode, device, other) values (:a, :b, :c, "
      ":d, :e, :f, :g, :h) on conflict (place_key) do update set size_bytes = excluded.size_bytes, modified_ns = "
      "excluded.modified_ns, inode = excluded.inode, device = excluded.device, other = excluded.other returning id",
      {place_key(host, file.path), host, file.path, as_signed(file.size_bytes), file.modified_ns, as_signed(file.inode),
       as_signed(file.device), std::int64_t{file.other}});
}

void put_words(Database& database, const ShelfItem& item) {
  // What matters most first: of very many words some are left out.
  for (const std::string& word :
       index_words({item.title, item.serial, item.set, item.known_set, item.inside, item.path}))
    database.change("insert into item_words (word, item_id) values (:a, :b)", {word, item.id});
}

void drop_unused_files(Database& database, const std::vector<std::int64_t>& files) {
  for (const std::int64_t file : files)
    database.change("delete from files where id = :a and not exists (select 1 from item_files where file_id = :b)",
                    {file, file});
}

void put_item(Database& database, ShelfItem& i) {
  const std::string key = i.game_key.empty() ? i.content_key : i.game_key;
  // What was added once keeps its number and its day.
  i.id = database.number(
      "insert into items (place_key, host, path, inside, kind, format, archive, platform, title, serial, region, disc, "
      "discs, set_name, verdict, remark, state, complete, compressed, rotten, stored_bytes, content_bytes, "
      "content_key, "
      "game_key, same_key, known, known_list, known_set, added_at, checked_at, gone_at) values (:a, :b, :c, :d, :e, "
      ":f, "
      ":g, :h, :i, :j, :k, :l, :m, :n, :o, :p, :q, :r, :s, :t, :u, :v, :w, :x, :y, :z, :aa, :bb, :cc, :dd, :ee) on "
      "conflict (place_key) do update set kind = excluded.kind, format = excluded.format, archive = excluded.archive, "
      "platform = excluded.platform, title = excluded.title, serial = excluded.serial, region = excluded.region, disc "
      "= "
      "excluded.disc, discs = excluded.discs, set_name = excluded.set_name, verdict = excluded.verdict, remark = "
      "excluded.remark, state = excluded.state, complete = excluded.complete, compressed = excluded.compressed, rotten "
      "= excluded.rotten, stored_bytes = excluded.stored_bytes, content_bytes = excluded.content_bytes, content_key = "
      "excluded.content_key, game_key = excluded.game_key, same_key = excluded.same_key, known = excluded.known, "
      "known_list = excluded.known_list, known_set = excluded.known_set, checked_at = excluded.checked_at, gone_at = "
      "excluded.gone_at returning id",
      {place_key(i.host, i.path, i.inside),
       i.host,
       i.path,
       i.inside,
       i.kind,
       i.format,
       i.archive,
       i.platform,
       i.title,
       i.serial,
       i.region,
       std::int64_t{i.disc},
       std::int64_t{i.discs},
       i.set,
       i.verdict,
       i.remark,
       i.state,
       std::int64_t{i.complete},
       std::int64_t{i.compressed},
       std::int64_t{i.rotten},
       as_signed(i.stored_bytes),
       as_signed(i.content_bytes),
       i.content_key,
       i.game_key,
       key,
       i.known,
       i.known_list,
       i.known_set,
       i.added_at,
       i.checked_at,
       i.gone_at});
  std::vector<std::int64_t> before;
  database.each("select file_id from item_files where item_id = :a", {i.id}, "n",
                [&](const DbRow& row) { before.push_back(row.number(0)); });
  for (const char* table : {"item_files", "contents", "item_words"})
    database.change(fmt::format("delete from {} where item_id = :a", table), {i.id});
  put_children(database, i);
  put_words(database, i);
  drop_unused_files(database, before);
}

std::pair<std::string, std::string> path_bounds(const std::string& path) {
  return {path, path + "\xF4\x8F\xBF\xBF"};  // the last character there is
}

bool lies_at_or_below(std::string_view what, std::string_view path) {
  if (path == "/") return what.starts_with('/');
  return what.starts_with(path) && (what.size() == path.size() || what[path.size()] == '/');
}

}  // namespace opifex
