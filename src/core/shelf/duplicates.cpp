// Copies of one content: which one to keep, and what removing the others gives back.
#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include "opifex/core/base/text.hpp"
#include "opifex/core/shelf/shelf.hpp"

#include "database.hpp"
#include "item_rows.hpp"

namespace opifex {

namespace {

bool is_known(const ShelfItem& i) {
  return i.known == "known" || i.known == "renamed" || i.known == "extra" || i.known == "duplicate";
}

int rank_of_verdict(const std::string& verdict) {
  constexpr std::string_view kBest[] = {"intact", "unsupported", "repairable", "damaged", "incomplete"};
  const auto* const at = std::find(std::begin(kBest), std::end(kBest), verdict);
  return static_cast<int>(at - std::begin(kBest));
}

/// Why one copy is better than another, from what counts most.
struct Reason {
  const char* words;
  std::int64_t (*worth)(const ShelfItem& item);  // less is better
};
const Reason kReasons[] = {
    {"better by its check", [](const ShelfItem& i) -> std::int64_t { return rank_of_verdict(i.verdict); }},
    {"complete", [](const ShelfItem& i) -> std::int64_t { return i.complete ? 0 : 1; }},
    {"the whole disc", [](const ShelfItem& i) -> std::int64_t { return i.state.empty() ? 0 : 1; }},
    {"known", [](const ShelfItem& i) -> std::int64_t { return is_known(i) ? 0 : 1; }},
    {"not in an archive", [](const ShelfItem& i) -> std::int64_t { return i.archive.empty() ? 0 : 1; }},
    {"smaller", [](const ShelfItem& i) { return static_cast<std::int64_t>(i.stored_bytes); }},
    {"checked later", [](const ShelfItem& i) { return -i.checked_at; }},
    {"added first", [](const ShelfItem& i) { return i.id; }}};

const Reason* first_difference(const ShelfItem& a, const ShelfItem& b) {
  for (const Reason& r : kReasons)
    if (r.worth(a) != r.worth(b)) return &r;
  return nullptr;
}

bool is_better(const ShelfItem& a, const ShelfItem& b) {
  const Reason* r = first_difference(a, b);
  return r && r->worth(a) < r->worth(b);
}

/// One file of the computers, under however many names: removing one of two hard links gives nothing back.
struct Holding {
  std::uint64_t size_bytes = 0;
  std::set<std::int64_t> items;
};

}  // namespace

std::vector<ShelfCopies> Shelf::duplicates() const {
  constexpr const char* kDoubled =
      "select same_key from items where same_key <> '' and gone_at = 0 and rotten = 0 group by same_key having "
      "count(*) > 1";
  std::vector<ShelfCopies> all;
  std::string key;
  const auto key_of = [](const ShelfItem& i) { return i.game_key.empty() ? i.content_key : i.game_key; };
  database_->each(
      fmt::format("select {} from items where gone_at = 0 and rotten = 0 and same_key in ({}) order by same_key, id",
                  kItemColumns, kDoubled),
      {}, kItemTypes, [&](const DbRow& row) {
        ShelfItem item = item_of(row);
        if (all.empty() || key_of(item) != key) all.emplace_back();
        key = key_of(item);
        all.back().copies.push_back(std::move(item));
      });

  // Who else lies in the same files.
  std::map<std::tuple<std::string, std::uint64_t, std::uint64_t, std::string>, Holding> holdings;
  std::map<std::int64_t, std::vector<const Holding*>> of_item;
  // A file under another name is the same file (hard links): by device and inode, where those are known.
  database_->each(
      fmt::format(
          "with used as (select distinct d.id, d.host, d.device, d.inode from items s join item_files x on x.item_id "
          "= s.id join files d on d.id = x.file_id where s.gone_at = 0 and s.rotten = 0 and s.same_key in ({})), "
          "alike as (select f.id from used u join files f on f.inode = u.inode and f.device = u.device and f.host = "
          "u.host where u.inode <> 0 union select id from used) select f.host, f.path, f.size_bytes, f.inode, "
          "f.device, i.item_id from alike a join files f on f.id = a.id join item_files i on i.file_id = f.id join "
          "items t on t.id = i.item_id where t.gone_at = 0",
          kDoubled),
      {}, "ttnnnn", [&](const DbRow& row) {
        const auto inode = static_cast<std::uint64_t>(row.number(3)),
                   device = static_cast<std::uint64_t>(row.number(4));
        Holding& h = holdings[{row.text(0), device, inode, inode == 0 ? row.text(1) : ""}];
        h.size_bytes = static_cast<std::uint64_t>(row.number(2));
        h.items.insert(row.number(5));
        of_item[row.number(5)].push_back(&h);
      });

  for (ShelfCopies& c : all) {
    std::stable_sort(c.copies.begin(), c.copies.end(), is_better);
    const ShelfItem& best = c.copies.front();
    std::set<std::int64_t> removed;
    for (std::size_t i = 1; i < c.copies.size(); ++i) {
      const Reason* r = first_difference(best, c.copies[i]);
      c.against.emplace_back(r ? r->words : "");
      removed.insert(c.copies[i].id);
    }
    c.why = c.against.front();
    c.same_bytes = std::all_of(c.copies.begin(), c.copies.end(), [&](const ShelfItem& i) {
      return !i.content_key.empty() && i.content_key == best.content_key;
    });
    std::set<const Holding*> freed;
    for (const std::int64_t id : removed) {
      bool bound = of_item[id].empty();
      for (const Holding* h : of_item[id]) {
        const bool only = std::includes(removed.begin(), removed.end(), h->items.begin(), h->items.end());
        if (only) freed.insert(h);
        bound = bound || !only;
      }
      if (bound) c.bound.push_back(id);
    }
    for (const Holding* h : freed) c.freed_bytes += h->size_bytes;
  }
  std::stable_sort(all.begin(), all.end(),
                   [](const ShelfCopies& a, const ShelfCopies& b) { return a.freed_bytes > b.freed_bytes; });
  return all;
}

}  // namespace opifex
