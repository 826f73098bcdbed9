#include "opifex/core/stage/renames.hpp"

#include <algorithm>
#include <cerrno>
#include <map>
#include <set>

#include <sys/stat.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/journal.hpp"
#include "opifex/core/io/output.hpp"

#include "../base/json_names.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;

bool is_there(const fs::path& path) {
  std::error_code ignored;
  return fs::exists(fs::symlink_status(path, ignored));
}

bool is_same_file(const fs::path& a, const fs::path& b) {
  std::error_code ignored;
  return a == b || fs::equivalent(a, b, ignored);
}

/// Every file of a group with its new name.
std::vector<RenameStep> all_steps(const RenameGroup& group) {
  std::vector<RenameStep> steps = group.steps;
  if (group.sheet) steps.push_back(*group.sheet);
  return steps;
}

/// Where a file waits while another one still has its name. It follows from its old name, so that an undo file need not
/// tell it.
fs::path waiting_place(const fs::path& from) {
  return from.parent_path() / (".opifex-renaming-" + digest_of("md5", as_view(from.filename().string())));
}

class Renaming {
 public:
  explicit Renaming(std::vector<RenameGroup> groups) : groups_(std::move(groups)) {}

  void run() {
    try {
      for (std::size_t i = 0; i < groups_.size(); ++i) {
        make_room(i);
        place(groups_[i]);
        for (const RenameStep& step : all_steps(groups_[i])) waiting_.erase(step.from);
      }
    } catch (...) {
      go_back();
      throw;
    }
  }

 private:
  /// Whoever has one of the group's names now waits elsewhere.
  void make_room(std::size_t number) {
    for (const RenameStep& step : all_steps(groups_[number])) {
      const bool rewritten = groups_[number].sheet && step.to == groups_[number].sheet->to && step.from == step.to;
      if (rewritten || !is_there(step.to)) continue;
      for (std::size_t i = number; i < groups_.size(); ++i) move_away(groups_[i], step.to);
    }
  }

  void move_away(RenameGroup& group, const fs::path& place) {
    const auto move = [&](RenameStep& step) {
      if (waiting_.contains(step.from) || !is_there(place) || !is_same_file(step.from, place)) return;
      const fs::path waits = waiting_place(step.from);
      rename_without_replacing(step.from, waits);
      sync_folder(waits.parent_path());
      waiting_[waits] = step.from;
      step.from = waits;
    };
    for (RenameStep& step : group.steps) move(step);
    if (group.sheet && group.sheet->from != group.sheet->to) move(*group.sheet);
  }

  static void place(const RenameGroup& group) {
    RenamePlan plan{group.steps, group.sheet, group.sheet_text};
    // What is told of the job lies in the folder of the last one.
    std::stable_sort(plan.steps.begin(), plan.steps.end(), [&](const RenameStep& a, const RenameStep& b) {
      return (a.to.parent_path() != group.folder) > (b.to.parent_path() != group.folder);
    });
    run_rename(plan);
  }

  void go_back() {
    for (const auto& [waits, from] : waiting_) {
      std::error_code ignored;
      if (is_there(waits) && !is_there(from)) fs::rename(waits, from, ignored);
    }
  }

  std::vector<RenameGroup> groups_;
  std::map<fs::path, fs::path> waiting_;  // and their old names
};

std::string clash_key(const fs::path& path, bool ignore_case) {
  return ignore_case ? fold_case(path.lexically_normal().string()) : path.lexically_normal().string();
}

Error same_output(const fs::path& to, const std::string& other) {
  return Error({.fault = Fault::needs_word,
                .code = "same_output",
                .what = "two files would get this name",
                .file = to.string(),
                .found = printable(other),
                .expected = "a name for each",
                .hint = "move one of them elsewhere, or remove the copy"});
}

Error in_the_way(const fs::path& to) {
  return Error({.fault = Fault::needs_word,
                .code = "exists",
                .cause = Cause::exists,
                .what = "a file of this name is there already",
                .file = to.string(),
                .hint = "move it elsewhere, and run the command again"});
}

/// The first clash of each group with the others as they are now.
std::map<std::size_t, Error> find_clashes(const std::vector<RenameGroup>& groups, bool ignore_case) {
  std::map<std::string, std::size_t> taken;
  std::set<std::string> leaving;
  for (const RenameGroup& group : groups)
    for (const RenameStep& step : all_steps(group)) leaving.insert(clash_key(step.from, ignore_case));
  std::map<std::size_t, Error> clashes;
  for (std::size_t i = 0; i < groups.size(); ++i)
    for (const RenameStep& step : all_steps(groups[i])) {
      const std::string key = clash_key(step.to, ignore_case);
      const auto [at, is_new] = taken.try_emplace(key, i);
      if (!is_new) {
        clashes.try_emplace(i, same_output(step.to, groups[at->second].what));
        clashes.try_emplace(at->second, same_output(step.to, groups[i].what));
      }
      if (is_there(step.to) && !leaving.contains(key)) clashes.try_emplace(i, in_the_way(step.to));
    }
  return clashes;
}

}  // namespace

std::vector<RenameClash> take_out_clashes(std::vector<RenameGroup>& groups, bool ignore_case) {
  std::vector<RenameClash> all;
  // A group that stays keeps its names, which others may have been meant to get.
  for (auto clashes = find_clashes(groups, ignore_case); !clashes.empty(); clashes = find_clashes(groups, ignore_case))
    for (auto at = clashes.rbegin(); at != clashes.rend(); ++at) {
      const auto place = groups.begin() + static_cast<std::ptrdiff_t>(at->first);
      all.push_back({std::move(*place), at->second});
      groups.erase(place);
    }
  std::reverse(all.begin(), all.end());
  return all;
}

void run_renames(const std::vector<RenameGroup>& groups) { Renaming(groups).run(); }

namespace {

std::string text_of(const fs::path& path) {
  constexpr std::size_t kMost = 4 << 20;  // of a sheet
  const SourcePtr file = open_file(path);
  if (file->size() > kMost)
    throw Error({.code = "too_large", .what = "this sheet is too large to be kept for undoing", .file = path.string()});
  return std::string(as_text(read_up_to(*file, 0, kMost)));
}

/// By what a file is known again: renaming changes none of it. The number may change with the drive.
json file_json(const struct stat& facts) {
  const auto ns = static_cast<std::int64_t>(facts.st_mtim.tv_sec) * 1'000'000'000 + facts.st_mtim.tv_nsec;
  return {{"size_bytes", static_cast<std::uint64_t>(facts.st_size)},
          {"modified_ns", ns},
          {"number", static_cast<std::uint64_t>(facts.st_ino)}};
}

json step_json(const RenameStep& step, const fs::path& folder) {
  return {{"from", name_json(seen_from(folder, step.from))}, {"to", name_json(seen_from(folder, step.to))}};
}

[[noreturn]] void no_undo_file(const fs::path& file, const std::string& found) {
  throw Error({.code = "no_undo_file",
               .what = "this is no file to undo a renaming by",
               .file = file.string(),
               .found = found,
               .expected = "the file that the renaming has written"});
}

class UndoReader {
 public:
  explicit UndoReader(const fs::path& file) : file_(file), folder_(file.parent_path()) {}

  std::vector<RenameGroup> read() {
    std::vector<RenameGroup> groups;
    for (const json& one : groups_json())
      if (RenameGroup group = read_group(one); !group.empty()) groups.push_back(std::move(group));
    // The last that was renamed is the first to go back.
    std::reverse(groups.begin(), groups.end());
    return groups;
  }

  void end_waiting() {
    for (const json& one : groups_json()) {
      if (!one.is_object() || !one.contains("steps") || !one["steps"].is_array()) continue;
      for (const json& step : one["steps"]) {
        const fs::path from = place(step, "from", false), waits = waiting_place(from);
        if (is_there(waits) && !is_there(from)) rename_without_replacing(waits, from);
      }
    }
  }

 private:
  json groups_json() const {
    constexpr std::uint64_t kMost = 16 << 20;  // in memory it takes ten times as much
    const SourcePtr source = open_file(file_);
    if (source->size() > kMost) no_undo_file(file_, "a file too large for one");
    const Bytes bytes = read_up_to(*source, 0, kMost);
    const json document = json::parse(as_text(bytes), nullptr, false);
    if (!document.is_object() || document.value("opifex_undo", 0) != 1 || !document.contains("groups") ||
        !document["groups"].is_array())
      no_undo_file(file_, "something else");
    return document["groups"];
  }

  RenameGroup read_group(const json& one) {
    if (!one.is_object() || !one.contains("steps") || !one["steps"].is_array()) no_undo_file(file_, "a broken group");
    RenameGroup group{.what = one.value("set", ""), .folder = place(one, "folder", true), .steps = {}};
    for (const json& step : one["steps"]) {
      if (step.is_object() && step.contains("text_before"))
        read_sheet(step, group);
      else
        read_step(step, group);
    }
    return group;
  }

  /// Nothing to do for a file that has its old name.
  void read_step(const json& step, RenameGroup& group) const {
    const fs::path from = place(step, "from", false), to = place(step, "to", false), waits = waiting_place(from);
    std::vector<fs::path> found;
    for (const fs::path& path : {to, waits, from})
      if (is_it(path, step, false) && std::find(found.begin(), found.end(), path) == found.end()) found.push_back(path);
    // Swapped files of one size and date: then only the number tells them apart.
    if (found.size() > 1) std::erase_if(found, [&](const fs::path& path) { return !is_it(path, step, true); });
    if (found.size() != 1) not_as_renamed(to);
    if (found.front() != from) group.steps.push_back({found.front(), from});
  }

  void read_sheet(const json& step, RenameGroup& group) const {
    const fs::path from = place(step, "from", false), to = place(step, "to", false), waits = waiting_place(from);
    const std::string before = text(step, "text_before"), after = step.value("sha1_after", "");
    const auto has = [](const fs::path& path, const std::string& sha1) {
      return is_there(path) && digest_of("sha1", as_view(text_of(path))) == sha1;
    };
    if (has(to, after)) {
      group.sheet = {to, from};
      group.sheet_text = before;
    } else if (has(waits, digest_of("sha1", as_view(before)))) {
      group.steps.push_back({waits, from});
    } else if (!has(from, digest_of("sha1", as_view(before)))) {
      not_as_renamed(to);
    }
  }

  static bool is_it(const fs::path& path, const json& step, bool by_number) {
    struct stat facts {};
    if (::lstat(path.c_str(), &facts) != 0 || !step.is_object()) return false;
    const json is = file_json(facts);
    const auto same = [&](const char* key) { return step.contains(key) && step[key] == is[key]; };
    return same("size_bytes") && same("modified_ns") && (!by_number || same("number"));
  }

  std::string text(const json& one, const char* key) const {
    const auto name = one.is_object() && one.contains(key) ? name_of(one[key]) : std::nullopt;
    if (!name) no_undo_file(file_, "a broken step");
    return *name;
  }

  fs::path place(const json& one, const char* key, bool may_be_empty) const {
    const std::string name = text(one, key);
    const fs::path path(name);
    const bool leads_out = path.is_absolute() || std::find(path.begin(), path.end(), "..") != path.end();
    if ((name.empty() && !may_be_empty) || leads_out || name.find('\0') != name.npos)
      no_undo_file(file_, "a name that leads elsewhere");
    return name.empty() || name == "." ? folder_ : folder_ / path;
  }

  [[noreturn]] void not_as_renamed(const fs::path& path) const {
    throw Error({.code = "not_as_renamed",
                 .what = "a file is no longer as the renaming left it",
                 .file = path.string(),
                 .found = is_there(path) ? "a file that was changed or replaced since" : "no such file",
                 .expected = "the file that was renamed",
                 .hint = fmt::format("nothing was undone; the old names are in {}", file_.string())});
  }

  fs::path file_, folder_;
};

}  // namespace

void write_undo(const std::vector<RenameGroup>& groups, const fs::path& file) {
  const fs::path folder = file.parent_path();
  json all = json::array();
  for (const RenameGroup& group : groups) {
    json steps = json::array();
    for (const RenameStep& step : group.steps) {
      steps.push_back(step_json(step, folder));
      struct stat facts {};
      if (::lstat(step.from.c_str(), &facts) != 0)
        throw_system_error("cannot look at a file that is to be renamed", step.from.string(), errno);
      steps.back().update(file_json(facts));
    }
    if (group.sheet) {
      steps.push_back(step_json(*group.sheet, folder));
      const std::string before = text_of(group.sheet->from);
      steps.back()["text_before"] = name_json(before);
      steps.back()["sha1_after"] = digest_of("sha1", as_view(group.sheet_text));
    }
    all.push_back(
        {{"set", printable(group.what)}, {"folder", name_json(seen_from(folder, group.folder))}, {"steps", steps}});
  }
  const json document = {{"opifex_undo", 1}, {"groups", all}};
  write_whole_file(file, document.dump(1) + "\n", Existing::keep);
}

void end_waiting(const fs::path& folder) {
  std::error_code ignored;
  for (fs::directory_iterator i(folder, ignored), end; i != end; i.increment(ignored)) {
    if (!is_undo_name(i->path().filename().string())) continue;
    try {
      UndoReader(i->path()).end_waiting();
    } catch (const Error&) {  // no undo file, or no way back: the names that are there are what there is
    } catch (const json::exception&) {
    }
  }
}

bool is_undo_name(std::string_view name) { return name.starts_with("opifex-renamed-") && name.ends_with(".json"); }

std::string undo_name(int more) {
  const CivilTime now = civil_time(seconds_now());
  return fmt::format("opifex-renamed-{:04}{:02}{:02}T{:02}{:02}{:02}Z{}.json", now.year, now.month, now.day, now.hour,
                     now.minute, now.second, more > 1 ? fmt::format("-{}", more) : "");
}

std::vector<RenameGroup> read_undo(const fs::path& file) {
  try {
    return UndoReader(file).read();
  } catch (const json::exception& e) {  // something of another type than it should be
    no_undo_file(file, printable(e.what()));
  }
}

}  // namespace opifex
