#include "opifex/core/io/part_names.hpp"

#include <algorithm>
#include <array>
#include <chrono>
#include <map>
#include <mutex>
#include <set>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr int kRarHead = -1;       // X.rar comes before X.r00
constexpr int kZipTail = 1 << 24;  // X.zip comes behind every X.z01
constexpr std::size_t kMostDigits = 6;
constexpr int kFat32First = 66600;

/// What one name says.
struct Part {
  PartKind kind;
  std::string stem;
  int number = 0;
};

bool digits(std::string_view text, std::size_t least, std::size_t most) {
  return text.size() >= least && text.size() <= most &&
         std::all_of(text.begin(), text.end(), [](char c) { return c >= '0' && c <= '9'; });
}

int number_of(std::string_view text) {
  int n = 0;
  for (const char c : text) n = 10 * n + (c - '0');
  return n;
}

/// A name cut at its last dot; the extension in lower case, without the dot.
struct Cut {
  std::string stem, extension;
};
Cut cut(const std::string& name) {
  const std::size_t dot = name.rfind('.');
  if (dot == std::string::npos || dot == 0) return {name, ""};
  return {name.substr(0, dot), fold_case(name.substr(dot + 1))};
}

std::optional<int> after(const std::string& text, std::string_view word) {
  if (!text.starts_with(word) || !digits(std::string_view(text).substr(word.size()), 1, kMostDigits)) return {};
  return number_of(std::string_view(text).substr(word.size()));
}

/// Old RAR endings count r00 .. r99, s00 .. z99.
std::optional<int> old_rar(const std::string& extension) {
  if (extension.size() != 3 || extension[0] < 'r' || extension[0] > 'z' || !digits(extension.substr(1), 2, 2))
    return {};
  return 100 * (extension[0] - 'r') + number_of(extension.substr(1));
}

/// Every reading of a name: .z01 may be a zip's or an old RAR's.
std::vector<Part> readings(const std::string& name) {
  std::vector<Part> parts;
  const auto [stem, extension] = cut(name);
  if (extension.empty()) return parts;
  const auto [inner, middle] = cut(stem);
  if (extension == "rar") {
    if (const auto n = after(middle, "part")) parts.push_back({PartKind::rar_numbered, inner, *n});
    parts.push_back({PartKind::rar_old, stem, kRarHead});
  }
  if (const auto n = old_rar(extension)) parts.push_back({PartKind::rar_old, stem, *n});
  if (extension == "zip") parts.push_back({PartKind::zip_split, stem, kZipTail});
  if (extension.size() >= 3 && extension[0] == 'z' && digits(extension.substr(1), 2, 4))
    parts.push_back({PartKind::zip_split, stem, number_of(extension.substr(1))});
  if (digits(extension, 3, 3)) parts.push_back({PartKind::numbered, stem, number_of(extension)});
  if (digits(extension, 5, 5) && number_of(extension) >= kFat32First && number_of(extension) < kFat32First + 100)
    parts.push_back({PartKind::fat32_tail, stem, number_of(extension)});
  if (middle == "iso" && digits(extension, 1, 2)) parts.push_back({PartKind::image_number, stem, number_of(extension)});
  if (const auto n = after(extension, "part")) parts.push_back({PartKind::part_number, stem, *n});
  if (extension == "iso") {
    if (const auto n = after(middle, "part")) parts.push_back({PartKind::part_then_iso, inner, *n});
    if (digits(middle, 1, 2)) parts.push_back({PartKind::number_then_iso, inner, number_of(middle)});
  }
  if (extension == "wbfs") parts.push_back({PartKind::wbfs, stem, 0});
  if (extension.size() == 4 && extension.starts_with("wbf") && digits(extension.substr(3), 1, 1))
    parts.push_back({PartKind::wbfs, stem, number_of(extension.substr(3))});
  return parts;
}

/// The name the part of this number would have, after the pattern of one that is there.
std::string name_of(const PartSet& set, int number, const std::string& like) {
  const auto wide = [&](std::size_t width) { return fmt::format("{:0{}}", number, width); };
  const auto [stem, extension] = cut(like);
  switch (set.kind) {
    case PartKind::rar_numbered:
    case PartKind::part_then_iso: {
      const std::size_t width = cut(stem).extension.size() - 4;
      return fmt::format("{}.part{}.{}", set.stem, wide(width), extension);
    }
    case PartKind::rar_old:
      if (number == kRarHead) return set.stem + ".rar";
      return fmt::format("{}.{}{:02}", set.stem, static_cast<char>('r' + number / 100), number % 100);
    case PartKind::zip_split:
      return number == kZipTail ? set.stem + ".zip" : fmt::format("{}.z{:02}", set.stem, number);
    case PartKind::part_number:
      return fmt::format("{}.part{}", set.stem, wide(extension.size() - 4));
    case PartKind::number_then_iso:
      return fmt::format("{}.{}.iso", set.stem, number);
    case PartKind::wbfs:
      return number == 0 ? set.stem + ".wbfs" : fmt::format("{}.wbf{}", set.stem, number);
    default:
      return fmt::format("{}.{}", set.stem, wide(extension.size()));
  }
}

/// The number a set has to begin with, for parts from `lowest` on.
int first_number(PartKind kind, int lowest) {
  switch (kind) {
    case PartKind::rar_old:
      return kRarHead;
    case PartKind::wbfs:
      return 0;
    case PartKind::fat32_tail:
      return kFat32First;
    case PartKind::numbered:
    case PartKind::image_number:
    case PartKind::part_number:
    case PartKind::part_then_iso:
      return std::min(lowest, 1);
    default:
      return 1;
  }
}

using Numbered = std::map<int, std::vector<std::string>>;

/// True if these names are a set at all: what is a part only in company must not stand alone.
bool is_set(PartKind kind, const Numbered& files) {
  const int lowest = files.begin()->first;
  switch (kind) {
    case PartKind::rar_old:  // X.rar alone is a whole archive
      return files.size() > 1 || lowest != kRarHead;
    case PartKind::zip_split:
      return files.size() > 1 || lowest != kZipTail;
    case PartKind::wbfs:
      return files.size() > 1 || lowest != 0;
    case PartKind::number_then_iso:
      return files.size() > 1;
    case PartKind::numbered:
      return files.size() > 1 ? lowest <= 2 : lowest <= 1;
    case PartKind::image_number:
      return files.size() > 1 || lowest <= 1;
    default:
      return true;
  }
}

/// Two usual endings of cartridge dumps read like the 64th part of an archive: they are one only behind the 63rd.
void drop_cartridges(PartKind kind, Numbered& files) {
  constexpr int kZip64 = 64, kRarV64 = 464, kRarZ64 = 864;
  const auto drop = [&](int number) {
    if (!files.contains(number - 1)) files.erase(number);
  };
  if (kind == PartKind::zip_split) drop(kZip64);
  if (kind == PartKind::rar_old) drop(kRarV64), drop(kRarZ64);
}

PartSet make_set(PartKind kind, const std::string& stem, const Numbered& files) {
  PartSet set;
  set.kind = kind;
  set.stem = stem;
  const int first = first_number(kind, files.begin()->first);
  int wanted = first;
  constexpr int kMostNamed = 1000;
  for (const auto& [number, names] : files) {
    if (number == kZipTail) break;
    for (; wanted < number && set.missing.size() < kMostNamed; ++wanted)
      set.missing.push_back(name_of(set, wanted, names.front()));
    set.parts.push_back(names.front());
    set.duplicates.insert(set.duplicates.end(), names.begin() + 1, names.end());
    wanted = number + 1;
  }
  if (kind == PartKind::zip_split) {
    if (const auto tail = files.find(kZipTail); tail != files.end())
      set.open = tail->second.front();
    else
      set.missing.push_back(name_of(set, kZipTail, files.begin()->second.front()));
    if (!set.open.empty()) set.parts.push_back(set.open);
  } else if (files.begin()->first == first) {
    set.open = set.parts.front();
  }
  set.lonely = set.parts.size() == 1 && set.missing.empty();
  return set;
}

}  // namespace

std::string PartSet::whole() const {
  if (kind == PartKind::wbfs) return stem + ".wbfs";
  return kind == PartKind::part_then_iso || kind == PartKind::number_then_iso ? stem + ".iso" : stem;
}

bool PartSet::plain_bytes() const {
  return kind != PartKind::rar_numbered && kind != PartKind::rar_old && kind != PartKind::zip_split;
}

std::vector<PartSet> find_part_sets(const std::vector<std::string>& names) {
  struct Group {
    std::string stem;  // as the first name writes it
    Numbered files;
  };
  std::map<std::pair<std::string, PartKind>, Group> groups;
  std::vector<std::string> sorted = names;
  // Numbers of one width before padded ones: part1 is used, part01 is its double.
  std::stable_sort(sorted.begin(), sorted.end(), [](const std::string& a, const std::string& b) {
    return a.size() != b.size() ? a.size() < b.size() : a < b;
  });
  for (const std::string& name : sorted)
    for (const Part& part : readings(name)) {
      Group& group = groups[{fold_case(part.stem), part.kind}];
      if (group.files.empty()) group.stem = part.stem;
      group.files[part.number].push_back(name);
    }
  std::vector<PartSet> sets;
  for (auto& [key, group] : groups) {
    const auto& [stem, kind] = key;
    // X.part1.rar has a set of its own; .z01 belongs to a zip unless X.r00 is there and X.zip is not.
    const auto zip = groups.find({stem, PartKind::zip_split});
    const bool has_zip = zip != groups.end() && zip->second.files.contains(kZipTail);
    const auto rar = groups.find({stem, PartKind::rar_old});
    const bool has_r00 = rar != groups.end() && rar->second.files.contains(0);
    constexpr int kFirstZ = 800;
    if (kind == PartKind::rar_old && (has_zip || !has_r00))
      group.files.erase(group.files.lower_bound(kFirstZ), group.files.end());
    if (kind == PartKind::zip_split && has_r00 && !has_zip) continue;
    drop_cartridges(kind, group.files);
    if (group.files.empty() || !is_set(kind, group.files)) continue;
    sets.push_back(make_set(kind, group.stem, group.files));
  }
  return sets;
}

namespace {

/// The names of one folder that may be parts, by what stands before their numbers. Many files of a folder are opened
/// one after the other: it is read again only when it changed, or changed so lately that its time might not tell.
class FolderNames {
 public:
  std::vector<std::string> like(const fs::path& folder, const std::vector<Part>& own) {
    const std::lock_guard lock(mutex_);
    if (!still_valid(folder)) read(folder);
    std::set<std::string> names;
    for (const Part& part : own)
      if (const auto found = by_stem_.find(fold_case(part.stem)); found != by_stem_.end())
        names.insert(found->second.begin(), found->second.end());
    return {names.begin(), names.end()};
  }

 private:
  static std::optional<fs::file_time_type> time_of(const fs::path& folder) {
    std::error_code error;
    const auto time = fs::last_write_time(folder, error);
    return error ? std::nullopt : std::optional(time);
  }
  bool still_valid(const fs::path& folder) const {
    constexpr auto kCoarsest = std::chrono::seconds(3);  // FAT keeps times of two seconds
    return folder == folder_ && changed_ && changed_ == time_of(folder) && read_at_ - *changed_ > kCoarsest;
  }
  void read(const fs::path& folder) {
    by_stem_.clear();
    folder_ = folder;
    changed_ = time_of(folder);
    read_at_ = fs::file_time_type::clock::now();
    std::error_code ignored;
    for (fs::directory_iterator i(folder, ignored), end; i != end; i.increment(ignored)) {
      const std::string name = i->path().filename().string();
      const auto parts = readings(name);
      if (parts.empty() || !i->is_regular_file(ignored)) continue;
      for (const Part& part : parts) by_stem_[fold_case(part.stem)].push_back(name);
    }
  }

  std::mutex mutex_;
  fs::path folder_;
  std::optional<fs::file_time_type> changed_;
  fs::file_time_type read_at_;
  std::map<std::string, std::vector<std::string>> by_stem_;
};

}  // namespace

std::optional<PartSet> part_set_of(const fs::path& file) {
  static FolderNames folder_names;
  const std::string name = file.filename().string();
  const std::vector<Part> own = readings(name);
  if (own.empty()) return std::nullopt;
  // A relative folder may be another one tomorrow.
  std::error_code ignored;
  const fs::path folder = fs::absolute(file.has_parent_path() ? file.parent_path() : fs::path("."), ignored);
  for (PartSet& set : find_part_sets(folder_names.like(folder, own)))
    if (std::find(set.parts.begin(), set.parts.end(), name) != set.parts.end()) return std::move(set);
  return std::nullopt;
}

}  // namespace opifex
