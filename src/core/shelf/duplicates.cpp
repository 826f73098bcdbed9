// Copies of one content: which one to keep, and what removing the others gives back.
#include <algorithm>
#include <map>
#include <set>
#include <span>
#include <tuple>
#include <unordered_map>

#include <fmt/ranges.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/shelf/shelf.hpp"

#include "database.hpp"
#include "item_rows.hpp"

namespace opifex {

namespace {

bool is_known(const ShelfItem& i) {
  return i.known == "known" || i.known == "renamed" || i.known == "extra" || i.known == "duplicate";
}

std::int64_t rank_of_verdict(const ShelfItem& i) {
  if (i.verdict == "unsupported") return i.is_sound() ? 1 : 4;
  constexpr std::string_view kBest[] = {"intact", "", "repairable", "damaged", "", "incomplete"};
  const auto* const at = std::find(std::begin(kBest), std::end(kBest), i.verdict);
  return at - std::begin(kBest);
}

/// Why one copy is better than another, from what counts most.
struct Reason {
  const char* words;
  std::int64_t (*worth)(const ShelfItem& item);  // less is better
};
const Reason kReasons[] = {
    {"better by its check", [](const ShelfItem& i) -> std::int64_t { return rank_of_verdict(i); }},
    {"complete", [](const ShelfItem& i) -> std::int64_t { return i.complete ? 0 : 1; }},
    {"the whole disc", [](const ShelfItem& i) -> std::int64_t { return i.state.empty() ? 0 : 1; }},
    {"with its header",
     [](const ShelfItem& i) -> std::int64_t {
       return i.game_key.starts_with("rom:") && i.content_key != i.game_key ? 0 : 1;
     }},
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

std::string key_of(const ShelfItem& i) { return i.game_key.empty() ? i.content_key : i.game_key; }

std::vector<ShelfCopies> copies_in(Database& database) {
  std::vector<ShelfCopies> all;
  std::unordered_map<std::string, std::size_t> by_key;
  // The groups are found in the index alone; cross join: they come first.
  database.each(
      fmt::format("select {} from (select same_key as doubled from items where same_key <> '' and gone_at = 0 and "
                  "rotten = 0 group by same_key having count(*) > 1) g cross join items where same_key = doubled "
                  "and same_key <> '' and gone_at = 0 and rotten = 0",
                  kItemColumns),
      {}, kItemTypes, [&](const DbRow& row) {
        ShelfItem item = item_of(row);
        const auto [at, is_new] = by_key.try_emplace(key_of(item), all.size());
        if (is_new) all.emplace_back();
        all[at->second].copies.push_back(std::move(item));
      });
  return all;
}

/// One file of the computers, under however many names: removing one of two hard links gives nothing back.
struct Holding {
  std::uint64_t size_bytes = 0;
  std::string host;
  std::set<std::string> names;
  std::set<std::int64_t> items;
};

/// In which files items lie, and what else lies in those.
class Holdings {
 public:
  void read(Database& database, const std::vector<std::int64_t>& items) {
    constexpr std::size_t kAtOnce = 500;
    for (std::size_t from = 0; from < items.size(); from += kAtOnce) {
      const auto some = std::span(items).subspan(from, std::min(kAtOnce, items.size() - from));
      const std::string its = fmt::format("select file_id from item_files where item_id in ({})", fmt::join(some, ","));
      // Whatever else lies in the same files, also under other names of them (hard links).
      take(database, fmt::format("f.inode = 0 and i.file_id in ({})", its));
      take(database, fmt::format("f.inode in (select inode from files where inode <> 0 and id in ({}))", its));
    }
  }
  const std::vector<const Holding*>& of(std::int64_t item) { return of_item_[item]; }

 private:
  void take(Database& database, const std::string& condition) {
    database.each(
        fmt::format(
            "select f.host, f.path, f.size_bytes, f.inode, f.device, i.item_id from item_files i join files f on f.id "
            "= i.file_id join items t on t.id = i.item_id where t.gone_at = 0 and {}",
            condition),
        {}, "ttnnnn", [&](const DbRow& row) {
          const auto inode = static_cast<std::uint64_t>(row.number(3)),
                     device = static_cast<std::uint64_t>(row.number(4));
          Holding& h = holdings_[{row.text(0), device, inode, inode == 0 ? row.text(1) : ""}];
          h.host = row.text(0);
          h.names.insert(row.text(1));
          h.size_bytes = static_cast<std::uint64_t>(row.number(2));
          if (h.items.insert(row.number(5)).second) of_item_[row.number(5)].push_back(&h);
        });
  }

  std::map<std::tuple<std::string, std::uint64_t, std::uint64_t, std::string>, Holding> holdings_;
  std::unordered_map<std::int64_t, std::vector<const Holding*>> of_item_;
};

}  // namespace

std::vector<ShelfCopies> Shelf::duplicates() const {
  std::vector<ShelfCopies> all = copies_in(*database_);
  Holdings holdings;
  std::vector<std::int64_t> ids;
  for (const ShelfCopies& c : all)
    for (const ShelfItem& item : c.copies) ids.push_back(item.id);
  holdings.read(*database_, ids);

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
      bool bound = holdings.of(id).empty();
      for (const Holding* h : holdings.of(id)) {
        const bool only = std::includes(removed.begin(), removed.end(), h->items.begin(), h->items.end());
        if (only) freed.insert(h);
        bound = bound || !only;
      }
      if (bound) c.bound.push_back(id);
    }
    for (const Holding* h : freed) {
      c.freed_bytes += h->size_bytes;
      c.freed.push_back({h->host, *h->names.begin(), h->size_bytes, h->names.size()});
    }
  }
  std::stable_sort(all.begin(), all.end(),
                   [](const ShelfCopies& a, const ShelfCopies& b) { return a.freed_bytes > b.freed_bytes; });
  return all;
}

}  // namespace opifex
