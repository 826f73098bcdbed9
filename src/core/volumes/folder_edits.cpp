// Files and folders of the user's as changes of a volume; and whether a volume is as changes should have made it.
#include <algorithm>
#include <cstring>
#include <set>

#include <sys/stat.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/volumes/kept_facts.hpp"

#include "edits.hpp"

namespace opifex {

namespace fs = std::filesystem;

namespace {

std::string below(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

void take_date(const fs::path& host, KeptFacts& facts) {
  if (facts.modified) return;
  struct stat s {};
  if (::stat(host.c_str(), &s) != 0) return;
  facts.modified = s.st_mtim.tv_sec;
  facts.hundredths = static_cast<std::uint32_t>(s.st_mtim.tv_nsec / 10'000'000);
}

class Collector {
 public:
  Collector(const PutRequest& request, const std::vector<const Volume*>& there, std::vector<std::string>& notices)
      : request_(request), there_(there), notices_(notices) {}

  std::vector<VolumeEdit> run() {
    std::error_code error;
    if (fs::is_directory(request_.from, error)) {
      const FolderTree tree = read_folder(request_.from);
      notices_.insert(notices_.end(), tree.notices.begin(), tree.notices.end());
      kept_ = read_kept_facts(request_.from);
      std::string at = request_.at;
      if (!request_.contents_only) {
        at = below(at, request_.name.empty() ? fs::weakly_canonical(request_.from).filename().string() : request_.name);
        add_folder(at, request_.from, {});
      }
      add_children(tree.root, at, "");
    } else {
      kept_ = read_kept_facts(request_.from.has_parent_path() ? request_.from.parent_path() : fs::path("."));
      const std::string host = request_.from.filename().string();
      FolderNode node{.name = host, .host = request_.from};
      node.size_bytes = open_file(request_.from)->size();
      add_file(node, request_.at, host);
    }
    return std::move(edits_);
  }

 private:
  bool is_there(const std::string& path) const {
    return std::any_of(there_.begin(), there_.end(), [&](const Volume* v) {
      const VolumeEntry* e = v->find(path);
      return e && e->kind == EntryKind::folder;
    });
  }
  const KeptFile* kept(const std::string& path) const {
    const auto at = kept_.find(path);
    return at == kept_.end() ? nullptr : &at->second;
  }

  void add_folder(const std::string& path, const fs::path& host, const KeptFacts& facts) {
    if (is_there(path)) return;
    VolumeEdit edit{.kind = VolumeEdit::Kind::make_folder, .path = path};
    edit.kept = facts;
    take_date(host, edit.kept);
    edits_.push_back(std::move(edit));
  }

  void add_file(const FolderNode& node, const std::string& at, const std::string& listed) {
    VolumeEdit edit{.kind = VolumeEdit::Kind::put};
    const KeptFile* facts = kept(listed);
    edit.named = !request_.name.empty() || (facts && !facts->name.empty());
    const std::string name = !request_.name.empty() && edits_.empty() && at == request_.at ? request_.name
                             : facts && !facts->name.empty()                               ? facts->name
                                                                                           : node.name;
    edit.path = below(at, name);
    edit.contents = file_when_read(node.host, node.size_bytes);
    edit.replace = request_.replace;
    if (facts) edit.kept = facts->facts;
    take_date(node.host, edit.kept);
    edits_.push_back(std::move(edit));
  }

  void add_children(const FolderNode& folder, const std::string& at, const std::string& listed) {
    for (const FolderNode& node : folder.children) {
      if (listed.empty() && node.name == kKeptFactsName) continue;
      const std::string path = below(listed, node.name);
      if (!node.folder) {
        add_file(node, at, path);
        continue;
      }
      const KeptFile* facts = kept(path);
      const std::string inside = below(at, facts && !facts->name.empty() ? facts->name : node.name);
      add_folder(inside, node.host, facts ? facts->facts : KeptFacts{});
      add_children(node, inside, path);
    }
  }

  const PutRequest& request_;
  const std::vector<const Volume*>& there_;
  std::vector<std::string>& notices_;
  KeptFiles kept_;
  std::vector<VolumeEdit> edits_;
};

// ---- what came of them

using Files = std::map<std::string, const VolumeEntry*>;  // by folded path

[[noreturn]] void differs(const std::string& path, std::string expected) {
  throw Error({.fault = Fault::device,
               .code = "proof_failed",
               .what = "the changed image is not what it should be: nothing was put in place",
               .found = printable(path),
               .expected = std::move(expected),
               .hint = "run the job again, and check the memory of this computer"});
}

bool same_bytes(const ByteSource& a, std::uint64_t at, const ByteSource& b) {
  const auto n = static_cast<std::size_t>(b.size());
  const Bytes x = read_up_to(a, at, n), y = read_up_to(b, 0, n);
  return x.size() == y.size() && (x.empty() || std::memcmp(x.data(), y.data(), n) == 0);
}

bool same(const ByteSource& a, const ByteSource& b) { return a.size() == b.size() && same_bytes(a, 0, b); }

/// The bytes that stand in the volume for what was put: a save with its header stands without it.
bool holds(const Volume& volume, const VolumeEntry& e, const ByteSource& put) {
  const SourcePtr inside = volume.open(e);
  const std::uint64_t head = put.size() - std::min(put.size(), inside->size());
  if (head != 0 && head != (e.facts ? e.facts->header.size() : 0)) return false;
  return same_bytes(put, head, *inside);
}

/// Of a path after a folder above it got another name.
std::string moved(const std::string& path, const std::string& from, const std::string& to) {
  if (path == from) return to;
  return path.starts_with(from + "/") ? to + path.substr(from.size()) : path;
}

class EditProof {
 public:
  EditProof(const Volume& before, const Volume& after, std::span<const VolumeEdit> edits,
            std::span<const EditStep> steps)
      : before_(before), after_(after), edits_(edits), steps_(steps), system_(file_system_of(after)) {
    for (const VolumeEntry& e : after.entries) there_[fold(e.path)] = &e;
    for (std::size_t i = 0; i < edits.size(); ++i) {
      keys_.push_back(fold(steps[i].path));
      new_keys_.push_back(edits[i].kind == VolumeEdit::Kind::move ? fold(steps[i].text) : "");
    }
  }

  void run() {
    if (after_.damaged()) differs(after_.problems.front().message, "an image without damage");
    for (const VolumeEntry& e : before_.entries) expect(e);
    for (std::size_t i = 0; i < edits_.size(); ++i)
      if (edits_[i].kind == VolumeEdit::Kind::put) expect_put(i);
    const std::set<std::string> more = new_paths();
    for (const auto& [key, e] : there_)
      if (!expected_.contains(key) && !more.contains(key)) differs(e->path, "no such file");
  }

 private:
  std::string fold(const std::string& path) const {
    return system_ && system_->fold ? system_->fold(after_, path) : fold_case(path);
  }
  /// Where a path is after the edits from `from` on; nothing if one takes it off.
  std::optional<std::string> after(std::string path, std::size_t from) const {
    for (std::size_t i = from; i < edits_.size(); ++i) {
      const VolumeEdit& e = edits_[i];
      const std::string& key = keys_[i];
      if (e.kind == VolumeEdit::Kind::move) path = moved(path, key, new_keys_[i]);
      if (e.kind == VolumeEdit::Kind::drop && (path == key || path.starts_with(key + "/"))) return std::nullopt;
      if (e.kind == VolumeEdit::Kind::put && e.replace && path == key) return std::nullopt;
    }
    return path;
  }
  bool is_changed_inside(const std::string& path) const {
    return std::any_of(edits_.begin(), edits_.end(),
                       [&](const VolumeEdit& e) { return e.kind == VolumeEdit::Kind::bytes && fold(e.path) == path; });
  }

  void expect(const VolumeEntry& e) {
    const auto path = after(fold(e.path), 0);
    if (!path) return;
    const auto at = there_.find(*path);
    if (at == there_.end()) differs(e.path, "still there");
    expected_.insert(*path);
    if (at->second->kind != e.kind) differs(e.path, "of the same kind");
    if (e.kind != EntryKind::file || is_changed_inside(fold(e.path))) return;
    if (!same(*before_.open(e), *after_.open(*at->second))) differs(e.path, "with the bytes it had");
  }

  void expect_put(std::size_t i) {
    const VolumeEdit& edit = edits_[i];
    const auto path = after(keys_[i], i + 1);
    if (!path) return;
    const auto at = there_.find(*path);
    if (at == there_.end()) differs(edit.path, "there");
    expected_.insert(*path);
    if (!holds(after_, *at->second, *edit.contents)) differs(edit.path, "the bytes of the file");
  }

  std::set<std::string> new_paths() const {
    std::set<std::string> paths;
    for (std::size_t i = 0; i < edits_.size(); ++i) {
      const VolumeEdit::Kind kind = edits_[i].kind;
      if (kind != VolumeEdit::Kind::make_folder && kind != VolumeEdit::Kind::undelete) continue;
      if (auto path = after(keys_[i], i + 1)) paths.insert(*path);
    }
    return paths;
  }

  const Volume &before_, &after_;
  std::span<const VolumeEdit> edits_;
  std::span<const EditStep> steps_;
  const FileSystem* system_;
  std::vector<std::string> keys_, new_keys_;  // of each edit, folded; of a save, the name that it has itself
  Files there_;
  std::set<std::string> expected_;
};

}  // namespace

std::vector<VolumeEdit> edits_for(const PutRequest& request, const std::vector<const Volume*>& there,
                                  std::vector<std::string>& notices) {
  return Collector(request, there, notices).run();
}

FolderImage image_of_folder(const FileSystem& system, Bytes blank, const fs::path& folder, const fs::path& out,
                            const FolderMaking& making) {
  FolderImage made;
  std::vector<VolumeEdit> edits;
  if (!folder.empty()) {
    refuse_inside(folder, out);
    edits = edits_for({.from = folder, .contents_only = true}, {}, made.notices);
  }
  if (making.date_for_all)
    for (VolumeEdit& e : edits) {
      e.kept.modified = making.date_for_all;
      e.kept.hundredths = 0;
    }
  edits.insert(edits.end(), making.more.begin(), making.more.end());
  const auto read = [&](Bytes bytes) {
    return system.read({memory_source(std::move(bytes), out.string()), 0, nullptr});
  };
  const auto before = read(blank);
  const EditPlan plan = system.edit({memory_source(blank, out.string()), 0, nullptr}, edits, making.now);
  apply_ranges(blank, plan.ranges);
  const auto after = read(blank);
  if (!before || !after) differs(out.string(), "a volume");
  require_edited(*before, *after, edits, plan.steps);
  made.plan.steps.push_back(
      fmt::format("make {}{}", system.title,
                  edits.empty() ? ", empty" : fmt::format(", {} put on it", plural(edits.size(), "entry"))));
  const std::uint64_t size = blank.size();
  made.plan.outputs.push_back({.path = out, .pieces = {std::move(blank)}, .size_bytes = size});
  return made;
}

void require_edited(const Volume& before, const Volume& after, std::span<const VolumeEdit> edits,
                    std::span<const EditStep> steps) {
  EditProof(before, after, edits, steps).run();
}

}  // namespace opifex
