// What known lists know of a shelf, by the hashes that it has: no image is read.
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/lists.hpp"

#include "shelf_files.hpp"
#include "shelf_item.hpp"
#include "shelf_parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

/// Items with the contents that lists may know, one after the other.
class Gatherer {
 public:
  Gatherer(KnownCollector& collector, const std::set<std::int64_t>& stale) : collector_(collector), stale_(stale) {}

  void take(const ShelfItem& item, const ShelfContent& content) {
    if (item.id != item_.id) finish(), item_ = item;
    contents_.push_back(content);
  }
  void finish() {
    if (item_.id == 0) return;
    if (!stale_.contains(item_.id)) {
      ids.push_back(item_.id);
      collector_.add_kept(kept_image(item_, contents_), fs::path(item_.path).parent_path());
    }
    contents_.clear();
    item_ = {};
  }

  std::vector<std::int64_t> ids;  // in the order of the collection

 private:
  KnownCollector& collector_;
  const std::set<std::int64_t>& stale_;
  ShelfItem item_;
  std::vector<ShelfContent> contents_;
};

/// Items of this computer whose files are not as they were when they were read.
std::set<std::int64_t> find_stale(const ShelfJob& job, const Shelf& shelf, Listener& listener) {
  std::set<std::int64_t> stale;
  for (const ShelfStanding& s : shelf.standing(job.host, "/")) {
    if (s.items.empty()) continue;
    const auto now = look_at(s.file.path);
    if (now && s.file.same_state(*now)) continue;
    stale.insert(s.items.begin(), s.items.end());
  }
  // Of what is told to be gone nobody asks anything.
  for (const ShelfItem& gone : shelf.list({.gone = ShelfFilter::Gone::yes})) stale.erase(gone.id);
  if (!stale.empty())
    listener.message({"stale",
                      fmt::format("{} {} not as {} recorded: nobody asked for {}", plural(stale.size(), "item"),
                                  stale.size() == 1 ? "is" : "are", stale.size() == 1 ? "it is" : "they are",
                                  stale.size() == 1 ? "it" : "them"),
                      "<job shelf> add reads what has changed"});
  return stale;
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
  const std::set<std::int64_t> stale = find_stale(job, shelf, listener);
  told.stale = stale.size();
  for (const KnownListPtr& list : told.lists.lists) tell_uncomparable(*list, listener);
  KnownCollector collector(told.lists);
  Gatherer gatherer(collector, stale);
  shelf.each_content([](std::uint64_t) { return true; },
                     [&](const ShelfItem& item, const ShelfContent& content) { gatherer.take(item, content); });
  gatherer.finish();
  KnownCollector::Known known = collector.finish(context);
  Shelf::Change change;
  for (std::size_t i = 0; i < known.images.size(); ++i) {
    const KnownAs& best = known.images[i].best;
    const KnownList& list = *told.lists.lists[best.list];
    change.known.push_back({gatherer.ids[i], std::string(to_string(best.verdict)),
                            fs::path(list.file).filename().string(),
                            best.set ? std::string(list.name(list.sets[*best.set])) : ""});
  }
  // Nobody can say any more whether a list knows them.
  for (const std::int64_t id : stale) change.known.push_back({id, "", "", ""});
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
