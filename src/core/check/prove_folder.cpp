// Images made of a folder: what can be read in them against what lies in it.
#include <algorithm>
#include <map>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/compare.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {
namespace {

struct Listed {
  std::string path;
  std::uint64_t size_bytes = 0;
  std::vector<std::filesystem::path> hosts = {};  // of the folder: one, or the parts of one
  SourcePtr inside = {};                          // of the image
  SourcePtr open() const {
    if (inside) return inside;
    std::vector<SourcePtr> parts;
    for (const auto& host : hosts) parts.push_back(open_file(host));
    return concat_source(std::move(parts), path);
  }
};
using ByPath = std::map<std::string, Listed>;  // the key is folded

void list(const FolderNode& node, const std::string& above, ByPath& files) {
  for (const FolderNode& child : node.children) {
    const std::string path = above.empty() ? child.name : above + "/" + child.name;
    if (child.folder)
      list(child, path, files);
    else
      files[fold_case(path)] = {path, child.size_bytes, {child.host}};
  }
}

ByPath files_in(const Image& image) {
  ByPath files;
  for (const Volume& v : read_volumes(image))
    for (const VolumeEntry& e : v.entries)
      if (e.kind == EntryKind::file) files.try_emplace(fold_case(e.path), Listed{e.path, e.size_bytes, {}, v.open(e)});
  return files;
}

[[noreturn]] void differs(const Image& image, std::string found, std::string expected) {
  throw Error({.fault = Fault::device,
               .code = "proof_failed",
               .what = "the image does not hold the files of the folder",
               .file = image.path.string(),
               .found = std::move(found),
               .expected = std::move(expected),
               .hint = "run the job again, and check the drive and the memory of this computer"});
}

std::string sha1_of(const ByteSource& source, JobContext& context) {
  Digest digest("sha1");
  for (std::uint64_t at = 0; at < source.size();) {
    context.progress.check_stop();
    const Bytes piece = read_up_to(source, at, 1 << 20);
    digest.update(piece);
    at += piece.size();
  }
  return digest.finish();
}

/// NAME.66600, NAME.66601 ... of the folder as the NAME they make.
void join_parts(ByPath& folder) {
  std::map<std::string, std::vector<std::string>> names;  // of each folder, as they are written
  for (const auto& [key, file] : folder) {
    const std::filesystem::path path(file.path);
    names[path.parent_path().generic_string()].push_back(path.filename().string());
  }
  for (const auto& [place, in_place] : names)
    for (const PartSet& set : find_part_sets(in_place)) {
      if (set.kind != PartKind::fat32_tail || !set.missing.empty()) continue;
      Listed whole;
      whole.path = (std::filesystem::path(place) / set.stem).generic_string();
      for (const std::string& part : set.parts) {
        const auto at = folder.find(fold_case((std::filesystem::path(place) / part).generic_string()));
        whole.size_bytes += at->second.size_bytes;
        whole.hosts.push_back(at->second.hosts.front());
        folder.erase(at);
      }
      folder[fold_case(whole.path)] = std::move(whole);
    }
}

}  // namespace

Proof prove_folder(const FolderTree& tree, const Image& result, const std::vector<std::string>& made_anew,
                   JobContext& context) {
  ByPath folder, image = files_in(result);
  list(tree.root, "", folder);
  if (std::any_of(folder.begin(), folder.end(), [&](const auto& f) { return !image.contains(f.first); }))
    join_parts(folder);
  for (const std::string& path : made_anew) {
    folder.erase(fold_case(path));
    image.erase(fold_case(path));
  }
  std::uint64_t total = 0, same = 0, renamed = 0;
  for (const auto& [key, file] : folder) total += file.size_bytes;
  context.progress.begin("proving", total);
  for (auto at = folder.begin(); at != folder.end();) {
    const auto there = image.find(at->first);
    if (there == image.end()) {
      ++at;
      continue;
    }
    const SourcePtr a = at->second.open(), b = there->second.open();
    if (a->size() != b->size() || first_difference(*a, *b, context.progress))
      differs(result, printable(there->second.path), "the bytes it has in the folder");
    context.progress.done_bytes += a->size();
    ++same;
    image.erase(there);
    at = folder.erase(at);
  }
  // Names that the image cannot hold were changed: what is left is told apart by its contents.
  std::multimap<std::string, std::string> left;  // by contents
  for (const auto& [key, file] : folder) left.emplace(sha1_of(*file.open(), context), file.path);
  for (const auto& [key, file] : image) {
    const auto found = left.find(sha1_of(*file.open(), context));
    if (found == left.end()) differs(result, printable(file.path), "only files of the folder");
    left.erase(found);
    ++renamed;
  }
  if (!left.empty()) differs(result, "no file with the contents of " + printable(left.begin()->second), "all files");
  return {"", plural(same + renamed, "file") + ", byte by byte" +
                  (renamed > 0 ? fmt::format(", {} of them under another name", grouped(renamed)) : "") +
                  (made_anew.empty() ? "" : fmt::format("; made anew: {}", fmt::join(made_anew, ", ")))};
}

}  // namespace opifex
