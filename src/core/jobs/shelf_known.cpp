// What known lists know of a shelf: by the hashes that it has, so that hardly ever an image is read.
#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/sector.hpp"
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

/// Sizes of sectors that no file of the shelf has matched: all tracks as one bin, or a bin where the shelf has an ISO.
/// For those the hashes of tracks and files say nothing.
std::vector<std::uint64_t> unmatched_sectors(const Lists& lists, const std::vector<ListMatch>& matches) {
  std::vector<std::uint64_t> sizes;
  for (std::size_t l = 0; l < lists.lists.size(); ++l) {
    const KnownList& list = *lists.lists[l];
    std::vector<bool> matched(list.entries.size());
    for (const SetMatch& set : matches[l].sets)
      for (std::size_t i = 0; i < set.entries.size(); ++i)
        matched[list.sets[set.set].first + i] = set.entries[i].state != EntryState::missing;
    for (std::size_t e = 0; e < list.entries.size(); ++e)
      if (const std::uint64_t size = list.entries[e].size_bytes;
          !matched[e] && size != kUnknownSize && size > 0 && size % cd::kRawBytes == 0)
        sizes.push_back(size);
  }
  return sizes;
}

/// What the lists know of the shelf: by its hashes, and where these cannot tell, by reading.
class Asker {
 public:
  Asker(const ShelfJob& job, const Shelf& shelf, const Lists& lists, Listener& listener, JobContext& context)
      : job_(job), shelf_(shelf), lists_(lists), listener_(listener), context_(context) {}

  KnownCollector::Known ask() {
    std::vector<std::int64_t> ids = shelf_.ids_of_sizes(sizes_in(lists_.lists));
    KnownCollector::Known known = ask_about(ids);
    const std::vector<std::uint64_t> sizes = unmatched_sectors(lists_, known.matches);
    std::vector<std::uint64_t> user_data;
    for (const std::uint64_t size : sizes) user_data.push_back(size / cd::kRawBytes * cd::kUserBytes);
    std::vector<std::int64_t> more = shelf_.ids_of_sums(sizes);
    if (!user_data.empty())
      for (const std::int64_t id : shelf_.ids_of_sizes(user_data)) more.push_back(id);
    if (more.empty()) return known;
    read_.insert(more.begin(), more.end());
    ids.insert(ids.end(), more.begin(), more.end());
    std::sort(ids.begin(), ids.end());
    ids.erase(std::unique(ids.begin(), ids.end()), ids.end());
    return ask_about(ids);
  }

  std::vector<std::int64_t> asked, stale;

 private:
  KnownCollector::Known ask_about(const std::vector<std::int64_t>& ids) {
    KnownCollector collector(lists_);
    asked.clear();
    stale.clear();
    constexpr std::size_t kAtOnce = 200;
    for (std::size_t from = 0; from < ids.size(); from += kAtOnce) {
      const auto first = ids.begin() + static_cast<std::ptrdiff_t>(from);
      std::vector<ShelfItem> some;
      shelf_.each({first, ids.begin() + static_cast<std::ptrdiff_t>(std::min(from + kAtOnce, ids.size()))},
                  [&](const ShelfItem& item) { some.push_back(item); });
      shelf_.add_details(some);
      for (const ShelfItem& item : some) add(collector, item);
    }
    return collector.finish(context_);
  }

  void add(KnownCollector& collector, const ShelfItem& item) {
    context_.progress.check_stop();
    const bool here = item.host == job_.host;
    // Of this computer it can be told whether the hashes still hold.
    if (here && !why_stale(item).empty()) return stale.push_back(item.id);
    asked.push_back(item.id);
    if (here && read_.contains(item.id) && read(collector, item)) return;
    collector.add_kept(kept_image(item, item.contents), fs::path(item.path).parent_path());
  }

  /// False if it cannot be: what the shelf has of it counts.
  bool read(KnownCollector& collector, const ShelfItem& item) {
    try {
      const Sources sources = find_sources({item.path}, job_.reading, Wanted::all, context_);
      for (const Source& source : sources.images) {
        if (place_in_shelf(source) != std::pair(item.path, item.inside)) continue;
        const Image image = open_source(source.input);
        CheckOptions options;
        collector.prepare(options, false);
        const CheckResult result = check_image(image, options, context_);
        collector.add_image(source, image, result);
        return true;
      }
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      listener_.failed(e);
    }
    return false;
  }

  const ShelfJob& job_;
  const Shelf& shelf_;
  const Lists& lists_;
  Listener& listener_;
  JobContext& context_;
  std::set<std::int64_t> read_;  // items that a list may have in another layout
};

}  // namespace

ListsTold hold_against(const ShelfJob& job, Shelf& shelf, Listener& listener, JobContext& context) {
  ListsTold told{.lists = find_lists(job.against, job.cache, context)};
  if (told.lists.lists.empty())
    throw Error({.code = "no_list", .what = "none of these lists can be read", .file = job.against.front()});
  for (const KnownListPtr& list : told.lists.lists) tell_uncomparable(*list, listener);
  Asker asker(job, shelf, told.lists, listener, context);
  KnownCollector::Known known = asker.ask();
  told.stale = asker.stale.size();
  tell_stale(told.stale, listener);
  Shelf::Change change{.others_not_known = true};
  for (std::size_t i = 0; i < known.images.size(); ++i) {
    const KnownAs& best = known.images[i].best;
    const KnownList& list = *told.lists.lists[best.list];
    change.known.push_back({asker.asked[i], std::string(to_string(best.verdict)),
                            fs::path(list.file).filename().string(),
                            best.set ? std::string(list.name(list.sets[*best.set])) : ""});
  }
  // Nobody can say any more whether a list knows them.
  for (const std::int64_t id : asker.stale) change.known.push_back({id, "", "", ""});
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
