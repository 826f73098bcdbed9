#include "opifex/core/io/folder_tree.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr int kDeepest = 100;

void read_into(FolderTree& tree, FolderNode& node, const std::string& path, int depth) {
  if (depth > kDeepest)
    throw Error({.code = "too_deep",
                 .what = "folders lie too deep in each other",
                 .file = node.host.string(),
                 .expected = fmt::format("at most {}", kDeepest)});
  std::vector<fs::path> hosts;
  for (const auto& entry : fs::directory_iterator(node.host)) hosts.push_back(entry.path());
  std::sort(hosts.begin(), hosts.end(),
            [](const fs::path& a, const fs::path& b) { return a.filename().string() < b.filename().string(); });
  for (const fs::path& host : hosts) {
    const auto status = fs::symlink_status(host);
    FolderNode child;
    child.name = host.filename().string();
    child.host = host;
    child.folder = fs::is_directory(status);
    const char* fault = fs::is_symlink(status)                          ? "a symbolic link"
                        : !child.folder && !fs::is_regular_file(status) ? "neither file nor folder"
                        : !is_utf8(child.name)                          ? "a name that is no UTF-8"
                                                                        : nullptr;
    const std::string inside = path.empty() ? child.name : path + "/" + child.name;
    if (fault) {
      tree.notices.push_back(fmt::format("{} is left out: {}", printable(inside), fault));
      continue;
    }
    (child.folder ? tree.folders : tree.files) += 1;
    if (child.folder)
      read_into(tree, child, inside, depth + 1);
    else
      child.size_bytes = fs::file_size(host);
    node.children.push_back(std::move(child));
  }
}

}  // namespace

const FolderNode* FolderNode::find(std::string_view child) const {
  const auto at = std::find_if(children.begin(), children.end(), [&](const FolderNode& n) { return n.name == child; });
  return at == children.end() ? nullptr : &*at;
}

FolderTree read_folder(const fs::path& folder) {
  if (!fs::is_directory(folder))
    throw Error({.code = "not_a_folder",
                 .what = fs::exists(folder) ? "this is no folder" : "there is no folder of this name",
                 .file = folder.string()});
  FolderTree tree;
  tree.root.host = folder;
  tree.root.folder = true;
  try {
    read_into(tree, tree.root, "", 0);
  } catch (const fs::filesystem_error& e) {
    throw_system_error("cannot read the folder", e.path1().string(), e.code().value());
  }
  return tree;
}

void refuse_inside(const fs::path& folder, const fs::path& out) {
  std::error_code ignored;
  const fs::path from = fs::weakly_canonical(folder, ignored), to = fs::weakly_canonical(out, ignored);
  const auto [end, at] = std::mismatch(from.begin(), from.end(), to.begin(), to.end());
  if (end != from.end()) return;
  throw Error({.fault = Fault::needs_word,
               .code = "inside_source",
               .what = "the image would lie in the folder it is made of",
               .file = out.string(),
               .hint = "give another place with <out>"});
}

}  // namespace opifex
