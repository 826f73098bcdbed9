#include "opifex/core/io/file_space.hpp"

#include <algorithm>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {
namespace {

/// What stands where a disc begins: this part is one of its own.
bool begins_a_disc(const ByteSource& source) {
  const auto has = [&](std::uint64_t at, std::string_view mark) {
    return as_text(read_up_to(source, at, mark.size())) == mark;
  };
  const Bytes head = read_up_to(source, 0, kGameCubeMarkAt + 4);
  const bool whole = head.size() == kGameCubeMarkAt + 4;
  return has(kIsoMarkAt, kIsoMark) || has(kXdvdfsMarkAt, kXdvdfsMark) ||
         (whole && (load_be32(head, kWiiMarkAt) == kWiiMark || load_be32(head, kGameCubeMarkAt) == kGameCubeMark));
}

}  // namespace

bool is_one_image(const std::filesystem::path& path, const PartSet& set) {
  return set.kind != PartKind::number_then_iso || !set.missing.empty() || set.parts.size() < 2 ||
         !begins_a_disc(*open_file(path.parent_path() / set.parts[1]));
}

namespace {

namespace fs = std::filesystem;

template <typename Open>
SourcePtr join(const fs::path& path, const PartSet& set, const Open& open_one) {
  if (!set.missing.empty())
    throw Error({.code = "missing_part",
                 .cause = Cause::missing_part,
                 .what = "a part of the file is missing",
                 .file = path.string(),
                 .found = fmt::format("{} part{}", set.parts.size(), set.parts.size() == 1 ? "" : "s"),
                 .expected = fmt::format("{}", fmt::join(set.missing, ", ")),
                 .hint = "put it beside the others"});
  std::vector<SourcePtr> parts;
  for (const std::string& name : set.parts) parts.push_back(open_one(path.parent_path() / name));
  return concat_source(std::move(parts), path.string());
}

class HostFiles final : public FileSpace {
 public:
  SourcePtr open(const fs::path& path) const override {
    const auto set = part_set_of(path);
    if (!set || !set->plain_bytes() || set->lonely) return open_file(path);
    if (!is_one_image(path, *set)) return open_file(path);
    return join(path, *set, [](const fs::path& part) { return open_file(part); });
  }
  bool is_file(const fs::path& path) const override {
    std::error_code ignored;
    return fs::is_regular_file(path, ignored);
  }
  bool is_folder(const fs::path& path) const override {
    std::error_code ignored;
    return fs::is_directory(path, ignored);
  }
  std::vector<fs::path> entries(const fs::path& folder) const override {
    std::vector<fs::path> found;
    std::error_code ignored;  // a folder that cannot be listed has nothing to offer
    for (fs::directory_iterator i(folder.empty() ? "." : folder, ignored), end; i != end; i.increment(ignored))
      found.push_back(folder / i->path().filename());
    std::sort(found.begin(), found.end());
    return found;
  }
  bool same_file(const fs::path& a, const fs::path& b) const override {
    std::error_code ignored;
    return fs::equivalent(a, b, ignored);
  }
};

fs::path plain(const fs::path& path) { return fs::absolute(path).lexically_normal(); }

class StagedFiles final : public FileSpace {
 public:
  explicit StagedFiles(const std::map<fs::path, fs::path>& where) {
    for (const auto& [name, place] : where) where_.emplace(plain(name), place);
  }
  SourcePtr open(const fs::path& path) const override {
    const auto staged = where_.find(plain(path));
    if (staged == where_.end()) return host_files()->open(path);
    std::vector<std::string> names;
    for (const fs::path& beside : entries(staged->first.parent_path())) names.push_back(beside.filename().string());
    for (const PartSet& set : find_part_sets(names)) {
      const bool member = std::find(set.parts.begin(), set.parts.end(), path.filename()) != set.parts.end();
      if (member && set.plain_bytes() && !set.lonely && all_staged(set, staged->first.parent_path()))
        return join(path, set, [this](const fs::path& part) { return open_file(where_.at(plain(part))); });
    }
    return open_file(staged->second);
  }
  bool is_file(const fs::path& path) const override {
    return where_.contains(plain(path)) || host_files()->is_file(path);
  }
  bool is_folder(const fs::path& path) const override { return host_files()->is_folder(path); }
  std::vector<fs::path> entries(const fs::path& folder) const override {
    std::vector<fs::path> found = host_files()->entries(folder);
    const fs::path place = plain(folder.empty() ? "." : folder);
    for (const auto& staged : where_) {
      const fs::path& name = staged.first;
      if (name.parent_path() == place &&
          std::none_of(found.begin(), found.end(), [&](const fs::path& f) { return plain(f) == name; }))
        found.push_back(folder / name.filename());
    }
    std::sort(found.begin(), found.end());
    return found;
  }
  bool same_file(const fs::path& a, const fs::path& b) const override {
    return plain(a) == plain(b) || host_files()->same_file(a, b);
  }

 private:
  bool all_staged(const PartSet& set, const fs::path& folder) const {
    return std::all_of(set.parts.begin(), set.parts.end(),
                       [&](const std::string& name) { return where_.contains(folder / name); });
  }

  std::map<fs::path, fs::path> where_;  // by the name to come, absolute
};

}  // namespace

FileSpacePtr staged_files(const std::map<fs::path, fs::path>& where) { return std::make_shared<StagedFiles>(where); }

FileSpacePtr host_files() {
  static const auto files = std::make_shared<const HostFiles>();
  return files;
}

}  // namespace opifex
