// A patrol against rot: what was not read for the longest time is read again and held against what is recorded.
#include <algorithm>
#include <map>
#include <set>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/writing.hpp"
#include "opifex/core/stage/survey.hpp"

#include "shelf_files.hpp"
#include "shelf_item.hpp"
#include "shelf_parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

/// Items of one file are read together: an archive is unpacked once.
struct Unit {
  std::string path;
  std::vector<ShelfItem> items;
  std::uint64_t size_bytes = 0;
  std::int64_t checked_at = INT64_MAX;  // the earliest
};

std::string content_name(const ShelfContent& c) {
  return c.kind == ShelfContent::Kind::view ? c.through : fs::path(c.path).filename().string();
}

std::string day_text(std::int64_t seconds) {
  const CivilTime t = civil_time(seconds);
  return fmt::format("{:04}-{:02}-{:02}", t.year, t.month, t.day);
}

/// What is no longer as it was; empty: every byte is.
std::string difference(const ShelfItem& recorded, const ShelfItem& now) {
  const auto key = [](const ShelfContent& c) { return std::tuple(c.kind, c.path, c.through, c.of); };
  std::map<std::tuple<ShelfContent::Kind, std::string, std::string, std::vector<std::uint32_t>>, const ShelfContent*>
      there;
  for (const ShelfContent& c : now.contents) there.emplace(key(c), &c);
  std::size_t compared = 0;
  for (const ShelfContent& c : recorded.contents) {
    if (c.sha1.empty()) continue;
    const auto at = there.find(key(c));
    if (at == there.end()) return fmt::format("{} cannot be found in it any more", content_name(c));
    const ShelfContent& other = *at->second;
    if (other.size_bytes != c.size_bytes)
      return fmt::format("{} has {} bytes, recorded on {} were {}", content_name(c), grouped(other.size_bytes),
                         day_text(recorded.checked_at), grouped(c.size_bytes));
    if (other.sha1 != c.sha1 || other.md5 != c.md5 || other.crc32 != c.crc32)
      return fmt::format("{} has the SHA-1 {}, recorded on {} was {}", content_name(c),
                         other.sha1.empty() ? "none" : other.sha1, day_text(recorded.checked_at), c.sha1);
    ++compared;
  }
  return compared == 0 ? "nothing is recorded that it could be held against" : "";
}

class Patrol {
 public:
  Patrol(const ShelfJob& job, Shelf& shelf, Listener& listener, JobContext& context)
      : job_(job), shelf_(shelf), listener_(listener), context_(context) {}

  Outcome run() {
    find_units();
    std::uint64_t budget = job_.most_bytes.value_or(UINT64_MAX);
    std::size_t number = 0;
    for (const Unit& unit : units_) {
      if (unit.size_bytes > budget) {
        told_.too_large += unit.size_bytes > job_.most_bytes.value_or(UINT64_MAX) ? unit.items.size() : 0;
        leave(unit);
        continue;
      }
      if (!fits_in_time(unit)) {
        leave(unit);
        continue;
      }
      budget -= unit.size_bytes;
      listener_.begins({++number, units_.size(), unit.path});
      if (job_.plan_only)
        plan(unit);
      else
        verify(unit);
    }
    told_.seconds = watch_.seconds();
    told_.planned_only = job_.plan_only;
    // Nothing was proved of a shelf of which nothing was read.
    if (!job_.plan_only && told_.as_recorded == 0) outcome_.good = false;
    listener_.result(ShelfTold{shelf_.name(), std::move(told_)});
    return std::move(outcome_);
  }

 private:
  void find_units() {
    std::vector<ShelfItem> items;
    if (job_.words.empty()) {
      ShelfFilter filter = job_.filter;
      filter.host = job_.host;
      filter.sort = {"checked"};
      filter.limit = 0;
      items = shelf_.list(filter);
    }
    for (const std::string& word : job_.words) items.push_back(item_named(shelf_, job_, word));
    std::map<std::string, std::size_t> by_path;
    for (ShelfItem& item : items) {
      const auto [at, is_new] = by_path.try_emplace(item.path, units_.size());
      if (is_new) units_.push_back({.path = item.path, .items = {}});
      Unit& unit = units_[at->second];
      unit.size_bytes = std::max(unit.size_bytes, item.stored_bytes);
      unit.checked_at = std::min(unit.checked_at, item.checked_at);
      unit.items.push_back(std::move(item));
    }
    std::stable_sort(units_.begin(), units_.end(),
                     [](const Unit& a, const Unit& b) { return a.checked_at < b.checked_at; });
  }

  /// By the pace until now; the first one is always read, and tells the pace.
  bool fits_in_time(const Unit& unit) const {
    if (!job_.most_milliseconds) return true;
    const double limit = static_cast<double>(*job_.most_milliseconds) / 1000.0, used = watch_.seconds();
    if (used >= limit) return false;
    if (told_.bytes_read == 0) return true;
    const double pace = static_cast<double>(told_.bytes_read) / std::max(used, 0.001);
    return used + static_cast<double>(unit.size_bytes) / pace <= limit;
  }

  void leave(const Unit& unit) {
    if (told_.left == 0 || unit.checked_at < told_.longest_unchecked) told_.longest_unchecked = unit.checked_at;
    told_.left += unit.items.size();
  }

  void plan(const Unit& unit) {
    for (const ShelfItem& item : unit.items)
      told_.items.push_back({item.id, place_of(item), "planned", "", item.checked_at, item.verdict});
    told_.bytes_read += unit.size_bytes;
  }

  void tell(const ShelfItem& item, std::string outcome, std::string why = {}) {
    const bool sound = outcome == "as recorded";
    if (!sound) outcome_.good = false;
    told_.as_recorded += sound ? 1U : 0U;
    if (sound && !item.is_sound()) {
      ++told_.not_intact;
      outcome_.good = false;
    }
    told_.items.push_back({item.id, place_of(item), std::move(outcome), std::move(why), item.checked_at, item.verdict});
  }

  void failed(const ShelfItem& item, const Error& e) {
    outcome_.failures.push_back(e.details);
    listener_.failed(e);
    tell(item, "unreadable", e.details.what);
  }

  void verify(const Unit& unit) {
    std::vector<ShelfItem> items = unit.items;
    shelf_.add_details(items);
    // What was changed by somebody is no rot, and no proof either.
    if (const std::string stale = stale_of(items.front()); !stale.empty()) {
      for (const ShelfItem& item : items) tell(item, stale == "it is gone" ? "gone" : "other date", stale);
      return;
    }
    for (const ShelfFile& file : items.front().files) drop_cached(file.path);
    try {
      std::map<std::string, ShelfReading> now = read_again(items.front());
      for (const ShelfItem& item : items) judge(item, now);
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      for (const ShelfItem& item : items) take_error(item, e);
    }
  }

  /// A file that was unsettled when it was added may be read again: it is what it says that counts.
  static std::string stale_of(const ShelfItem& item) {
    for (const ShelfFile& recorded : item.files) {
      const auto now = look_at(recorded.path);
      if (!now) return "it is gone";
      const bool unsettled = recorded.modified_ns == ShelfFile::kUnsettled;
      if (!unsettled && !recorded.same_state(*now)) return "it was changed since: <job shelf> add reads it anew";
    }
    return {};
  }

  /// By what is inside.
  std::map<std::string, ShelfReading> read_again(const ShelfItem& item) {
    std::map<std::string, ShelfReading> readings;
    const bool is_image = item.kind == to_string(SurveyKind::image) || item.verdict == "unread";
    if (!is_image) {
      SurveyItem found;
      found.path = item.path;
      found.kind = kind_of(item);
      found.files = {item.path};
      found.complete = item.complete;
      readings.emplace("", read_for_shelf(found, context_));
      told_.bytes_read += readings.begin()->second.bytes_read;
      return readings;
    }
    const Sources sources = find_sources({item.path}, job_.reading, Wanted::all, context_);
    for (const LeftOut& left : sources.left_out)
      if (left.failed) throw Error(left.why);
    for (const Source& source : sources.images) {
      ShelfReading reading = read_for_shelf(source, context_);
      told_.bytes_read += reading.bytes_read;
      const std::string inside = reading.item.inside;
      readings.emplace(inside, std::move(reading));
    }
    return readings;
  }

  static SurveyKind kind_of(const ShelfItem& item) {
    for (const SurveyKind kind : {SurveyKind::game_folder, SurveyKind::package, SurveyKind::container})
      if (item.kind == to_string(kind)) return kind;
    return SurveyKind::package;
  }

  void judge(const ShelfItem& item, const std::map<std::string, ShelfReading>& readings) {
    const auto at = readings.find(item.inside);
    if (at == readings.end()) return rotten(item, "it can no longer be found in its archive");
    const ShelfReading& now = at->second;
    if (now.error) return take_error(item, *now.error);
    if (now.changed_meanwhile) return tell(item, "other date", "it was changed while it was read");
    if (item.verdict == "unread") return tell(item, "other date", "it can be read now: <job shelf> add takes it anew");
    if (const std::string why = difference(item, now.item); !why.empty()) return rotten(item, why);
    Shelf::Change change;
    change.checked.push_back(item.id);
    shelf_.apply(change, job_.host, seconds_now());
    tell(item, "as recorded");
  }

  /// A drive that fails says nothing about what is on it; a content that is refused now has changed.
  void take_error(const ShelfItem& item, const Error& e) {
    if (e.details.fault == Fault::device) return failed(item, e);
    if (item.verdict == "unread") return tell(item, "unreadable", item.remark);
    rotten(item, "it can no longer be opened: " + e.details.what);
  }

  void rotten(const ShelfItem& item, const std::string& why) {
    Shelf::Change change;
    change.rotten.emplace_back(item.id, why);
    shelf_.apply(change, job_.host, seconds_now());
    tell(item, "changed", why);
  }

  const ShelfJob& job_;
  Shelf& shelf_;
  Listener& listener_;
  JobContext& context_;
  std::vector<Unit> units_;
  ShelfVerified told_;
  Outcome outcome_;
  Stopwatch watch_;
};

}  // namespace

Outcome verify_shelf(const ShelfJob& job, Listener& listener, JobContext& context) {
  Shelf shelf(job.at, Shelf::Opening::existing);
  shelf.require_sound();
  return Patrol(job, shelf, listener, context).run();
}

}  // namespace opifex::jobs
