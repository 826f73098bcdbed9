// Folders on the shelf: what is new or changed is read, all else is left as it was recorded.
#include <algorithm>
#include <set>
#include <unordered_set>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/stage/survey.hpp"

#include "shelf_files.hpp"
#include "shelf_item.hpp"
#include "shelf_parts.hpp"
#include "side_by_side.hpp"
#include "survey_sources.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

/// Which of what is recorded still holds.
class Standing {
 public:
  Standing(const Shelf& shelf, const ShelfJob& job, const std::string& place, const FileScan& scan)
      : shelf_(shelf), scan_(scan), files_(shelf.standing(job.host, place)), host_(job.host), place_(place) {
    for (const ShelfStanding& s : files_) {
      std::optional<ShelfFile> now = find(s.file.path);
      // Behind a link, which a scan does not follow, it is there all the same: a sheet names it.
      if (!now && !s.items.empty() && (now = look_behind(s.file.path))) ++linked_;
      if (!now) {
        if (lies_unseen(s.file.path)) hidden_.insert(s.items.begin(), s.items.end());
        absent_.insert(s.file.path);
      } else if (job.again || !s.file.same_state(*now)) {
        changed_.insert(s.file.path);
      }
      recorded_.insert(s.file.path);
    }
    for (const ShelfItem& item : shelf_.list({.host = host_, .gone = ShelfFilter::Gone::yes, .below = place_}))
      gone_.insert(item.id);
  }

  /// Nothing has changed: nobody needs to look at anything.
  bool is_quiet() const {
    const auto is_news = [&](const ShelfStanding& s) {
      const bool all_gone = !s.items.empty() && std::all_of(s.items.begin(), s.items.end(),
                                                            [&](std::int64_t i) { return gone_.contains(i); });
      if (absent_.contains(s.file.path)) return !all_gone && !lies_unseen(s.file.path);
      return changed_.contains(s.file.path) || all_gone;
    };
    const bool news = std::any_of(files_.begin(), files_.end(), is_news);
    return !news && scan_.files.size() + absent_.size() + linked_ == recorded_.size();
  }

  /// Finds out which items have to be looked at anew. Once, where it is not quiet.
  void judge() {
    for (ShelfItem& item : shelf_.items_below(host_, place_)) items_.emplace(item.id, std::move(item));
    std::vector<std::string> fresh;
    for (const auto& [path, file] : scan_.files)
      if (!recorded_.contains(path)) fresh.push_back(path);
    const auto any_below = [&](const std::string& folder) {
      const auto below = [&](const std::string& path) { return path.starts_with(folder + "/"); };
      return std::any_of(fresh.begin(), fresh.end(), below) || std::any_of(changed_.begin(), changed_.end(), below);
    };
    for (const ShelfStanding& s : files_)
      if (changed_.contains(s.file.path) || absent_.contains(s.file.path))
        for (const std::int64_t item : s.items) {
          if (!items_.contains(item))
            outside_.insert(item);
          else if (!hidden_.contains(item))
            dirty_.insert(item);
        }
    find_back();
    for (const auto& [id, item] : items_) {
      // What was missing to it may be there now.
      if (!item.complete || (is_folder(item) && any_below(item.path))) dirty_.insert(id);
      if (gone_.contains(id) && !back_.contains(id)) dirty_.insert(id);
    }
    for (const ShelfStanding& s : files_) {
      const bool whole = !changed_.contains(s.file.path) && !absent_.contains(s.file.path);
      const bool all = std::none_of(s.items.begin(), s.items.end(), [&](auto i) { return dirty_.contains(i); });
      if (whole && all && (s.file.other || !s.items.empty())) settled_.insert(s.file.path);
    }
    for (const auto& [id, item] : items_)
      if (is_folder(item) && !dirty_.contains(id) && !item.is_gone()) settled_.insert(item.path);
    // A new piece of an installed game lies beside pieces that are as they were.
    for (const auto& path : fresh) unsettle_header_of(path);
  }

  bool is_settled(const std::string& path) const { return settled_.contains(path); }
  const std::set<std::int64_t>& dirty() const { return dirty_; }
  const ShelfItem& item(std::int64_t id) const { return items_.at(id); }
  std::uint64_t settled_items() const { return items_.size() - dirty_.size() - back_.size(); }
  /// Of another folder, with a file in this one that has changed.
  const std::set<std::int64_t>& outside() const { return outside_; }
  /// Gone, and there again as they were.
  const std::set<std::int64_t>& back() const { return back_; }
  const std::vector<ShelfStanding>& files() const { return files_; }
  bool has_file(const std::string& path) const { return scan_.files.contains(path); }
  const FileScan& scan() const { return scan_; }
  std::uint64_t items_there() const { return shelf_.count({.host = host_, .below = place_}); }

 private:
  static bool is_folder(const ShelfItem& item) { return item.kind == to_string(SurveyKind::game_folder); }
  void find_back() {
    std::map<std::int64_t, bool> same;
    for (const ShelfStanding& s : files_)
      for (const std::int64_t item : s.items) {
        const bool here = !absent_.contains(s.file.path) && !changed_.contains(s.file.path);
        const auto [at, is_new] = same.try_emplace(item, here);
        at->second = at->second && here;
      }
    for (const auto& [item, here] : same)
      if (here && gone_.contains(item) && items_.at(item).complete) back_.insert(item);
  }
  std::optional<ShelfFile> find(const std::string& path) const {
    const auto at = scan_.files.find(path);
    return at == scan_.files.end() ? std::nullopt : std::optional(at->second);
  }
  static std::optional<ShelfFile> look_behind(const std::string& path) {
    try {
      return look_at(path);
    } catch (const Error&) {
      return std::nullopt;  // the folder that cannot be read was told of
    }
  }
  bool lies_unseen(const std::string& path) const {
    return std::any_of(scan_.unseen.begin(), scan_.unseen.end(), [&](const FileScan::Unseen& u) {
      return path == u.path || path.starts_with(u.path == "/" ? "/" : u.path + "/");
    });
  }
  /// NAME for NAME.data/Data0001.
  void unsettle_header_of(const std::string& path) {
    const fs::path folder = fs::path(path).parent_path();
    if (fold_case(folder.extension().string()) != ".data") return;
    settled_.erase((folder.parent_path() / folder.stem()).string());
  }

  const Shelf& shelf_;
  const FileScan& scan_;
  std::vector<ShelfStanding> files_;
  std::string host_, place_;
  std::unordered_set<std::string> absent_, changed_, recorded_, settled_;
  std::set<std::int64_t> gone_, back_, dirty_, hidden_, outside_;
  std::size_t linked_ = 0;
  std::map<std::int64_t, ShelfItem> items_;
};

/// One folder, or a single file.
class Adder {
 public:
  Adder(const ShelfJob& job, Shelf& shelf, ShelfAdded& added, Outcome& outcome, Listener& listener, JobContext& context)
      : job_(job), shelf_(shelf), added_(added), outcome_(outcome), listener_(listener), context_(context) {}

  void add(const std::string& place) {
    context_.progress.begin("looking for what has changed", 0);
    const std::vector<std::string> own = own_files();
    const FileScan scan = scan_files(place, own, context_);
    for (const auto& [path, why] : scan.unseen)
      tell_failure({.fault = why.fault, .code = why.code, .what = why.message, .file = place});
    Standing standing(shelf_, job_, place, scan);
    if (standing.is_quiet()) {
      added_.unchanged += standing.items_there();
    } else {
      standing.judge();
      read_news(place, standing);
    }
    std::error_code ignored;
    if (fs::is_directory(place, ignored)) shelf_.add_folder({job_.host, place, seconds_now()});
  }

 private:
  /// The shelf itself may lie among what is on it.
  std::vector<std::string> own_files() const {
    std::vector<std::string> own;
    if (shelf_.name() != job_.at) return own;  // a server
    for (const char* tail : {"", "-wal", "-shm", "-journal"}) own.push_back(place_named(job_.at) + tail);
    return own;
  }

  void tell_failure(const ErrorDetails& why) {
    outcome_.failures.push_back(why);
    listener_.failed(Error(why));
  }

  void read_news(const std::string& place, Standing& standing) {
    unsettle(standing);
    added_.unchanged += standing.settled_items();
    const Survey survey = look_through(place, standing);
    const Sources sources = find_sources(survey, job_.reading, context_);
    for (const SurveyItem& item : survey.items) take_other(item);
    for (const LeftOut& left : sources.left_out) take_left_out(left, survey);
    count_shares(sources);
    std::vector<Source> images = sources.images;
    SideBySide<ShelfReading> reading(
        images, [](const Source& source, JobContext& context) { return read_for_shelf(source, context); }, context_,
        kKeptAtOnce);
    try {
      for (std::size_t i = 0; i < images.size(); ++i) {
        listener_.begins({i + 1, images.size(), images[i].name});
        take(reading.take(i, true));
      }
    } catch (...) {
      flush();  // what was read is kept
      throw;
    }
    finish(standing);
    flush();
  }

  /// Until all that lies in a file was read anew, the file counts as changed: whatever interrupts us, the next run
  /// begins where this one ended.
  void unsettle(const Standing& standing) {
    for (const ShelfStanding& s : standing.files()) {
      const bool dirty = std::any_of(s.items.begin(), s.items.end(), [&](std::int64_t i) {
        return standing.dirty().contains(i) && !standing.item(i).is_gone();
      });
      if (!dirty || s.file.modified_ns == ShelfFile::kUnsettled) continue;
      ShelfFile file = s.file;
      file.modified_ns = ShelfFile::kUnsettled;
      change_.others.push_back(std::move(file));
    }
    // What is read of such a file now does not make the item right that was made of it before.
    for (const std::int64_t id : standing.outside())
      if (const auto item = shelf_.item(id))
        for (ShelfFile file : item->files) {
          file.modified_ns = ShelfFile::kUnsettled;
          change_.others.push_back(std::move(file));
        }
    flush();
  }

  Survey look_through(const std::string& place, const Standing& standing) {
    std::error_code ignored;
    const bool is_file = fs::is_regular_file(place, ignored);
    const fs::path folder = is_file ? fs::path(place).parent_path() : fs::path(place);
    SurveyRequest request{folder, target_facts(folder), job_.reading.opening, {}, true};
    request.opening.allow_missing = true;
    request.settled = [&, is_file](const fs::path& path) {
      if (is_file) return path != place;
      return standing.is_settled(path.string());
    };
    Survey survey = survey_folder(request, context_);
    for (const Warning& w : survey.unseen) {
      if (is_file || w.code == "unreadable_folder" || w.code == "too_deep") continue;  // the scan has told them
      if (w.code == "link")
        listener_.message(w);
      else
        tell_failure({.fault = w.fault, .code = w.code, .what = w.message, .file = place});
    }
    return survey;
  }

  /// What is no image, but a game all the same.
  void take_other(const SurveyItem& found) {
    switch (found.kind) {
      case SurveyKind::image:
      case SurveyKind::archive:
      case SurveyKind::drive_image:
        return;
      case SurveyKind::broken:
        if (!found.warnings.empty()) tell_unread(found);
        return take_item(unread_item(found));
      case SurveyKind::game_folder:
      case SurveyKind::package:
      case SurveyKind::container:
        return take(read_for_shelf(found, context_));
    }
  }

  /// A drive that fails is no answer, and what is refused is none either.
  void tell_unread(const SurveyItem& found) {
    const Warning& w = found.warnings.front();
    tell_failure({.fault = w.fault,
                  .code = w.code,
                  .cause = w.cause,
                  .what = w.message,
                  .file = found.path.string(),
                  .hint = w.hint});
  }

  /// Archives that cannot be read; those without a game are other files.
  void take_left_out(const LeftOut& left, const Survey& survey) {
    if (!left.failed) return;
    const auto at = std::find_if(survey.items.begin(), survey.items.end(), [&](const SurveyItem& i) {
      return i.path.string() == left.name || i.path.lexically_normal().string() == left.name;
    });
    if (at == survey.items.end() || at->kind == SurveyKind::broken) return;
    SurveyItem item = *at;
    item.warnings.insert(item.warnings.begin(), {left.why.code, left.why.what, {}, left.why.cause, left.why.fault});
    tell_failure(left.why);
    take_item(unread_item(item));
  }

  /// How many sources one file gives: it counts as read only with the last of them.
  void count_shares(const Sources& sources) {
    for (const Source& source : sources.images) ++shares_[place_in_shelf(source).first];
  }

  void take(ShelfReading reading) {
    added_.bytes_read += reading.bytes_read;
    if (reading.changed_meanwhile)
      listener_.message({"changed_meanwhile", printable(reading.item.path) +
                                                  " was changed while it was read: it is read again the next time"});
    if (reading.error) {
      outcome_.failures.push_back(reading.error->details);
      listener_.failed(*reading.error);
    }
    take_item(std::move(reading.item));
  }

  void take_item(ShelfItem item) {
    item.host = job_.host;
    item.added_at = seconds_now();
    ++added_.read;
    ++added_.verdicts[item.verdict];
    if (!item.is_sound()) {
      added_.not_intact.emplace_back(place_of(item),
                                     item.remark.empty() ? item.verdict : item.verdict + ": " + item.remark);
      outcome_.good = false;
    }
    for (const ShelfFile& f : item.files) taken_.insert(f.path);
    put_.emplace(item.path, item.inside);
    hold_back(item);
    change_.put.push_back(std::move(item));
    constexpr std::size_t kMost = 128;
    if (change_.put.size() >= kMost || since_.seconds() > 2) flush();
  }

  void hold_back(ShelfItem& item) {
    const auto share = shares_.find(item.path);
    if (share == shares_.end() || --share->second == 0) return;
    for (ShelfFile& f : item.files) f.modified_ns = ShelfFile::kUnsettled;
  }

  /// What was there and was not found again; files that are no games.
  void finish(const Standing& standing) {
    change_.back.assign(standing.back().begin(), standing.back().end());
    added_.back += standing.back().size();
    for (const std::int64_t id : standing.dirty()) {
      const ShelfItem& item = standing.item(id);
      if (put_.contains({item.path, item.inside})) {
        ++(item.is_gone() ? added_.back : added_.changed);
        continue;
      }
      std::error_code ignored;
      const bool lead_there = fs::exists(item.path, ignored);
      if (!lead_there && !item.is_gone()) {
        change_.gone.push_back(id);
        ++added_.gone;
      } else if (lead_there) {
        // It is a part of something else now, or no game any more.
        change_.forget.push_back(id);
        ++added_.forgotten;
      }
    }
    for (const auto& [path, file] : standing.scan().files) {
      if (taken_.contains(path) || standing.is_settled(path)) continue;
      ShelfFile other = file;
      other.other = true;
      if (is_too_young(other, nanoseconds_now())) other.modified_ns = ShelfFile::kUnsettled;
      change_.others.push_back(std::move(other));
      ++added_.other_files;
    }
    for (const ShelfStanding& s : standing.files())
      if (s.items.empty() && !standing.has_file(s.file.path)) change_.lost_files.push_back(s.file.path);
  }

  void flush() {
    shelf_.apply(change_, job_.host, seconds_now());
    change_ = {};
    since_ = {};
  }

  static constexpr std::size_t kKeptAtOnce = 128;  // small images that are read side by side before they are kept

  const ShelfJob& job_;
  Shelf& shelf_;
  ShelfAdded& added_;
  Outcome& outcome_;
  Listener& listener_;
  JobContext& context_;
  Shelf::Change change_;
  Stopwatch since_;
  std::map<std::string, std::size_t> shares_;
  std::unordered_set<std::string> taken_;
  std::set<std::pair<std::string, std::string>> put_;
};

/// Before a shelf is made for nothing.
void refuse_absent(const std::vector<std::string>& words) {
  for (const std::string& word : words) {
    std::error_code error;
    if (!fs::exists(word, error))
      throw Error({.fault = Fault::usage,
                   .code = "not_a_folder",
                   .what = "this folder is not there",
                   .file = word,
                   .hint = "name the folder with your images"});
  }
}

/// Without those that lie in another one.
std::vector<std::string> folders_to_add(const ShelfJob& job, const Shelf& shelf) {
  std::vector<std::string> folders;
  if (job.words.empty()) {
    for (const ShelfFolder& f : shelf.folders())
      if (f.host == job.host) folders.push_back(f.path);
    if (folders.empty())
      throw Error({.fault = Fault::usage,
                   .code = "usage",
                   .what = "no folder is named, and none of this computer is on the shelf yet",
                   .file = shelf.name(),
                   .hint = "name the folders with your images"});
  }
  for (const std::string& word : job.words) folders.push_back(place_named(word));
  std::sort(folders.begin(), folders.end());
  std::vector<std::string> apart;
  for (const std::string& f : folders)
    if (apart.empty() || !(f + "/").starts_with(apart.back() == "/" ? "/" : apart.back() + "/")) apart.push_back(f);
  return apart;
}

}  // namespace

std::string place_named(const std::string& word) {
  std::error_code error;
  const fs::path place = fs::weakly_canonical(word.empty() ? "." : word, error);
  std::string text = (error ? fs::absolute(word).lexically_normal() : place).string();
  while (text.size() > 1 && text.ends_with('/')) text.pop_back();
  return text;
}

Outcome add_to_shelf(const ShelfJob& job, Listener& listener, JobContext& context) {
  Outcome outcome;
  refuse_absent(job.words);
  Shelf shelf(job.at, job.words.empty() ? Shelf::Opening::existing : Shelf::Opening::create);
  const Stopwatch watch;
  ShelfAdded added;
  added.folders = folders_to_add(job, shelf);
  for (const std::string& folder : added.folders) {
    std::error_code ignored;
    if (!fs::exists(folder, ignored)) {
      // A drive that is not there has not lost its games.
      const ErrorDetails why{.fault = Fault::device,
                             .code = "not_a_folder",
                             .what = "a folder of the shelf is not there",
                             .file = folder,
                             .hint = "connect its drive, or take it off with <job shelf> forget"};
      outcome.failures.push_back(why);
      listener.failed(Error(why));
      continue;
    }
    Adder(job, shelf, added, outcome, listener, context).add(folder);
  }
  if (!job.against.empty()) {
    const ListsTold told = hold_against(job, shelf, listener, context);
    for (const RefusedList& refused : told.lists.refused) {
      outcome.failures.push_back(refused.why);
      listener.failed(Error(refused.why));
    }
  }
  added.seconds = watch.seconds();
  if (added.read + added.unchanged == 0) outcome.good = false;  // nothing is no collection
  listener.result(ShelfTold{shelf.name(), std::move(added)});
  return outcome;
}

}  // namespace opifex::jobs
