#include "opifex/core/stage/survey.hpp"

#include <algorithm>
#include <map>
#include <set>
#include <utility>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/file_space.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/stage/naming.hpp"

#include "disc_sets.hpp"
#include "duplicates.hpp"
#include "examiner.hpp"
#include "loader_places.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr int kDeepest = 24;
constexpr std::size_t kMostFiles = 500'000;

class Surveyor {
 public:
  Surveyor(const SurveyRequest& request, JobContext& context)
      : request_(request), context_(context), examiner_(request) {
    survey_.folder = request.folder;
    survey_.drive = request.drive;
  }

  Survey run() {
    walk(request_.folder, 0);
    // Sheets first: the files they name are theirs.
    std::stable_partition(candidates_.begin(), candidates_.end(), is_sheet_name);
    const auto sheets_end = std::find_if_not(candidates_.begin(), candidates_.end(), is_sheet_name);
    examine({candidates_.begin(), sheets_end});
    std::vector<fs::path> rest;
    for (auto c = sheets_end; c != candidates_.end(); ++c)
      if (!taken_.contains(*c)) rest.push_back(*c);
    examine(rest);
    std::sort(survey_.items.begin(), survey_.items.end(),
              [](const SurveyItem& a, const SurveyItem& b) { return a.path < b.path; });
    find_strays();
    check_places();
    if (!request_.for_a_job)
      for (Warning& w : find_duplicates(survey_, context_)) survey_.problems.push_back(std::move(w));
    join_discs(survey_);
    for (const SurveyItem& i : survey_.items) survey_.total_bytes += i.size_bytes;
    return std::move(survey_);
  }

 private:
  struct Listing {
    std::vector<fs::path> folders;
    std::vector<std::string> names;  // of files
  };

  /// Candidates of a folder and of those in it. Game folders are items at once.
  void walk(const fs::path& folder, int depth) {
    context_.progress.check_stop();
    const Listing listing = list(folder);
    for (const std::string& name : listing.names) check_name(folder, name);
    add_files(folder, listing.names);
    for (const fs::path& f : listing.folders) add_folder(f, listing.names, depth);
  }

  /// In order of names, whatever order the drive has them in.
  Listing list(const fs::path& folder) {
    Listing listing;
    std::error_code error;
    for (fs::directory_iterator i(folder, error), end; !error && i != end && seen_ < kMostFiles;
         i.increment(error), ++seen_) {
      std::error_code ignored;
      if (i->is_symlink(ignored))
        not_seen({"link", i->path().string() + " is a link: it is not followed"});
      else if (i->is_directory(ignored))
        listing.folders.push_back(i->path());
      else if (i->is_regular_file(ignored))
        listing.names.push_back(i->path().filename().string());
    }
    if (error)
      not_seen({"unreadable_folder",
                folder.string() + " cannot be read: " + error.message(),
                {},
                Cause::other,
                Fault::device});
    if (seen_ >= kMostFiles && !std::exchange(too_many_, true))
      not_seen({"too_many_files", fmt::format("there are more than {} files: not all were looked at", kMostFiles)});
    std::sort(listing.names.begin(), listing.names.end());
    std::sort(listing.folders.begin(), listing.folders.end());
    return listing;
  }

  /// Each file once, a set of parts by its first one.
  void add_files(const fs::path& folder, const std::vector<std::string>& names) {
    std::set<std::string> parts;
    for (const PartSet& set : find_part_sets(names)) {
      if (set.parts.size() < 2 && set.missing.empty()) continue;
      if (are_two_discs(folder, set)) continue;
      parts.insert(set.parts.begin(), set.parts.end());
      // One new part makes another file of them all.
      if (std::all_of(set.parts.begin(), set.parts.end(), [&](const auto& p) { return is_settled(folder / p); }))
        continue;
      candidates_.push_back(folder / (set.open.empty() ? set.parts.front() : set.open));
      for (const std::string& d : set.duplicates)
        survey_.problems.push_back(
            {"double_part", (folder / d).string() + " has the number of another part: not used"});
      for (const std::string& p : set.parts) part_bytes_[candidates_.back()].push_back(folder / p);
    }
    for (const std::string& name : names)
      if (!parts.contains(name) && !is_settled(folder / name)) candidates_.push_back(folder / name);
  }

  bool is_settled(const fs::path& path) const { return request_.settled && request_.settled(path); }

  /// An installed game (a header, and its data in a folder of the same name), a game as a folder, or more to look into.
  void add_folder(const fs::path& f, const std::vector<std::string>& names_beside, int depth) {
    if (is_settled(f)) return;
    const std::string stem = f.stem().string();
    const bool data = folded_extension(f) == ".data";
    const auto header = std::find_if(names_beside.begin(), names_beside.end(),
                                     [&](const std::string& n) { return fold_case(n) == fold_case(stem); });
    if (data && header != names_beside.end()) return add_data_folder(f.parent_path() / *header, f);
    if (data && fs::exists(f / "Data0000", ignored_)) {
      survey_.problems.push_back(
          {"no_header", f.string() + " has the data of a game, but its header, " + stem + ", is missing"});
      return;
    }
    if (auto game = identify_game_folder(f)) return add_game_folder(f, *game);
    if (depth < kDeepest) return walk(f, depth + 1);
    not_seen({"too_deep", f.string() + " lies too deep: what is in it was not looked at"});
  }

  void add_game_folder(const fs::path& f, const NonImage& game) {
    SurveyItem item;
    item.path = f;
    item.kind = SurveyKind::game_folder;
    item.id = game.id;
    request_.titles.apply(item.id);
    item.size_bytes = game.size_bytes;
    for (const auto& split : game.split_files)
      if (!split.complete)
        item.warnings.push_back({"missing_part", split.path + " was split, and parts of it are missing"});
    item.complete = item.warnings.empty();
    survey_.items.push_back(std::move(item));
  }

  void not_seen(const Warning& what) {
    survey_.problems.push_back(what);
    survey_.unseen.push_back(what);
  }

  /// X.1.iso and X.2.iso that are no parts of one; each is looked at by itself then, and tells what is wrong with it.
  static bool are_two_discs(const fs::path& folder, const PartSet& set) {
    try {
      return !is_one_image(folder / set.parts.front(), set);
    } catch (const Error&) {
      return true;
    }
  }

  void check_name(const fs::path& folder, const std::string& name) {
    const std::string fault = name_fault(name);
    const bool limits = request_.drive.limits_names();
    if (!fault.empty() && limits)
      survey_.problems.push_back({"odd_name", fmt::format("{} cannot be on a {} drive: {}", (folder / name).string(),
                                                          request_.drive.file_system, fault)});
    std::error_code ignored;
    const std::uint64_t size = fs::file_size(folder / name, ignored);
    if (!ignored && size > request_.drive.largest_file_bytes)
      survey_.problems.push_back(
          {"file_too_large",
           fmt::format("{} has {}: {} takes at most {} a file", (folder / name).string(), human_size(size),
                       request_.drive.file_system, human_size(request_.drive.largest_file_bytes))});
  }

  void examine(const std::vector<fs::path>& paths) {
    // One file a block: what is found of it is what the block carries.
    using Block = FlowOf<std::optional<SurveyItem>>::Block;
    FlowOf<std::optional<SurveyItem>> flow;
    flow.next = [&](Block& block) { return block.index < paths.size(); };
    flow.work = [&](Block& block) { block.carried = examiner_.examine(paths[block.index]); };
    flow.consume.emplace_back([&](Block& block) { take(std::move(block.carried)); });
    constexpr std::size_t kInFlight = 64;  // items are small; what they are told by may be large
    run_flow(flow, context_, kInFlight);
  }

  void take(std::optional<SurveyItem> item) {
    if (!item) {
      ++survey_.other_files;
      return;
    }
    if (const auto parts = part_bytes_.find(item->path); parts != part_bytes_.end()) add_parts(*item, parts->second);
    taken_.insert(item->files.begin(), item->files.end());
    survey_.items.push_back(std::move(*item));
  }

  void add_data_folder(const fs::path& header, const fs::path& data) {
    std::vector<fs::path>& parts = part_bytes_[header];
    parts.push_back(header);
    std::error_code ignored;
    for (fs::directory_iterator i(data, ignored), end; i != end; i.increment(ignored))
      if (i->is_regular_file(ignored)) parts.push_back(i->path());
    std::sort(parts.begin() + 1, parts.end());
  }

  static void add_parts(SurveyItem& item, const std::vector<fs::path>& parts) {
    item.files = parts;
    if (!item.package) item.parts = parts.size();
    item.size_bytes = 0;
    std::error_code ignored;
    for (const fs::path& p : parts) item.size_bytes += fs::file_size(p, ignored);
    if (item.kind != SurveyKind::archive) return;
    if (const auto set = part_set_of(item.path); set && !set->missing.empty()) {
      item.complete = false;
      item.warnings.push_back({"missing_part", fmt::format("missing: {}", fmt::join(set->missing, ", "))});
    }
  }

  /// On the drive of a loader games have their places.
  void check_places() {
    const auto root = loader_drive(survey_.folder);
    if (!root) return;
    std::error_code ignored;
    for (SurveyItem& i : survey_.items) {
      if (i.kind != SurveyKind::image) continue;
      const fs::path place = fs::weakly_canonical(i.path, ignored).lexically_relative(*root);
      for (Warning& w : place_warnings(place, i.id)) i.warnings.push_back(std::move(w));
    }
  }

  /// What makes a game appear twice, or not at all.
  void find_strays() {
    std::map<std::string, const SurveyItem*> isos;
    for (const SurveyItem& i : survey_.items)
      if (const Format* f = find_format(i.format); f && f->stored == Stored::blocks)
        isos[fold_case(fs::path(i.path).replace_extension().string())] = &i;
    for (SurveyItem& i : survey_.items) {
      if (!is_sheet_name(i.path)) continue;
      const auto at = isos.find(fold_case(fs::path(i.path).replace_extension().string()));
      if (at == isos.end()) continue;
      i.warnings.push_back({"leftover_sheet", fmt::format("{} has the same name: the game would appear twice",
                                                          at->second->path.filename().string())});
    }
  }

  const SurveyRequest& request_;
  JobContext& context_;
  const Examiner examiner_;
  Survey survey_;
  std::vector<fs::path> candidates_;
  std::map<fs::path, std::vector<fs::path>> part_bytes_;  // by the part that is opened
  std::set<fs::path> taken_;
  std::size_t seen_ = 0;
  bool too_many_ = false;
  std::error_code ignored_;
};

}  // namespace

std::string_view to_string(SurveyKind kind) {
  switch (kind) {
    case SurveyKind::image:
      return "image";
    case SurveyKind::archive:
      return "archive";
    case SurveyKind::game_folder:
      return "game folder";
    case SurveyKind::package:
      return "package";
    case SurveyKind::container:
      return "container";
    case SurveyKind::drive_image:
      return "drive image";
    case SurveyKind::broken:
      return "broken";
  }
  return "";
}

Survey survey_folder(const SurveyRequest& request, JobContext& context) { return Surveyor(request, context).run(); }

}  // namespace opifex
