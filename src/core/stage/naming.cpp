#include "opifex/core/stage/naming.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/io/journal.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

std::string tail_of(const std::string& name, const std::string& old_stem, std::size_t files, int track) {
  // "merged.bin" has nothing to do with "m.cue".
  const bool ends =
      name.size() == old_stem.size() ||
      std::string_view(". (-_[").find(name[std::min(old_stem.size(), name.size() - 1)]) != std::string_view::npos;
  if (name.starts_with(old_stem) && ends) return name.substr(old_stem.size());
  const std::string extension = fs::path(name).extension().string();
  return files == 1 ? extension : fmt::format(" (Track {}){}", track, extension);
}

class SetRenamer {
 public:
  SetRenamer(const fs::path& set, const std::string& new_stem, std::optional<std::size_t> limit)
      : set_(set), folder_(set.parent_path()), old_stem_(set.stem().string()), new_stem_(new_stem), limit_(limit) {}

  RenamePlan plan() {
    const Format& format = probe_format(set_);
    if (format.read_sheet)
      add_sheet(format);
    else
      add_single();
    add_sidecars();
    finish();
    return std::move(plan_);
  }

 private:
  void add(const fs::path& from, std::string tail) {
    const bool known = std::any_of(parts_.begin(), parts_.end(), [&](const auto& p) { return p.first == from; });
    if (!known) parts_.emplace_back(from, std::move(tail));
  }

  void add_sheet(const Format& format) {
    sheet_ = format.read_sheet(set_);
    int track = 0;
    for (const SheetText::File& file : sheet_->files) {
      ++track;
      if (!file.path)
        throw Error({.code = "missing_file",
                     .what = "a file of the set is missing, so the set cannot be renamed",
                     .file = set_.string(),
                     .line = file.line,
                     .found = "no " + printable(file.name),
                     .expected = "it beside the sheet",
                     .hint = file.hint});
      add(*file.path, tail_of(file.path->filename().string(), old_stem_, sheet_->files.size(), track));
    }
  }

  /// A sheet of the same name; empty if there is none.
  fs::path sheet_beside() const {
    for (const Format* f : formats())
      for (const std::string_view extension : f->extensions)
        if (const fs::path sheet = folder_ / (old_stem_ + std::string(extension)); is_sheet_name(sheet))
          if (fs::exists(sheet)) return sheet;
    return {};
  }

  void add_single() {
    // A bin that a sheet names must be renamed with it.
    if (const fs::path sheet = sheet_beside(); !sheet.empty())
      throw Error({.fault = Fault::usage,
                   .code = "needs_sheet",
                   .what = "this file belongs to a sheet",
                   .file = set_.string(),
                   .found = sheet.filename().string(),
                   .expected = "the sheet's name in the command",
                   .hint = fmt::format("<job rename> '{}' '{}'", sheet.string(), new_stem_)});
    if (add_parts()) return;
    refuse_several_files();
    add(set_, set_.extension().string());
  }

  /// All parts of a file that was cut; false if it was not.
  bool add_parts() {
    const auto set = part_set_of(set_);
    if (!set || (set->parts.size() < 2 && set->missing.empty())) return false;
    if (!set->missing.empty())
      throw Error({.code = "missing_part",
                   .cause = Cause::missing_part,
                   .what = "a part of the file is missing, so the set cannot be renamed",
                   .file = set_.string(),
                   .found = "no " + fmt::format("{}", fmt::join(set->missing, ", ")),
                   .hint = "put it beside the others"});
    const fs::path stem(set->stem);
    old_stem_ = is_image_name(stem) ? stem.stem().string() : set->stem;
    for (const std::string& part : set->parts) add(folder_ / part, part.substr(old_stem_.size()));
    return true;
  }

  /// A header whose data lies in files of their own names, a track list that names its files.
  void refuse_several_files() {
    OpenOptions options;
    options.allow_missing = true;
    const Image image = open_image(set_, options);
    const bool others =
        std::any_of(image.files.begin(), image.files.end(), [&](const ImageFile& f) { return f.path != set_; });
    if (others)
      throw Error({.code = "several_files",
                   .what = fmt::format("a set of the format {} cannot be renamed: it has files that are found by name",
                                       image.format->id),
                   .file = set_.string(),
                   .found = fmt::format("{} files", image.files.size()),
                   .hint = "<job convert> writes it under another name"});
  }

  /// Same stem, another extension: a cover, a patch, notes.
  void add_sidecars() {
    std::error_code ignored;
    std::vector<fs::path> entries;
    for (fs::directory_iterator i(folder_.empty() ? "." : folder_, ignored), end; i != end; i.increment(ignored))
      entries.push_back(folder_ / i->path().filename());
    std::sort(entries.begin(), entries.end());
    for (const fs::path& entry : entries)
      if (entry != set_ && entry.stem().string() == old_stem_ && fs::is_regular_file(entry, ignored))
        add(entry, entry.extension().string());
  }

  void finish() {
    std::string longest = sheet_ ? set_.extension().string() : std::string{};
    for (const auto& [from, tail] : parts_)
      if (utf16_units(tail) > utf16_units(longest)) longest = tail;
    const std::string stem = limit_ ? shorten_stem(new_stem_, longest, *limit_) : new_stem_;
    std::string fault = name_fault(stem);
    if (fault.empty()) fault = name_fault(stem + longest);
    if (!fault.empty())
      throw Error({.fault = Fault::usage,
                   .code = "bad_name",
                   .what = "this name does not work on every drive",
                   .file = stem + longest,
                   .found = fault,
                   .expected = "a name FAT, exFAT and NTFS can hold",
                   .hint = "leave those characters out; <limit> N shortens a long name"});
    for (const auto& [from, tail] : parts_)
      if (const fs::path to = from.parent_path() / (stem + tail); to != from) plan_.steps.push_back({from, to});
    if (sheet_) rewrite_sheet(stem);
    std::vector<fs::path> targets;
    for (const RenameStep& step : plan_.steps) targets.push_back(step.to);
    if (plan_.sheet && plan_.sheet->to != set_) targets.push_back(plan_.sheet->to);
    refuse_existing(targets, {}, Existing::keep);
  }

  void rewrite_sheet(const std::string& stem) {
    std::vector<std::string> names;
    for (const SheetText::File& file : sheet_->files) {
      const auto part =
          std::find_if(parts_.begin(), parts_.end(), [&](const auto& p) { return p.first == *file.path; });
      names.push_back(stem + part->second);
    }
    const RenameStep sheet{set_, folder_ / (stem + set_.extension().string())};
    if (sheet.from == sheet.to && plan_.steps.empty()) return;  // it has this name already
    plan_.sheet = sheet;
    plan_.sheet_text = sheet_->with_names(names);
  }

  fs::path set_, folder_;
  std::string old_stem_, new_stem_;
  std::optional<std::size_t> limit_;
  std::optional<SheetText> sheet_;
  std::vector<std::pair<fs::path, std::string>> parts_;  // file, and its name behind the stem
  RenamePlan plan_;
};

}  // namespace

std::string shorten_stem(std::string_view stem, std::string_view longest_tail, std::size_t limit) {
  const std::size_t tail = utf16_units(longest_tail);
  std::string out(stem);
  while (!out.empty() && utf16_units(out) + tail > limit) {
    do out.pop_back();
    while (!out.empty() && !is_utf8(out));
  }
  const bool cut = out.size() < stem.size();
  while (cut && !out.empty() && std::string_view(" .-_(,[&+").find(out.back()) != std::string_view::npos)
    out.pop_back();
  if (out.empty())
    throw Error({.fault = Fault::usage,
                 .code = "limit_too_small",
                 .what = "the limit leaves no room for a name",
                 .found = fmt::format("{} characters", limit),
                 .expected = fmt::format("more than {} for \"{}\"", tail, longest_tail)});
  return out;
}

RenamePlan plan_rename(const fs::path& set, const std::string& new_stem, std::optional<std::size_t> limit) {
  return SetRenamer(set, new_stem, limit).plan();
}

void run_rename(const RenamePlan& plan) {
  std::vector<Placing> files;
  for (const RenameStep& step : plan.steps) files.push_back({step.from, step.to, {}});
  if (!plan.sheet) return place_together(files);
  // The new sheet is written first, and gets its name with the files it names.
  const fs::path written = plan.sheet->to.parent_path() / ("." + plan.sheet->to.filename().string() + ".opifex-new");
  write_whole_file(written, plan.sheet_text, Existing::replace);
  const bool same = plan.sheet->from == plan.sheet->to;
  const fs::path aside = same ? fs::path(plan.sheet->to.string() + ".opifex-old") : fs::path();
  files.push_back({written, plan.sheet->to, aside});
  try {
    place_together(files, same ? std::vector<fs::path>{} : std::vector<fs::path>{plan.sheet->from});
  } catch (...) {
    std::error_code ignored;
    fs::remove(written, ignored);
    throw;
  }
}

}  // namespace opifex
