// Sets of the shelf under new names, by known lists or by a pattern; the shelf goes with them.
#include <algorithm>
#include <map>
#include <set>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/journal.hpp"
#include "opifex/core/io/target.hpp"
#include "opifex/core/stage/name_pattern.hpp"
#include "opifex/core/stage/survey.hpp"

#include "rename_groups.hpp"
#include "shelf_files.hpp"
#include "shelf_parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

const std::vector<std::string> kFields = {"title", "serial", "region", "disc", "discs",
                                          "set",   "known",  "name",   "item", "platform"};

std::map<std::string, std::string> values_of(const ShelfItem& item) {
  const auto number = [](int n) { return n == 0 ? std::string() : std::to_string(n); };
  return {{"title", item.title},
          {"serial", item.serial},
          {"region", item.region},
          {"disc", number(item.disc)},
          {"discs", number(item.discs)},
          {"set", item.set},
          {"known", item.known_set},
          {"name", fs::path(item.path).stem().string()},
          {"item", std::to_string(item.id)},
          {"platform", item.platform}};
}

/// Items that were renamed are told to the shelf, whoever renamed them.
class ShelfMover {
 public:
  ShelfMover(const ShelfJob& job, Shelf& shelf) : job_(job), shelf_(shelf) {}

  void take(const RenamedByList& renamed) {
    if (renamed.planned_only) return;
    for (const RenameGroup& group : renamed.groups) {
      for (const RenameStep& step : group.steps) moved_[place_named(step.from.string())] = absolute(step.to);
      if (!group.sheet) continue;
      const std::string from = place_of_gone(group.sheet->from);
      moved_[from] = absolute(group.sheet->to);
      sheets_[absolute(group.sheet->to)] = group.sheet_text;
    }
    if (moved_.empty()) return;
    std::vector<ShelfItem> items;
    for (const ShelfItem& item : shelf_.list({.host = job_.host, .gone = ShelfFilter::Gone::any}))
      items.push_back(item);
    shelf_.add_details(items);
    Shelf::Change change;
    for (ShelfItem& item : items)
      if (std::any_of(item.files.begin(), item.files.end(),
                      [&](const ShelfFile& f) { return moved_.contains(f.path); }))
        move(item), change.renamed.push_back(std::move(item));
    for (const auto& [from, to] : moved_)
      if (auto now = look_at(to)) now->path = to, change.moved.emplace_back(from, std::move(*now));
    shelf_.apply(change, job_.host, seconds_now());
  }

 private:
  static std::string absolute(const fs::path& path) { return fs::absolute(path).lexically_normal().string(); }
  /// The file is gone by now, but its folder is not.
  static std::string place_of_gone(const fs::path& path) { return place_named(path.string()); }

  std::string new_name(const std::string& path) const {
    const auto at = moved_.find(path);
    return at == moved_.end() ? path : at->second;
  }

  void move(ShelfItem& item) const {
    for (ShelfContent& c : item.contents) {
      // "disc.cue#track02", "box.zip!disc.bin"
      const std::size_t tail = std::min(c.path.rfind('#'), c.path.find('!', 0));
      if (moved_.contains(c.path))
        c.path = new_name(c.path);
      else if (tail != std::string::npos && moved_.contains(c.path.substr(0, tail)))
        c.path = new_name(c.path.substr(0, tail)) + c.path.substr(tail);
      if (const auto sheet = sheets_.find(c.path); sheet != sheets_.end()) {
        const ByteView text = as_view(sheet->second);
        c.size_bytes = text.size();
        c.crc32 = digest_of("crc32", text);
        c.md5 = digest_of("md5", text);
        c.sha1 = digest_of("sha1", text);
      }
    }
    for (ShelfFile& f : item.files) {
      if (!moved_.contains(f.path)) continue;
      const bool rewritten = sheets_.contains(new_name(f.path));
      const auto now = look_at(new_name(f.path));
      const bool same = now && (rewritten || f.same_state(*now));
      f.path = new_name(f.path);
      if (now) f.size_bytes = now->size_bytes, f.inode = now->inode, f.device = now->device;
      f.modified_ns = same ? now->modified_ns : ShelfFile::kUnsettled;
    }
    item.path = new_name(item.path);
  }

  const ShelfJob& job_;
  Shelf& shelf_;
  std::map<std::string, std::string> moved_, sheets_;
};

/// Passes everything on, and what was renamed to the shelf.
class MovingListener final : public Listener {
 public:
  MovingListener(Listener& to, ShelfMover& mover) : to_(to), mover_(mover) {}
  using Listener::result;
  void failed(const Error& e) override { to_.failed(e); }
  void message(const Warning& w) override { to_.message(w); }
  void begins(const BatchStep& step) override { to_.begins(step); }
  void result(const RenamedByList& renamed) override {
    mover_.take(renamed);
    to_.result(renamed);
  }

 private:
  Listener& to_;
  ShelfMover& mover_;
};

std::vector<ShelfItem> chosen_items(const ShelfJob& job, const Shelf& shelf) {
  std::vector<ShelfItem> items;
  if (job.words.empty()) {
    ShelfFilter filter = job.filter;
    filter.host = job.host;
    items = shelf.list(filter);
  }
  for (const std::string& word : job.words) items.push_back(item_named(shelf, job, word));
  shelf.add_details(items);
  return items;
}

std::vector<std::string> folders_of(const ShelfJob& job, const Shelf& shelf, const std::vector<ShelfItem>& items) {
  std::vector<std::string> folders;
  for (const ShelfFolder& f : shelf.folders())
    if (f.host == job.host) folders.push_back(f.path);
  if (folders.empty() && !items.empty()) folders.push_back(fs::path(items.front().path).parent_path().string());
  return folders;
}

class PatternNamer {
 public:
  PatternNamer(const ShelfJob& job, RenamedByList& out) : job_(job), pattern_(job.pattern, kFields), out_(out) {}

  void name(const ShelfItem& item, std::size_t items_in_file) {
    const auto leave = [&](std::string why) { out_.left_alone.push_back({place_of(item), std::move(why)}); };
    if (item.kind == to_string(SurveyKind::game_folder))
      return leave("it is a folder: its name is its loader's matter");
    if (!item.inside.empty() && (items_in_file > 1 || item.archive.empty() || item.files.size() != 1))
      return leave("it does not lie in a file of its own");
    if (item.rotten) return leave("it is no longer what was recorded");
    if (const std::string stale = why_stale(item); !stale.empty()) return leave(stale);
    std::string missing;
    const auto filled = pattern_.fill(values_of(item), missing);
    if (!filled) return leave(fmt::format("it has no {}", missing));
    try {
      add(item, stem_for(item, *filled));
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      leave(e.details.what);
    }
  }

 private:
  std::string stem_for(const ShelfItem& item, const std::string& filled) const {
    TargetFacts facts = target_facts(fs::path(item.path).parent_path());
    if (!job_.file_system.empty()) facts = with_file_system(std::move(facts), job_.file_system);
    std::string stem = made_safe(filled, facts.name_rules());
    if (stem != filled)
      out_.notes.push_back(fmt::format("{}: the drive has it as {}", printable(filled), printable(stem)));
    return stem;
  }

  void add(const ShelfItem& item, const std::string& stem) {
    RenameGroup group{.what = stem, .folder = fs::path(item.path).parent_path(), .steps = {}};
    if (item.inside.empty()) {
      RenamePlan plan = plan_rename(item.path, stem, job_.name_limit);
      group.steps = std::move(plan.steps);
      group.sheet = std::move(plan.sheet);
      group.sheet_text = std::move(plan.sheet_text);
    } else {
      const fs::path from = item.path;
      group.steps.push_back({from, from.parent_path() / (stem + from.extension().string())});
    }
    std::erase_if(group.steps, [](const RenameStep& s) { return s.from == s.to; });
    if (group.empty())
      ++out_.right;
    else
      out_.groups.push_back(std::move(group));
  }

  const ShelfJob& job_;
  const NamePattern pattern_;
  RenamedByList& out_;
};

Outcome rename_by_pattern(const ShelfJob& job, Shelf& shelf, Listener& listener) {
  Outcome outcome;
  RenamedByList out;
  out.planned_only = job.plan_only;
  const std::vector<ShelfItem> items = chosen_items(job, shelf);
  const std::vector<std::string> folders = folders_of(job, shelf, items);
  for (const std::string& folder : folders) {
    if (job.plan_only) break;
    finish_interrupted(folder);
    end_waiting(folder);
  }
  std::map<std::string, std::size_t> in_file;
  for (const ShelfItem& item : items) ++in_file[item.path];
  PatternNamer namer(job, out);
  for (const ShelfItem& item : items) namer.name(item, in_file[item.path]);
  outcome.good = out.left_alone.empty() && !items.empty();
  if (!folders.empty()) rename_groups(out, folders, outcome, listener);
  listener.result(out);
  return outcome;
}

}  // namespace

Outcome rename_on_shelf(const ShelfJob& job, Listener& listener, JobContext& context) {
  Shelf shelf(job.at, Shelf::Opening::existing);
  ShelfMover mover(job, shelf);
  MovingListener moving(listener, mover);
  if (!job.undo.empty()) return run(UndoRenameJob{job.undo, job.plan_only}, moving, context);
  if (!job.pattern.empty()) return rename_by_pattern(job, shelf, moving);
  if (job.by.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "nobody said how they are to be named",
                 .hint = "add <by> LIST, or <pattern> '{title}[ ({region})][ (Disc {disc})]'"});
  RenameByJob by{.inputs = {}, .lists = job.by, .reading = job.reading, .cache = job.cache};
  by.limit = job.name_limit;
  by.file_system = job.file_system;
  by.plan_only = job.plan_only;
  const std::vector<ShelfItem> items = chosen_items(job, shelf);
  if (job.words.empty() && job.filter.is_plain()) {
    by.inputs = folders_of(job, shelf, items);
  } else {
    std::set<std::string> paths;
    for (const ShelfItem& item : items) paths.insert(item.path);
    by.inputs.assign(paths.begin(), paths.end());
  }
  if (by.inputs.empty())
    throw Error({.fault = Fault::usage,
                 .code = "no_item",
                 .what = "no such item of this computer is on the shelf",
                 .file = shelf.name(),
                 .hint = "<job shelf> list shows what there is"});
  return run(by, moving, context);
}

}  // namespace opifex::jobs
