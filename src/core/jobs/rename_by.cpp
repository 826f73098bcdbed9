#include "opifex/core/jobs/rename_by.hpp"

#include <algorithm>
#include <map>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/image/inputs.hpp"
#include "opifex/core/io/journal.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/io/target.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/core/jobs/known.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "rename_groups.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

RenameByJob RenameByJob::of(std::vector<std::string> inputs, const Settings& settings) {
  RenameByJob job{.inputs = std::move(inputs), .lists = settings.all(kByList)};
  job.reading = ReadRules::of(settings);
  if (const auto limit = settings.number(kNameLimit)) job.limit = static_cast<std::size_t>(*limit);
  job.file_system = settings.text(kFileSystem);
  job.plan_only = settings.flag(kPlan);
  return job;
}

namespace {

/// One set of one list, as the files here have it.
struct SetHere {
  std::size_t list = 0;
  const SetMatch* match = nullptr;
  std::vector<std::size_t> files;  // of the collection
};

/// The names that the files of one set get.
class SetNamer {
 public:
  SetNamer(const KnownTold& told, const SetHere& here, const RenameByJob& job, RenamedByList& out)
      : told_(told),
        here_(here),
        list_(*told.lists[here.list]),
        match_(told.matches[here.list]),
        set_(list_.sets[here.match->set]),
        job_(job),
        out_(out) {}

  /// Why it cannot be named; empty: `group` says how.
  std::string name(RenameGroup& group) {
    group.what = std::string(list_.name(set_));
    if (here_.files.empty()) return {};
    TargetFacts facts = target_facts(fs::path(file(here_.files.front()).path).parent_path());
    if (!job_.file_system.empty()) facts = with_file_system(std::move(facts), job_.file_system);
    rules_ = facts.name_rules();
    longest_ = std::min(facts.longest_name, job_.limit.value_or(facts.longest_name));
    for (const std::size_t f : here_.files)
      if (std::string why = add(f, group); !why.empty()) return why;
    if (std::string why = add_sheet(group); !why.empty()) return why;
    add_sidecars(group);
    std::erase_if(group.steps, [](const RenameStep& s) { return s.from == s.to; });
    return {};
  }

 private:
  const CollectedFile& file(std::size_t f) const { return told_.collection.files[f]; }

  /// A name of the list's as this drive can have it; empty: it must not be used.
  std::string usable(std::string_view name, bool unsafe) {
    const std::string base(listed_base(name));
    if (unsafe || !is_safe_name(base)) return {};
    std::string made = made_safe(base, rules_);
    if (utf16_units(made) > longest_) made = shortened(made, longest_);
    if (made != base) out_.notes.push_back(fmt::format("{}: the drive has it as {}", printable(base), printable(made)));
    return made;
  }

  std::string set_name(const std::string& ending) {
    // The name of a set is a folder's: it may hold what looks like an ending.
    const std::string base(listed_base(list_.name(set_)));
    return set_.unsafe != 0 || !is_safe_name(base) ? "" : usable(base + ending, false);
  }

  std::string new_name(std::size_t f) {
    const FileMatch& m = match_.files[f];
    const std::string ending = fs::path(file(f).base).extension().string();
    if (!m.entry) return set_name(ending);
    const ListedEntry& e = list_.entries[*m.entry];
    const std::string listed(listed_base(list_.name(e)));
    // What was compared through is not the file: it keeps its own ending.
    if (m.through.empty()) return usable(listed, e.unsafe != 0);
    const std::string stem = e.kind == ListedKind::disk ? listed : fs::path(listed).stem().string();
    return usable(stem + ending, e.unsafe != 0);
  }

  std::string add(std::size_t f, RenameGroup& group) {
    const fs::path from = file(f).path;
    if (const auto parts = part_set_of(from); parts && parts->parts.size() > 1)
      return "it lies in parts: they are renamed one set at a time";
    const std::string name = new_name(f);
    if (name.empty()) return "the list's name for it is no safe name of a file";
    const bool sheet = static_cast<bool>(file(f).sheet);
    names_[from] = name;
    if (sheet)
      sheet_ = f;
    else
      group.steps.push_back({from, from.parent_path() / name});
    if (sheet || here_.files.size() == 1) lead_ = from;
    if (group.folder.empty() || sheet) group.folder = from.parent_path();
    return {};
  }

  /// The sheet names its files: with their new names.
  std::string add_sheet(RenameGroup& group) {
    if (!sheet_) return {};
    const fs::path from = file(*sheet_).path;
    const SheetText text = probe_format(from).read_sheet(from);
    std::vector<std::string> names;
    for (const SheetText::File& named : text.files) {
      if (!named.path) return "its sheet names a file that is not there";
      const auto at = names_.find(*named.path);
      if (at == names_.end()) return "its sheet names a file that is none of the set";
      const fs::path folder = fs::path(named.name).parent_path();
      names.push_back((folder / at->second).string());
    }
    const RenameStep step{from, from.parent_path() / names_[from]};
    group.sheet_text = text.with_names(names);
    const bool same_text = group.sheet_text == std::string(as_text(read_up_to(*open_file(from), 0, 4 << 20)));
    if (step.from == step.to && same_text) return {};
    if (same_text)
      group.steps.push_back(step);
    else
      group.sheet = step;
    return {};
  }

  /// Covers, patches, notes: of the same name, and known to nobody.
  void add_sidecars(RenameGroup& group) {
    if (lead_.empty()) return;
    const std::string old_stem = lead_.stem().string(), stem = fs::path(names_[lead_]).stem().string();
    for (std::size_t f = 0; f < told_.collection.files.size(); ++f) {
      const CollectedFile& other = file(f);
      const fs::path path = other.path;
      const bool beside = other.archive.empty() && path.parent_path() == lead_.parent_path();
      if (!beside || other.of_image || names_.contains(path) || !other.base.starts_with(old_stem + ".")) continue;
      const FileVerdict verdict = match_.files[f].verdict;
      if (verdict != FileVerdict::unknown && verdict != FileVerdict::extra) continue;
      if (const std::string name = usable(stem + other.base.substr(old_stem.size()), false); !name.empty())
        group.steps.push_back({path, path.parent_path() / name});
    }
  }

  const KnownTold& told_;
  const SetHere& here_;
  const KnownList& list_;
  const ListMatch& match_;
  const ListedSet& set_;
  const RenameByJob& job_;
  RenamedByList& out_;
  NameRules rules_ = NameRules::host;
  std::size_t longest_ = 255;
  std::map<fs::path, std::string> names_;  // old places, new names
  std::optional<std::size_t> sheet_;
  fs::path lead_;
};

/// What lists know, made into groups to be renamed.
class ListRenamer final : public Listener {
 public:
  ListRenamer(const RenameByJob& job, Listener& outer) : job_(job), outer_(outer) {}

  using Listener::failed;
  using Listener::result;
  void failed(const Error& e) override { outer_.failed(e); }
  void message(const Warning& w) override { outer_.message(w); }
  void result(const KnownTold& told) override {
    for (std::size_t list = 0; list < told.lists.size(); ++list) add_list(told, list);
    leave_alone_unknown(told);
  }

  RenamedByList out;

 private:
  void add_list(const KnownTold& told, std::size_t number) {
    const ListMatch& match = told.matches[number];
    for (const SetMatch& set : match.sets) {
      if (set.verdict != SetVerdict::complete) continue;
      SetHere here{number, &set, {}};
      std::set<std::string> archives;
      for (std::size_t f = 0; f < told.collection.files.size(); ++f) {
        if (done_.contains(f) || !is_of(told, number, f, set.set)) continue;
        if (told.collection.files[f].archive.empty())
          here.files.push_back(f);
        else
          archives.insert(told.collection.files[f].archive);
        done_.insert(f);
      }
      add_set(told, here);
      for (const std::string& archive : archives) add_archive(told, number, set, archive);
    }
  }

  /// A file, a sheet, or a bin whose tracks are those of the set.
  static bool is_of(const KnownTold& told, std::size_t list, std::size_t f, std::uint32_t set) {
    const FileMatch& m = told.matches[list].files[f];
    if (m.verdict == FileVerdict::layout) return layout_set(told, list, f) == set;
    const bool given = m.verdict == FileVerdict::good || m.verdict == FileVerdict::renamed ||
                       m.verdict == FileVerdict::equivalent || m.verdict == FileVerdict::differs;
    if (given) return m.set == set;
    return told.collection.files[f].sheet && sheet_set(told, list, f) == set;
  }

  static std::optional<std::uint32_t> layout_set(const KnownTold& told, std::size_t list, std::size_t f) {
    const ListMatch& match = told.matches[list];
    for (std::size_t p = 0; p < match.pieces.size(); ++p) {
      const auto& files = told.collection.pieces[p].files;
      if (match.pieces[p] && std::find(files.begin(), files.end(), f) != files.end())
        return told.lists[list]->entries[*match.pieces[p]].set;
    }
    return std::nullopt;
  }

  /// Of a sheet that the list has no entry for: the set of the files it names.
  static std::optional<std::uint32_t> sheet_set(const KnownTold& told, std::size_t list, std::size_t sheet) {
    std::optional<std::uint32_t> set;
    for (std::size_t f = 0; f < told.collection.files.size(); ++f) {
      const CollectedFile& file = told.collection.files[f];
      if (f == sheet || !file.image || file.image != told.collection.files[sheet].image) continue;
      const FileMatch& m = told.matches[list].files[f];
      const auto its = m.verdict == FileVerdict::layout ? layout_set(told, list, f) : m.set;
      if (!its || (set && set != its)) return std::nullopt;
      set = its;
    }
    return set;
  }

  void add_set(const KnownTold& told, const SetHere& here) {
    if (here.files.empty()) return;
    RenameGroup group;
    SetNamer namer(told, here, job_, out);
    const std::string why = namer.name(group);
    if (!why.empty())
      out.left_alone.push_back({group.what, why});
    else if (group.empty())
      ++out.right;
    else
      out.groups.push_back(std::move(group));
  }

  /// The whole archive bears the name of the one set that is in it.
  void add_archive(const KnownTold& told, std::size_t list, const SetMatch& set, const std::string& archive) {
    const ListedSet& listed = told.lists[list]->sets[set.set];
    const std::string name(listed_base(told.lists[list]->name(listed)));
    const auto leave = [&](const char* why) { out.left_alone.push_back({archive, why}); };
    for (std::size_t f = 0; f < told.collection.files.size(); ++f)
      if (told.collection.files[f].archive == archive && !is_of(told, list, f, set.set))
        return leave("it holds more than the one set: archives are not rewritten");
    if (open_archive(archive, {})->volumes().size() > 1) return leave("it lies in volumes: they keep their names");
    if (listed.unsafe != 0 || !is_safe_name(name)) return leave("the list's name for it is no safe name of a file");
    const fs::path from(archive);
    std::string ending = from.extension().string();
    if (from.stem().extension() == ".tar") ending = ".tar" + ending;
    TargetFacts facts = target_facts(from.parent_path());
    if (!job_.file_system.empty()) facts = with_file_system(std::move(facts), job_.file_system);
    const std::size_t longest = std::min(facts.longest_name, job_.limit.value_or(facts.longest_name));
    const fs::path to = from.parent_path() / shortened(made_safe(name + ending, facts.name_rules()), longest);
    if (from == to)
      ++out.right;
    else
      out.groups.push_back({.what = name, .folder = from.parent_path(), .steps = {{from, to}}});
  }

  void leave_alone_unknown(const KnownTold& told) {
    for (const KnownImage& image : told.images) {
      const KnownVerdict v = image.best.verdict;
      if (v == KnownVerdict::duplicate)
        out.left_alone.push_back({image.name, "another file here holds the same"});
      else if (v == KnownVerdict::part_missing)
        out.left_alone.push_back({image.name, "a part of its set is missing"}), good = false;
      else if (v >= KnownVerdict::differs)
        out.left_alone.push_back({image.name, "no list knows it"}), good = false;
    }
  }

  const RenameByJob& job_;
  Listener& outer_;
  std::set<std::size_t> done_;

 public:
  bool good = true;
};

/// One undo file for each folder that was named: it lies there, whatever the drive is called later.
fs::path root_of(const RenameGroup& group, const std::vector<std::string>& inputs) {
  for (const std::string& input : inputs) {
    if (!fs::is_directory(input)) continue;
    const fs::path inside = group.folder.lexically_normal().lexically_relative(fs::path(input).lexically_normal());
    if (!inside.empty() && *inside.begin() != "..") return input;
  }
  return group.folder;
}

/// An undo file has a say about its own folder and what is below it alone.
bool lies_below(const RenameGroup& group, const fs::path& root) {
  const auto is_below = [&](const fs::path& path) {
    const fs::path inside = fs::absolute(path).lexically_normal().lexically_relative(
        fs::absolute(root.empty() ? "." : root).lexically_normal());
    return !inside.empty() && *inside.begin() != "..";
  };
  return (!group.sheet || is_below(group.sheet->from)) &&
         std::all_of(group.steps.begin(), group.steps.end(), [&](const RenameStep& s) { return is_below(s.from); });
}

fs::path undo_file_in(const fs::path& folder) {
  fs::path file = folder / undo_name();
  for (int n = 2; fs::exists(file); ++n) file = folder / undo_name(n);
  return file;
}

void take_out(RenamedByList& out, Outcome& outcome, Listener& listener, bool ignore_case) {
  for (RenameClash& clash : take_out_clashes(out.groups, ignore_case)) {
    out.left_alone.push_back({clash.group.what, clash.error.details.what});
    outcome.failures.push_back(clash.error.details);
    listener.failed(clash.error);
  }
}

}  // namespace

void rename_groups(RenamedByList& out, const std::vector<std::string>& inputs, Outcome& outcome, Listener& listener) {
  const fs::path first = inputs.front();
  const TargetFacts facts = target_facts(fs::is_directory(first) ? first : first.parent_path());
  const auto elsewhere = std::stable_partition(out.groups.begin(), out.groups.end(), [&](const RenameGroup& group) {
    return lies_below(group, root_of(group, inputs));
  });
  for (auto group = elsewhere; group != out.groups.end(); ++group)
    out.left_alone.push_back({group->what, "some of its files lie outside of its folder"});
  out.groups.erase(elsewhere, out.groups.end());
  take_out(out, outcome, listener, facts.limits_names());
  if (!out.planned_only && !out.groups.empty()) {
    std::map<fs::path, std::vector<RenameGroup>> by_root;
    for (const RenameGroup& group : out.groups) by_root[root_of(group, inputs)].push_back(group);
    for (const auto& [root, groups] : by_root) {
      const fs::path undo = undo_file_in(root);
      write_undo(groups, undo);
      out.undo.push_back(undo);
      run_renames(groups);
    }
  }
}

Outcome run(const RenameByJob& job, Listener& listener, JobContext& context) {
  CheckJob check{.inputs = job.inputs, .reading = job.reading, .against = job.lists, .cache = job.cache};
  check.reading.opening.allow_missing = true;
  for (const std::string& input : job.inputs) {
    const fs::path folder = fs::is_directory(input) ? fs::path(input) : fs::path(input).parent_path();
    if (job.plan_only) continue;
    finish_interrupted(folder);
    end_waiting(folder.empty() ? "." : folder);
  }
  ListRenamer renamer(job, listener);
  const CheckOutcome checked = run(check, renamer, context);
  Outcome outcome{.good = renamer.good, .failures = checked.failures};
  RenamedByList& out = renamer.out;
  out.planned_only = job.plan_only;
  rename_groups(out, job.inputs, outcome, listener);
  if (out.groups.empty() && out.right == 0) outcome.good = false;
  listener.result(out);
  return outcome;
}

Outcome run(const UndoRenameJob& job, Listener& listener, JobContext&) {
  RenamedByList out;
  if (!job.plan_only) finish_interrupted(job.file.parent_path());
  out.groups = read_undo(job.file);
  out.planned_only = job.plan_only;
  out.undone = true;
  Outcome outcome;
  const fs::path folder = job.file.parent_path();
  take_out(out, outcome, listener, target_facts(folder.empty() ? "." : folder).limits_names());
  if (!outcome.failures.empty()) out.groups.clear();  // all of it or nothing: the file can be used again
  if (!job.plan_only && outcome.failures.empty()) {
    run_renames(out.groups);
    fs::remove(job.file);
  }
  listener.result(out);
  return outcome;
}

}  // namespace opifex::jobs
