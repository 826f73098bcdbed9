#include "opifex/core/volumes/xdvdfs/writer.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 2048, kDescriptor = 32, kRootSector = 33, kPadding = 65536;
constexpr std::size_t kEntryHead = 14, kMostNameBytes = 255, kFurthestEntry = 0xFFFE * 4;
constexpr std::uint64_t kLargestFile = 0xFFFF'FFFF;
constexpr unsigned kFolderBit = 0x10, kUsual = 0x20;

std::uint64_t blocks_of(std::uint64_t bytes) { return ceil_div(bytes, kBlock); }

/// A node with its place.
struct Placed {
  XdvdfsNode node;
  std::string raw;
  std::vector<std::size_t> children = {};  // in the console's order
  std::vector<std::size_t> layout = {};    // of the children: where each entry stands in the table
  std::uint64_t table_bytes = 0, sector = 0;
};

class Maker {
 public:
  explicit Maker(const XdvdfsOptions& options) : options_(options) {}

  XdvdfsImage make(XdvdfsNode root) {
    add(std::move(root));
    place_tables();
    place_files();
    compose();
    return std::move(out_);
  }

 private:
  [[noreturn]] static void fail(const char* code, std::string what, const std::string& path, std::string expected) {
    throw Error({.code = code, .what = std::move(what), .file = path, .expected = std::move(expected)});
  }

  static std::string raw_name(const XdvdfsNode& node) {
    const auto raw = encode(node.name, "ISO-8859-1");
    if (!raw || raw->empty() || raw->size() > kMostNameBytes)
      fail("bad_name", "a name cannot be stored on an Xbox disc", node.path, "1 to 255 characters of ISO 8859-1");
    return *raw;
  }

  /// Depth first, names in the console's order: the order of everything.
  std::size_t add(XdvdfsNode node) {
    const std::size_t index = nodes_.size();
    std::vector<XdvdfsNode> children = std::move(node.children);
    if (node.source && node.source->size() > kLargestFile)
      fail("too_large", "a file is too large for an Xbox disc", node.path, "less than 4 GiB");
    nodes_.push_back({std::move(node), {}});
    if (index != 0) {
      nodes_[index].raw = raw_name(nodes_[index].node);
      (nodes_[index].node.folder ? out_.folders : out_.files) += 1;
    }
    std::vector<std::pair<std::string, XdvdfsNode>> sorted;
    for (XdvdfsNode& child : children) {
      std::string raw = raw_name(child);
      sorted.emplace_back(std::move(raw), std::move(child));
    }
    std::sort(sorted.begin(), sorted.end(), [](const auto& a, const auto& b) { return xdvdfs_less(a.first, b.first); });
    for (std::size_t i = 1; i < sorted.size(); ++i)
      if (!xdvdfs_less(sorted[i - 1].first, sorted[i].first))
        fail("same_names", "two names differ in upper and lower case only", sorted[i].second.path, "different names");
    for (auto& [raw, child] : sorted) {
      const std::size_t at = add(std::move(child));
      nodes_[index].children.push_back(at);
    }
    return index;
  }

  /// The order in which a balanced tree's nodes are written: each before its children.
  static void pre_order(std::size_t low, std::size_t high, std::vector<std::size_t>& order) {
    if (low == high) return;
    const std::size_t middle = low + (high - low) / 2;
    order.push_back(middle);
    pre_order(low, middle, order);
    pre_order(middle + 1, high, order);
  }

  void lay_out(Placed& folder) {
    std::vector<std::size_t> order;
    pre_order(0, folder.children.size(), order);
    folder.layout.resize(folder.children.size());
    std::size_t at = 0;
    for (const std::size_t i : order) {
      const std::size_t need = (kEntryHead + nodes_[folder.children[i]].raw.size() + 3) / 4 * 4;
      if (at % kBlock + need > kBlock) at = round_up(at, kBlock);
      if (at > kFurthestEntry) fail("too_large", "a folder has too many names", folder.node.path, "a table of 256 KiB");
      folder.layout[i] = at;
      at += need;
    }
    folder.table_bytes = std::max<std::uint64_t>(1, blocks_of(at)) * kBlock;
  }

  void place_tables() {
    next_ = kRootSector;
    for (Placed& p : nodes_) {
      if (!p.node.folder) continue;
      lay_out(p);
      p.sector = next_;
      next_ += p.table_bytes / kBlock;
    }
  }

  void place_files() {
    for (Placed& p : nodes_) {
      if (p.node.folder || !p.node.source || p.node.source->size() == 0) continue;
      p.sector = next_;
      next_ += blocks_of(p.node.source->size());
    }
    constexpr std::uint64_t kMostSectors = UINT32_MAX;
    if (next_ > kMostSectors) fail("too_large", "the files do not fit an image", nodes_.front().node.path, "8 TiB");
  }

  static std::size_t link(const Placed& folder, std::size_t low, std::size_t high) {
    return low == high ? 0 : folder.layout[low + (high - low) / 2] / 4;
  }

  void write_entries(const Placed& folder, std::size_t low, std::size_t high, Bytes& table) const {
    if (low == high) return;
    const std::size_t middle = low + (high - low) / 2, at = folder.layout[middle];
    const Placed& child = nodes_[folder.children[middle]];
    const std::uint64_t size = child.node.folder   ? child.table_bytes
                               : child.node.source ? child.node.source->size()
                                                   : 0;
    Fields(table).le(at, link(folder, low, middle), 2);
    Fields(table).le(at + 2, link(folder, middle + 1, high), 2);
    store_le32(table, at + 4, static_cast<std::uint32_t>(child.sector));
    store_le32(table, at + 8, static_cast<std::uint32_t>(size));
    const unsigned usual = child.node.folder ? 0 : kUsual;
    const unsigned bits = child.node.attributes != 0 ? child.node.attributes : usual;
    table[at + 12] = static_cast<std::byte>(bits | (child.node.folder ? kFolderBit : 0));
    table[at + 13] = static_cast<std::byte>(child.raw.size());
    std::copy(as_view(child.raw).begin(), as_view(child.raw).end(),
              table.begin() + static_cast<std::ptrdiff_t>(at + kEntryHead));
    write_entries(folder, low, middle, table);
    write_entries(folder, middle + 1, high, table);
  }

  Bytes descriptor() const {
    Bytes block(kBlock);
    std::copy(as_view(kXdvdfsMark).begin(), as_view(kXdvdfsMark).end(), block.begin());
    std::copy(as_view(kXdvdfsMark).begin(), as_view(kXdvdfsMark).end(), block.begin() + 0x7EC);
    store_le32(block, 0x14, static_cast<std::uint32_t>(kRootSector));
    store_le32(block, 0x18, static_cast<std::uint32_t>(nodes_.front().table_bytes));
    for (std::size_t i = 0; i < 8; ++i) block[0x1C + i] = static_cast<std::byte>(options_.filetime >> 8 * i & 255);
    return block;
  }

  void compose() {
    std::vector<SourcePtr> parts = {zero_source(kDescriptor * kBlock)};
    Bytes tables = descriptor();
    for (const Placed& p : nodes_) {
      if (!p.node.folder) continue;
      Bytes table(static_cast<std::size_t>(p.table_bytes), std::byte{255});
      write_entries(p, 0, p.children.size(), table);
      tables.insert(tables.end(), table.begin(), table.end());
    }
    parts.push_back(memory_source(std::move(tables), "tables"));
    for (const Placed& p : nodes_) {
      if (p.node.folder || !p.node.source || p.node.source->size() == 0) continue;
      parts.push_back(p.node.source);
      if (const std::uint64_t rest = p.node.source->size() % kBlock; rest != 0)
        parts.push_back(zero_source(kBlock - rest));
    }
    const std::uint64_t end = next_ * kBlock;
    if (const std::uint64_t rest = end % kPadding; options_.padded && rest != 0)
      parts.push_back(zero_source(kPadding - rest));
    out_.image = concat_source(std::move(parts), "xdvdfs");
  }

  XdvdfsOptions options_;
  std::vector<Placed> nodes_;
  std::uint64_t next_ = 0;
  XdvdfsImage out_;
};

XdvdfsNode node_of(const FolderNode& folder, const std::string& path) {
  XdvdfsNode node;
  node.name = folder.name;
  node.path = path;
  node.folder = folder.folder;
  if (!folder.folder && folder.size_bytes > 0) node.source = file_when_read(folder.host, folder.size_bytes);
  for (const FolderNode& child : folder.children)
    node.children.push_back(node_of(child, path.empty() ? child.name : path + "/" + child.name));
  return node;
}

}  // namespace

XdvdfsImage make_xdvdfs(XdvdfsNode root, const XdvdfsOptions& options) { return Maker(options).make(std::move(root)); }

XdvdfsNode xdvdfs_tree(const FolderTree& tree) { return node_of(tree.root, ""); }

XdvdfsNode xdvdfs_tree(const Volume& volume) {
  // Folders come before what is in them; their nodes are finished from the deepest on.
  std::map<std::string, std::vector<const VolumeEntry*>> below;
  for (const VolumeEntry& e : volume.entries) {
    if (!e.refused.empty())
      throw Error({.code = "bad_name",
                   .what = "a name of the disc cannot be written again",
                   .file = volume.disc->name(),
                   .found = printable(e.path)});
    const std::size_t slash = e.path.rfind('/');
    below[slash == std::string::npos ? "" : e.path.substr(0, slash)].push_back(&e);
  }
  const auto build = [&](const auto& self, const std::string& path) -> std::vector<XdvdfsNode> {
    std::vector<XdvdfsNode> nodes;
    const auto at = below.find(path);
    if (at == below.end()) return nodes;
    for (const VolumeEntry* e : at->second) {
      XdvdfsNode node;
      node.name = e->path.substr(path.empty() ? 0 : path.size() + 1);
      node.path = e->path;
      node.folder = e->kind == EntryKind::folder;
      node.attributes = e->stored_attributes;
      if (node.folder)
        node.children = self(self, e->path);
      else if (e->size_bytes > 0)
        node.source = volume.open(*e);
      nodes.push_back(std::move(node));
    }
    return nodes;
  };
  XdvdfsNode root;
  root.folder = true;
  root.children = build(build, "");
  return root;
}

}  // namespace opifex
