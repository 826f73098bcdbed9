// What known lists know of a shelf, by the hashes that it has: no image is read.
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/lists.hpp"

#include "shelf_files.hpp"
#include "shelf_item.hpp"
#include "shelf_parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

/// Sizes of all entries; empty: some entry has none, and anything may be it.
std::vector<std::uint64_t> sizes_in(const std::vector<KnownListPtr>& lists) {
  std::vector<std::uint64_t> sizes;
  for (const KnownListPtr& list : lists) {
    for (const ListedEntry& e : list->entries) {
      // A CHD is known by what its header says it holds.
      if (e.size_bytes == kUnknownSize || e.kind != ListedKind::rom) return {};
      sizes.push_back(e.size_bytes);
    }
  }
  std::sort(sizes.begin(), sizes.end());
  sizes.erase(std::unique(sizes.begin(), sizes.end()), sizes.end());
  return sizes;
}

void tell_stale(std::uint64_t stale, Listener& listener) {
  if (stale == 0) return;
  listener.message(
      {"stale",
       fmt::format("{} {} not as {} recorded: nobody asked for {}", plural(stale, "item"), stale == 1 ? "is" : "are",
                   stale == 1 ? "it is" : "they are", stale == 1 ? "it" : "them"),
       "<job shelf> add reads what has changed"});
}

/// Entries with no hash that a shelf has: they stay missing, whatever is there.
void tell_uncomparable(const KnownList& list, Listener& listener) {
  const auto other_only =
      static_cast<std::uint64_t>(std::count_if(list.entries.begin(), list.entries.end(), [&](const ListedEntry& e) {
        const auto has = [&](ListHash h) { return !list.hash(e, h).empty(); };
        return !has(ListHash::crc32) && !has(ListHash::md5) && !has(ListHash::sha1) && has(ListHash::sha256);
      }));
  if (other_only > 0)
    listener.message({"other_hashes",
                      fmt::format("{}: {} only a SHA-256, which a shelf does not keep", printable(list.file),
                                  other_only == 1 ? "1 entry has" : grouped(other_only) + " entries have"),
                      "<job lists> <missing> FOLDER reads the images themselves"});
}

}  // namespace

ListsTold hold_against(const ShelfJob& job, Shelf& shelf, Listener& listener, JobContext& context) {
  ListsTold told{.lists = find_lists(job.against, job.cache, context)};
  if (told.lists.lists.empty())
    throw Error({.code = "no_list", .what = "none of these lists can be read", .file = job.against.front()});
  for (const KnownListPtr& list : told.lists.lists) tell_uncomparable(*list, listener);
  KnownCollector collector(told.lists);
  Shelf::Change change{.others_not_known = true};
  std::vector<std::int64_t> asked;  // in the order of the collection
  const std::vector<std::int64_t> ids = shelf.ids_of_sizes(sizes_in(told.lists.lists));
  constexpr std::size_t kAtOnce = 200;
  for (std::size_t from = 0; from < ids.size(); from += kAtOnce) {
    context.progress.check_stop();
    const auto first = ids.begin() + static_cast<std::ptrdiff_t>(from);
    std::vector<ShelfItem> some;
    shelf.each({first, ids.begin() + static_cast<std::ptrdiff_t>(std::min(from + kAtOnce, ids.size()))},
               [&](const ShelfItem& item) { some.push_back(item); });
    shelf.add_details(some);
    for (const ShelfItem& item : some) {
      // Of this computer it can be told whether the hashes still hold.
      if (item.host == job.host && !why_stale(item).empty()) {
        ++told.stale;
        change.known.push_back({item.id, "", "", ""});
        continue;
      }
      asked.push_back(item.id);
      collector.add_kept(kept_image(item, item.contents), fs::path(item.path).parent_path());
    }
  }
  tell_stale(told.stale, listener);
  KnownCollector::Known known = collector.finish(context);
  for (std::size_t i = 0; i < known.images.size(); ++i) {
    const KnownAs& best = known.images[i].best;
    const KnownList& list = *told.lists.lists[best.list];
    change.known.push_back({asked[i], std::string(to_string(best.verdict)), fs::path(list.file).filename().string(),
                            best.set ? std::string(list.name(list.sets[*best.set])) : ""});
  }
  for (const std::int64_t id : shelf.rotten_ids()) change.known.push_back({id, "", "", ""});
  shelf.apply(change, job.host, 0);
  told.matches = std::move(known.matches);
  return told;
}

Outcome missing_on_shelf(const ShelfJob& job, Listener& listener, JobContext& context) {
  if (job.against.empty())
    throw Error({.fault = Fault::usage, .code = "usage", .what = "no list is named", .hint = "add <against> LIST"});
  Outcome outcome;
  Shelf shelf(job.at, Shelf::Opening::existing);
  const ListsTold told = hold_against(job, shelf, listener, context);
  for (std::size_t i = 0; i < told.lists.lists.size(); ++i) {
    listener.result(MissingTold{*told.lists.lists[i], told.matches[i], shelf.name()});
    for (const auto& [verdict, count] : told.matches[i].totals)
      outcome.good = outcome.good && (verdict == SetVerdict::complete || verdict == SetVerdict::unverifiable);
  }
  outcome.good = outcome.good && told.stale == 0;
  for (const RefusedList& refused : told.lists.refused) {
    outcome.failures.push_back(refused.why);
    listener.failed(Error(refused.why));
  }
  return outcome;
}

}  // namespace opifex::jobs
