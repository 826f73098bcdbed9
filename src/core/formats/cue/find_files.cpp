#include <algorithm>
#include <array>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/cue/files.hpp"

namespace opifex::cue {
namespace {

namespace fs = std::filesystem;

struct Name {
  std::vector<std::string> parts;  // folders and the file, as far as they may be followed
  bool stripped = false;           // folders were dropped: absolute, drive letter or ".."
};

Name split_name(std::string text) {
  std::replace(text.begin(), text.end(), '\\', '/');
  Name name;
  const bool absolute = text.starts_with('/') || (text.size() > 1 && text[1] == ':');
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t end = std::min(text.find('/', at), text.size());
    const std::string part = text.substr(at, end - at);
    if (part == "..") name.stripped = true;
    if (!part.empty() && part != ".") name.parts.push_back(part);
    at = end + 1;
  }
  name.stripped = name.stripped || absolute;
  if (name.stripped && name.parts.size() > 1) name.parts.erase(name.parts.begin(), name.parts.end() - 1);
  return name;
}

/// A folder read once.
class Folders {
 public:
  explicit Folders(const FileSpace& files) : files_(files) {}
  /// Entries whose names are equal without case.
  std::vector<fs::path> ignoring_case(const fs::path& folder, const std::string& name) {
    std::vector<fs::path> matches;
    const std::string folded = fold_case(name);
    for (const fs::path& entry : entries(folder))
      if (fold_case(entry.filename().string()) == folded) matches.push_back(entry);
    return matches;
  }
  const std::vector<fs::path>& entries(const fs::path& folder) {
    const auto [at, is_new] = cache_.try_emplace(folder.string());
    if (is_new) at->second = files_.entries(folder);
    return at->second;
  }

 private:
  const FileSpace& files_;
  std::map<std::string, std::vector<fs::path>> cache_;
};

class Finder {
 public:
  Finder(const Sheet& sheet, const fs::path& sheet_path, const FileSpace& files)
      : sheet_(sheet), sheet_path_(sheet_path), folder_(sheet_path.parent_path()), files_(files), folders_(files) {}

  std::vector<FoundFile> find() {
    std::vector<FoundFile> found;
    for (const SheetFile& file : sheet_.files) found.push_back(find_one(file));
    const bool none = std::none_of(found.begin(), found.end(), [](const FoundFile& f) { return f.path.has_value(); });
    if (none) find_renamed(found);
    for (std::size_t i = 0; i < found.size(); ++i)
      if (!found[i].path) found[i].hint = suggestion();
    refuse_reuse(found);
    return found;
  }

 private:
  bool is_file(const fs::path& path) const { return files_.is_file(path); }

  FoundFile find_one(const SheetFile& file) {
    const Name name = split_name(file.name);
    if (name.parts.empty()) return {};
    // Step 1: the path below the sheet's folder. Step 2: the last component beside the sheet.
    if (auto found = follow(file, name.parts, name.stripped)) return *found;
    // The same name in the sheet's own bytes; a separator in it would lead elsewhere.
    const bool plain = file.raw_name.find('/') == std::string::npos;
    if (plain && is_file(folder_ / file.raw_name)) return {folder_ / file.raw_name};
    if (name.parts.size() > 1)
      if (auto found = follow(file, {name.parts.back()}, true)) return *found;
    return other_extension(file, name.parts.back());
  }

  /// Exact, then ignoring case in each component.
  std::optional<FoundFile> follow(const SheetFile& file, const std::vector<std::string>& parts, bool stripped) {
    std::vector<fs::path> places = {folder_};
    bool exact = true;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      const bool last = i + 1 == parts.size();
      std::vector<fs::path> next;
      for (const fs::path& place : places)
        if (last ? is_file(place / parts[i]) : files_.is_folder(place / parts[i])) next.push_back(place / parts[i]);
      if (next.empty()) {
        exact = false;
        for (const fs::path& place : places)
          for (const fs::path& match : folders_.ignoring_case(place, parts[i]))
            if (last ? is_file(match) : files_.is_folder(match)) next.push_back(match);
      }
      if (next.empty()) return std::nullopt;
      places = std::move(next);
    }
    const fs::path path = only_one(file, places);
    if (stripped)
      return assumed(path, "path_stripped", "{} is taken for {}: folders outside the sheet's own are not followed",
                     file);
    if (!exact) return assumed(path, "wrong_case", "{} is taken for {}: only upper and lower case differ", file);
    return FoundFile{path};
  }

  /// Step 3: the same stem with another extension of its kind.
  FoundFile other_extension(const SheetFile& file, const std::string& name) {
    constexpr std::array<std::array<std::string_view, 4>, 3> kKinds = {
        {{".bin", ".img", ".iso", ".raw"}, {".wav", ".wave", "", ""}, {".aiff", ".aif", ".aifc", ""}}};
    const fs::path wanted(name);
    const std::string stem = fold_case(wanted.stem().string()), extension = fold_case(wanted.extension().string());
    std::vector<fs::path> matches;
    for (const auto& kind : kKinds) {
      if (extension.empty() || std::find(kind.begin(), kind.end(), extension) == kind.end()) continue;
      for (const fs::path& entry : folders_.entries(folder_)) {
        const std::string other = fold_case(entry.extension().string());
        const bool of_kind = !other.empty() && std::find(kind.begin(), kind.end(), other) != kind.end();
        if (of_kind && fold_case(entry.stem().string()) == stem && is_file(entry)) matches.push_back(entry);
      }
    }
    if (matches.empty()) return {};
    return assumed(only_one(file, matches), "wrong_extension", "{} is taken for {}: only the extension differs", file);
  }

  /// Step 4: sheet and files renamed together; only when none of the names fits.
  void find_renamed(std::vector<FoundFile>& found) {
    const std::string stem = sheet_path_.stem().string();
    std::vector<std::string> names;
    for (const SheetFile& file : sheet_.files) {
      const Name name = split_name(file.name);
      names.push_back(name.parts.empty() ? std::string{} : name.parts.back());
    }
    if (names.size() == 1) {
      const SheetFile renamed{stem + fs::path(names[0]).extension().string(), "", FileType::binary, 0};
      FoundFile one = find_one(renamed);
      if (one.path)
        found[0] = assumed(*one.path, "renamed", "{} is taken for {}: it was renamed with its sheet", sheet_.files[0]);
      return;
    }
    std::size_t prefix = names[0].size();
    for (const std::string& name : names) {
      const auto [a, b] = std::mismatch(names[0].begin(), names[0].end(), name.begin(), name.end());
      prefix = std::min(prefix, static_cast<std::size_t>(a - names[0].begin()));
    }
    for (; prefix > 0; --prefix) {
      std::vector<fs::path> paths;
      for (const std::string& name : names) {
        const fs::path candidate = folder_ / (stem + name.substr(prefix));
        if (is_file(candidate)) paths.push_back(candidate);
      }
      if (paths.size() != names.size()) continue;
      for (std::size_t i = 0; i < paths.size(); ++i)
        found[i] = assumed(paths[i], "renamed", "{} is taken for {}: it was renamed with its sheet", sheet_.files[i]);
      return;
    }
  }

  fs::path only_one(const SheetFile& file, const std::vector<fs::path>& matches) const {
    if (matches.size() > 1)
      throw Error({.code = "ambiguous_file",
                   .what = fmt::format("more than one file could be {}", printable(file.name)),
                   .file = sheet_path_.string(),
                   .line = file.line,
                   .found = fmt::format("{} and {}", matches[0].filename().string(), matches[1].filename().string()),
                   .expected = "one",
                   .hint = "move the wrong one to another folder"});
    return matches.front();
  }

  static FoundFile assumed(const fs::path& path, std::string code, std::string_view text, const SheetFile& file) {
    return {path,
            Warning{std::move(code), fmt::format(fmt::runtime(text), path.filename().string(), printable(file.name))},
            {}};
  }

  /// Never taken by guess, only named: the one data file in the folder.
  std::string suggestion() {
    std::vector<fs::path> images;
    for (const fs::path& entry : folders_.entries(folder_)) {
      const std::string extension = fold_case(entry.extension().string());
      if ((extension == ".bin" || extension == ".img" || extension == ".iso") && is_file(entry))
        images.push_back(entry);
    }
    const std::string put = "put the file beside the sheet under the name the sheet gives it";
    return images.size() == 1 ? fmt::format("{}; the folder holds {}", put, images[0].filename().string()) : put;
  }

  void refuse_reuse(const std::vector<FoundFile>& found) const {
    for (std::size_t i = 0; i < found.size(); ++i)
      for (std::size_t j = 0; j < i; ++j) {
        if (!found[i].path || !found[j].path || !files_.same_file(*found[i].path, *found[j].path)) continue;
        throw Error(
            {.code = "file_reused",
             .what = "two FILE lines mean the same file",
             .file = sheet_path_.string(),
             .line = sheet_.files[i].line,
             .found = fmt::format("{} and {}", printable(sheet_.files[j].name), printable(sheet_.files[i].name)),
             .expected = "each file once"});
      }
  }

  const Sheet& sheet_;
  const fs::path& sheet_path_;
  const fs::path folder_;
  const FileSpace& files_;
  Folders folders_;
};

}  // namespace

std::vector<FoundFile> find_files(const Sheet& sheet, const fs::path& sheet_path, const FileSpace& files) {
  return Finder(sheet, sheet_path, files).find();
}

}  // namespace opifex::cue
