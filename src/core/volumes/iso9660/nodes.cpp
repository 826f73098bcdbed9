#include "nodes.hpp"

#include <algorithm>
#include <map>

#include <sys/stat.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMostFolders = 65'535;

/// The parts of files that were cut, by the name of the first.
using Parts = std::map<std::string, std::vector<const FolderNode*>>;

[[noreturn]] void refuse(const char* code, std::string what, const fs::path& folder, std::string found,
                         std::string expected) {
  throw Error({.code = code,
               .what = std::move(what),
               .file = folder.string(),
               .found = std::move(found),
               .expected = std::move(expected)});
}

std::int64_t time_of(const fs::path& path, const IsoOptions& options) {
  if (options.fixed_time) return *options.fixed_time;
  struct stat facts {};
  return ::stat(path.c_str(), &facts) == 0 ? facts.st_mtim.tv_sec : 0;
}

/// Files that were cut for FAT32 become one again; later parts are taken out of `children`.
Parts join_parts(std::vector<const FolderNode*>& children, const fs::path& root) {
  std::vector<std::string> names;
  for (const FolderNode* c : children) names.push_back(c->name);
  Parts joined;
  for (const PartSet& set : find_part_sets(names)) {
    if (set.kind != PartKind::fat32_tail) continue;
    const bool beside = std::find(names.begin(), names.end(), set.stem) != names.end();
    if (set.lonely || !set.missing.empty() || beside)
      refuse("missing_part", beside ? "a file is there both whole and in parts" : "parts of a file are missing", root,
             printable(set.parts.front()),
             beside       ? "one of them"
             : set.lonely ? set.stem + ".66601"
                          : fmt::format("{}", fmt::join(set.missing, ", ")));
    for (const std::string& name : set.parts) {
      const auto at =
          std::find_if(children.begin(), children.end(), [&](const FolderNode* c) { return c->name == name; });
      joined[set.parts.front()].push_back(*at);
      if (name != set.parts.front()) children.erase(at);
    }
  }
  return joined;
}

IsoNode make_node(const FolderNode& host, const IsoNode& above, std::size_t parent, const IsoOptions& options) {
  IsoNode node;
  node.name = host.name;
  node.hosts = {host.host};
  node.parent = parent;
  node.folder = host.folder;
  node.size_bytes = host.size_bytes;
  node.time = time_of(host.host, options);
  node.path = above.path.empty() ? node.name : above.path + "/" + node.name;
  return node;
}

/// The file that the parts make.
void take_parts(IsoNode& node, const IsoNode& above, const std::vector<const FolderNode*>& parts) {
  node.name = parts.front()->host.stem().string();
  node.path = above.path.empty() ? node.name : above.path + "/" + node.name;
  node.hosts.clear();
  node.size_bytes = 0;
  for (const FolderNode* part : parts) {
    node.hosts.push_back(part->host);
    node.size_bytes += part->size_bytes;
  }
}

}  // namespace

IsoNodes read_iso_nodes(const fs::path& folder, const IsoOptions& options) {
  FolderTree tree = read_folder(folder);
  IsoNodes all;
  all.notices = std::move(tree.notices);
  IsoNode root;
  root.hosts = {folder};
  root.folder = true;
  root.time = time_of(folder, options);
  all.nodes.push_back(std::move(root));
  std::vector<const FolderNode*> hosts = {&tree.root};  // of each node
  for (std::size_t i = 0; i < all.nodes.size(); ++i) {
    if (!all.nodes[i].folder) continue;
    std::vector<const FolderNode*> children;
    for (const FolderNode& c : hosts[i]->children) children.push_back(&c);
    const Parts joined = options.join_parts ? join_parts(children, folder) : Parts{};
    for (const FolderNode* child : children) {
      IsoNode node = make_node(*child, all.nodes[i], i, options);
      if (const auto parts = joined.find(child->name); parts != joined.end())
        take_parts(node, all.nodes[i], parts->second);
      (node.folder ? all.folders : all.files) += 1;
      all.nodes[i].children.push_back(all.nodes.size());
      all.nodes.push_back(std::move(node));
      hosts.push_back(child);
    }
  }
  if (all.folders >= kMostFolders)
    refuse("too_many_folders", "ISO 9660 cannot number so many folders", folder, fmt::format("{}", all.folders),
           "at most 65534");
  return all;
}

}  // namespace opifex
