#include "opifex/core/stage/survey.hpp"

#include <algorithm>
#include <atomic>
#include <map>
#include <set>
#include <thread>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/convert/extract.hpp"
#include "opifex/core/formats/wbfs/wbfs.hpp"
#include "opifex/core/io/archive.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/stage/naming.hpp"

#include "loader_places.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr int kDeepest = 24;
constexpr std::size_t kMostFiles = 500'000;
constexpr int kSureBits = 32;  // of a probe: enough without a fitting name

std::string extension_of(const fs::path& path) { return fold_case(path.extension().string()); }

bool is_sheet(const fs::path& path) { return extension_of(path) == ".cue"; }

bool named_like_image(const fs::path& path) {
  const std::string extension = extension_of(path);
  if (extension == ".img") return true;
  return std::any_of(formats().begin(), formats().end(), [&](const Format* f) { return f->owns(extension); });
}

/// What one file (or set of parts) is; nothing if it is no game.
class Examiner {
 public:
  explicit Examiner(const SurveyRequest& request) : request_(request) { opening_.allow_missing = true; }

  std::optional<SurveyItem> examine(const fs::path& path) const {
    SurveyItem item;
    item.path = path;
    item.files = {path};
    try {
      const SourcePtr source = host_files()->open(path);
      item.size_bytes = source->size();
      if (const std::string kind = archive_kind(*source); !kind.empty())
        return archive(item, kind);  // copies: what fails is still told of
      if (auto other = identify_other(*source)) return from_other(item, *other);
      if (!named_like_image(path) && best_probe(*source, path) < kSureBits) return std::nullopt;
      return image(item);
    } catch (const Error& e) {
      if (e.details.code == "several_discs") return many_discs(item);
      const bool none = e.details.code == "unknown_format" || e.details.code == "empty_file";
      if (none && !is_sheet(path)) return std::nullopt;
      item.kind = SurveyKind::broken;
      item.complete = false;
      item.warnings.push_back(
          {e.details.code, e.details.what + (e.details.code == "missing_part" ? ": " + e.details.expected
                                             : e.details.found.empty()        ? ""
                                                                              : ": " + e.details.found)});
      return item;
    }
  }

 private:
  /// A container of many discs is no image: it is looked into by itself.
  static std::optional<SurveyItem> many_discs(SurveyItem item) {
    const WbfsListing listing = list_wbfs(host_files()->open(item.path));
    item.kind = SurveyKind::drive_image;
    item.format = "wbfs";
    item.id.platform = "wii";
    item.id.title = fmt::format("{} discs", listing.discs.size());
    return item;
  }
  static int best_probe(const ByteSource& source, const fs::path& path) {
    const std::string name = fold_case(path.filename().string());
    int best = 0;
    for (const Format* format : formats()) best = std::max(best, format->probe(source, name));
    return best;
  }
  SurveyItem archive(SurveyItem item, const std::string& kind) const {
    item.kind = SurveyKind::archive;
    item.format = kind;
    return item;
  }
  std::optional<SurveyItem> from_other(SurveyItem item, const OtherFile& other) const {
    if (other.what == "metadata") return std::nullopt;
    item.kind = other.what == "package"     ? SurveyKind::package
                : other.what == "container" ? SurveyKind::container
                                            : SurveyKind::drive_image;
    item.id = other.id;
    item.complete = other.size_check != "short";
    if (!item.complete)
      item.warnings.push_back({"cut_short", "it is shorter than its header says: cut off, or one part of several"});
    return item;
  }
  SurveyItem image(SurveyItem item) const {
    const Image image = open_image(item.path, opening_);
    item.format = image.format->id;
    item.id = identify_platform(image);
    request_.titles.apply(item.id);
    item.complete = image.complete && item.id.state != "truncated";
    item.warnings.insert(item.warnings.end(), item.id.warnings.begin(), item.id.warnings.end());
    std::copy_if(image.warnings.begin(), image.warnings.end(), std::back_inserter(item.warnings),
                 [](const Warning& w) { return w.code == "uneven_part"; });
    for (const ImageFile& f : image.files) {
      if (f.missing) continue;
      if (f.path != item.path) {
        item.files.push_back(f.path);
        item.size_bytes += f.size_bytes;
      }
    }
    const auto missing =
        std::count_if(image.files.begin(), image.files.end(), [](const ImageFile& f) { return f.missing; });
    if (missing > 0)
      item.warnings.push_back({"missing_file", fmt::format("{} of the {} files it names {} missing", missing,
                                                           image.files.size(), missing == 1 ? "is" : "are")});
    if (item.format == "god" || item.format == "stfs") {
      // Ids and pictures are seldom checked by anybody: what of the header contradicts the data is worth a look.
      std::copy_if(image.warnings.begin(), image.warnings.end(), std::back_inserter(item.warnings),
                   [](const Warning& w) { return w.code != "missing_data_file"; });
      check_content_place(item);
    }
    if (item.format == "bin")
      item.warnings.push_back({"no_sheet", image.cd && image.cd->layout().audio_track_count() > 0
                                               ? "no cue sheet names it: where its music tracks begin is a guess"
                                               : "no cue sheet names it"});
    return item;
  }

  /// Content/<profile>/<title id>/<type>/<name>: the folders should say what the header says.
  static void check_content_place(SurveyItem& item) {
    std::vector<std::string> parts;
    for (const fs::path& part : item.path) parts.push_back(part.string());
    constexpr std::size_t kBelow = 5;
    if (parts.size() < kBelow || fold_case(parts[parts.size() - kBelow]) != "content") return;
    if (!item.id.serial.empty() && to_upper_ascii(parts[parts.size() - 3]) != item.id.serial)
      item.warnings.push_back({"other_folder", fmt::format("it lies in the folder of {}, its header says {}",
                                                           parts[parts.size() - 3], item.id.serial)});
  }

  const SurveyRequest& request_;
  OpenOptions opening_ = request_.opening;
};

/// "(Disc 2)", "(CD 2)", "Disk 2 of 3" in a name: the number, and the name without it.
struct DiscName {
  std::string rest;
  int number = 0;
};
std::optional<DiscName> disc_in(const std::string& stem) {
  const std::string folded = fold_case(stem);
  for (const std::string_view word : {"disc", "disk", "cd"}) {
    for (std::size_t at = folded.find(word); at != std::string::npos; at = folded.find(word, at + 1)) {
      const bool begins = at == 0 || std::string_view(" ([-_").find(folded[at - 1]) != std::string_view::npos;
      std::size_t digit = at + word.size();
      while (digit < folded.size() && (folded[digit] == ' ' || folded[digit] == '_')) ++digit;
      if (!begins || digit >= folded.size() || folded[digit] < '1' || folded[digit] > '9') continue;
      std::size_t end = digit + 1;
      if (end < folded.size() && folded[end] >= '0' && folded[end] <= '9') continue;  // no game has ten discs
      end = std::min(folded.find_first_of(")]", end), folded.size());
      std::string rest = folded.substr(0, at) + (end < folded.size() ? folded.substr(end + 1) : "");
      while (!rest.empty() && std::string_view(" ([-_").find(rest.back()) != std::string_view::npos) rest.pop_back();
      return DiscName{rest, folded[digit] - '0'};
    }
  }
  return std::nullopt;
}

class Surveyor {
 public:
  Surveyor(const SurveyRequest& request, Work& work) : request_(request), work_(work), examiner_(request) {
    survey_.folder = request.folder;
    survey_.drive = request.drive;
  }

  Survey run() {
    walk(request_.folder, 0);
    // Sheets first: the files they name are theirs.
    std::stable_partition(candidates_.begin(), candidates_.end(), is_sheet);
    const auto sheets_end = std::find_if_not(candidates_.begin(), candidates_.end(), is_sheet);
    examine({candidates_.begin(), sheets_end});
    std::vector<fs::path> rest;
    for (auto c = sheets_end; c != candidates_.end(); ++c)
      if (!taken_.contains(*c)) rest.push_back(*c);
    examine(rest);
    std::sort(survey_.items.begin(), survey_.items.end(),
              [](const SurveyItem& a, const SurveyItem& b) { return a.path < b.path; });
    find_strays();
    check_places();
    find_duplicates();
    join_discs();
    for (const SurveyItem& i : survey_.items) survey_.total_bytes += i.size_bytes;
    return std::move(survey_);
  }

 private:
  /// Candidates of a folder: each file once, a set of parts by its first one. Game folders are items at once.
  void walk(const fs::path& folder, int depth) {
    work_.progress.check_stop();
    std::vector<fs::path> folders;
    std::vector<std::string> names;
    std::error_code error;
    for (fs::directory_iterator i(folder, fs::directory_options::skip_permission_denied, error), end;
         !error && i != end && seen_ < kMostFiles; i.increment(error), ++seen_) {
      std::error_code ignored;
      if (i->is_symlink(ignored)) continue;
      if (i->is_directory(ignored))
        folders.push_back(i->path());
      else if (i->is_regular_file(ignored))
        names.push_back(i->path().filename().string());
    }
    if (error)
      survey_.problems.push_back({"unreadable_folder", folder.string() + " cannot be read: " + error.message()});
    std::sort(names.begin(), names.end());
    std::sort(folders.begin(), folders.end());
    for (const std::string& name : names) check_name(folder, name);
    std::set<std::string> parts;
    for (const PartSet& set : find_part_sets(names)) {
      if (set.parts.size() < 2 && set.missing.empty()) continue;
      // Images that are called X.1.iso and X.2.iso may as well be two discs: their reader decides.
      if (set.kind == PartKind::number_then_iso) continue;
      parts.insert(set.parts.begin(), set.parts.end());
      candidates_.push_back(folder / (set.open.empty() ? set.parts.front() : set.open));
      for (const std::string& d : set.duplicates)
        survey_.problems.push_back(
            {"double_part", (folder / d).string() + " has the number of another part: not used"});
      for (const std::string& p : set.parts) part_bytes_[candidates_.back()].push_back(folder / p);
    }
    for (const std::string& name : names)
      if (!parts.contains(name)) candidates_.push_back(folder / name);
    for (const fs::path& f : folders) {
      // An installed game: a header, and its data in a folder of the same name.
      const std::string stem = f.stem().string();
      const auto header = std::find_if(names.begin(), names.end(),
                                       [&](const std::string& n) { return fold_case(n) == fold_case(stem); });
      if (extension_of(f) == ".data" && header != names.end()) {
        add_data_folder(folder / *header, f);
        continue;
      }
      if (extension_of(f) == ".data" && fs::exists(f / "Data0000", ignored_)) {
        survey_.problems.push_back(
            {"no_header", f.string() + " has the data of a game, but its header, " + stem + ", is missing"});
        continue;
      }
      if (auto game = identify_game_folder(f)) {
        SurveyItem item;
        item.path = f;
        item.kind = SurveyKind::game_folder;
        item.id = game->id;
        request_.titles.apply(item.id);
        item.size_bytes = game->size_bytes;
        for (const auto& split : game->split_files)
          if (!split.complete)
            item.warnings.push_back({"missing_part", split.path + " was split, and parts of it are missing"});
        item.complete = item.warnings.empty();
        survey_.items.push_back(std::move(item));
      } else if (depth < kDeepest) {
        walk(f, depth + 1);
      }
    }
  }

  void check_name(const fs::path& folder, const std::string& name) {
    const std::string fault = name_fault(name);
    const bool limits = request_.drive.file_system == "fat32" || request_.drive.file_system == "exfat" ||
                        request_.drive.file_system == "ntfs";
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
    std::vector<std::optional<SurveyItem>> found(paths.size());
    std::atomic<std::size_t> next{0};
    std::exception_ptr failure;
    std::mutex mutex;
    const auto look = [&] {
      try {
        for (std::size_t i = next++; i < paths.size(); i = next++) {
          work_.progress.check_stop();
          found[i] = examiner_.examine(paths[i]);
        }
      } catch (...) {
        const std::lock_guard lock(mutex);
        failure = std::current_exception();
      }
    };
    {
      const unsigned threads = work_.threads != 0 ? work_.threads : std::max(1u, std::thread::hardware_concurrency());
      std::vector<std::jthread> workers;
      for (unsigned t = 1; t < threads; ++t) workers.emplace_back(look);
      look();
    }
    if (failure) std::rethrow_exception(failure);
    for (auto& item : found) {
      if (!item) {
        ++survey_.other_files;
        continue;
      }
      if (const auto parts = part_bytes_.find(item->path); parts != part_bytes_.end()) add_parts(*item, parts->second);
      taken_.insert(item->files.begin(), item->files.end());
      survey_.items.push_back(std::move(*item));
    }
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
    if (item.format != "god" && item.format != "stfs") item.parts = parts.size();
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
      if (i.format == "iso") isos[fold_case(fs::path(i.path).replace_extension().string())] = &i;
    for (SurveyItem& i : survey_.items) {
      if (!is_sheet(i.path)) continue;
      const auto at = isos.find(fold_case(fs::path(i.path).replace_extension().string()));
      if (at == isos.end()) continue;
      i.warnings.push_back({"leftover_sheet", fmt::format("{} has the same name: the game would appear twice",
                                                          at->second->path.filename().string())});
    }
  }

  /// A few places of a file: equal ones are then compared.
  static std::string sample(const ByteSource& source) {
    constexpr std::size_t kPiece = 4 << 10;
    constexpr std::uint64_t kPlaces = 16;
    Digest digest("sha1");
    for (std::uint64_t n = 0; n <= kPlaces; ++n) {
      const std::uint64_t last = source.size() > kPiece ? source.size() - kPiece : 0;
      digest.update(read_up_to(source, last / kPlaces * n, kPiece));
    }
    return digest.finish();
  }

  /// The data files of an item, without the sheets that name them.
  static std::vector<fs::path> data_files(const SurveyItem& item) {
    std::vector<fs::path> files;
    std::copy_if(item.files.begin(), item.files.end(), std::back_inserter(files),
                 [](const fs::path& f) { return !is_sheet(f); });
    return files;
  }

  /// All files of both, up to a size that is read in a moment; nothing beyond.
  std::optional<bool> same_bytes(const SurveyItem& a, const SurveyItem& b) const {
    constexpr std::uint64_t kMost = 256 << 20;
    const std::vector<fs::path> x = data_files(a), y = data_files(b);
    if (x.size() != y.size()) return false;
    bool known = true;
    for (std::size_t i = 0; i < x.size(); ++i) {
      const SourcePtr left = open_file(x[i]), right = open_file(y[i]);
      if (left->size() != right->size()) return false;
      if (left->size() > kMost)
        known = false;
      else if (first_difference(*left, *right, work_.progress))
        return false;
    }
    return known ? std::optional(true) : std::nullopt;
  }

  /// Images whose largest files have the same size and bytes; of huge files many places are looked at.
  void find_duplicates() {
    std::map<std::uint64_t, std::vector<const SurveyItem*>> by_size;
    for (const SurveyItem& i : survey_.items)
      if (i.kind != SurveyKind::game_folder && i.kind != SurveyKind::broken && i.size_bytes > 0)
        by_size[largest_file(i).second].push_back(&i);
    for (const auto& [size, items] : by_size) {
      if (items.size() < 2) continue;
      std::map<std::string, const SurveyItem*> first;
      for (const SurveyItem* i : items) {
        work_.progress.check_stop();
        const fs::path file = largest_file(*i).first;
        const auto [at, is_new] = first.try_emplace(sample(*open_file(file)), i);
        const auto same = is_new ? false : same_bytes(*i, *at->second);
        if (same && !*same) continue;
        survey_.problems.push_back(
            {"duplicate", fmt::format("{} {} {}{}", i->path.lexically_relative(survey_.folder).string(),
                                      same ? "is a copy of" : "looks like a copy of",
                                      at->second->path.lexically_relative(survey_.folder).string(),
                                      same ? "" : ": opifex check --same-as proves it")});
      }
    }
  }

  static std::pair<fs::path, std::uint64_t> largest_file(const SurveyItem& item) {
    std::pair<fs::path, std::uint64_t> best{item.path, 0};
    for (const fs::path& f : item.files) {
      std::error_code ignored;
      const std::uint64_t size = fs::file_size(f, ignored);
      if (!ignored && size > best.second) best = {f, size};
    }
    return best;
  }

  /// The discs of one game stand together; a number that is left out is missed.
  void join_discs() {
    std::map<std::string, std::vector<SurveyItem*>> sets;
    for (SurveyItem& i : survey_.items) {
      if (i.kind != SurveyKind::image && i.kind != SurveyKind::archive) continue;
      const auto name = disc_in(i.path.stem().string());
      if (!name) continue;
      i.disc = name->number;
      sets[(i.path.parent_path() / name->rest).string()].push_back(&i);
    }
    for (auto& [key, items] : sets) {
      std::set<int> numbers;
      for (const SurveyItem* i : items) numbers.insert(i->disc);
      for (int n = 1; n < *numbers.rbegin(); ++n)
        if (!numbers.contains(n))
          survey_.problems.push_back(
              {"missing_disc", fmt::format("disc {} is missing beside {}", n,
                                           items.front()->path.lexically_relative(survey_.folder).string())});
      if (items.size() < 2) continue;
      for (SurveyItem* i : items) i->set = fs::path(key).filename().string();
    }
  }

  const SurveyRequest& request_;
  Work& work_;
  const Examiner examiner_;
  Survey survey_;
  std::vector<fs::path> candidates_;
  std::map<fs::path, std::vector<fs::path>> part_bytes_;  // by the part that is opened
  std::set<fs::path> taken_;
  std::size_t seen_ = 0;
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

Survey survey_folder(const SurveyRequest& request, Work& work) { return Surveyor(request, work).run(); }

}  // namespace opifex
