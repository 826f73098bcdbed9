#include "opifex/core/volumes/gamecube/writer.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/volumes/gamecube/volume.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kEntrySize = 12, kProgramAt = 0x420, kTableAt = 0x424, kTableSizeAt = 0x428, kTableMostAt = 0x42C,
                      kTableAddressAt = 0x430, kUserStartAt = 0x434, kUserBytesAt = 0x438;
constexpr std::uint64_t kBlock = 2048, kRoomy = 0x8000;  // streamed music begins at whole clusters of 32 KiB
constexpr const char* kCodePage = "windows-31j";

/// A table of files as it was on the disc the folder came from; only sound ones are of use.
struct OldTable {
  struct Entry {
    bool folder = false;
    std::string raw, name;  // as stored, and as text
    std::uint64_t offset = 0, size_bytes = 0;
    std::vector<std::size_t> children = {};
  };
  std::vector<Entry> entries = {Entry{.folder = true, .raw = {}, .name = {}}};
};

std::optional<OldTable> read_old_table(ByteView table) {
  const std::uint64_t count = table.size() < kEntrySize ? 0 : load_be32(table, 8);
  if (count == 0 || count * kEntrySize > table.size()) return std::nullopt;
  const std::string_view names = as_text(table.subspan(static_cast<std::size_t>(count) * kEntrySize));
  OldTable out;
  std::vector<std::pair<std::size_t, std::uint64_t>> open = {{0, count}};
  for (std::size_t i = 1; i < count; ++i) {
    while (open.size() > 1 && i >= open.back().second) open.pop_back();
    const std::size_t at = i * kEntrySize, name_at = load_be32(table, at) & 0xFF'FFFF;
    const std::size_t end = name_at < names.size() ? names.find('\0', name_at) : std::string_view::npos;
    if (end == std::string_view::npos) return std::nullopt;
    OldTable::Entry e;
    e.raw = names.substr(name_at, end - name_at);
    e.name = decode(e.raw, kCodePage).value_or("");
    e.folder = table[at] != std::byte{0};
    e.offset = load_be32(table, at + 4);
    e.size_bytes = load_be32(table, at + 8);
    out.entries[open.back().first].children.push_back(i);
    if (e.folder && (e.size_bytes <= i || e.size_bytes > open.back().second)) return std::nullopt;
    const std::uint64_t next = e.size_bytes;
    const bool folder = e.folder;
    out.entries.push_back(std::move(e));
    if (folder) open.emplace_back(i, next);
  }
  return out;
}

/// Something with a place on the disc.
struct Item {
  enum class Kind { program, table, file } kind = Kind::file;
  std::size_t entry = 0;  // of the table
  SourcePtr source;       // null: the table, made last
  std::uint64_t size_bytes = 0;
  std::optional<std::uint64_t> old_offset;
  std::uint64_t old_bytes = 0;
  std::uint64_t offset = 0;
  bool kept = false;  // where it was
};

struct Entry {
  std::string raw;
  bool folder = false;
  std::uint32_t parent = 0, next = 0;  // folders
  std::uint64_t size_bytes = 0;
};

class Builder {
 public:
  Builder(const fs::path& folder, const fs::path& out, const GameCubeOptions& options)
      : folder_(folder), out_(out), options_(options) {}

  GameCubeBuild build() {
    refuse_inside(folder_, out_);
    tree_ = read_folder(folder_);
    find_system();
    build_.files = tree_.files;
    build_.folders = tree_.folders;
    build_.notices = tree_.notices;
    add_folder(tree_.root, 0, 0);
    entries_.front().next = static_cast<std::uint32_t>(entries_.size());
    add_structures();
    if (!place()) {
      for (Item& i : items_) i.old_offset.reset();
      if (!place()) too_large();
    }
    write();
    return std::move(build_);
  }

 private:
  [[noreturn]] void fail(const char* code, std::string what, const fs::path& file, std::string expected) const {
    throw Error({.code = code, .what = std::move(what), .file = file.string(), .expected = std::move(expected)});
  }

  Bytes read_system(const char* name, std::size_t least, std::size_t most) const {
    const SourcePtr file = open_file(system_->host / name);
    if (file->size() < least || file->size() > most)
      fail("bad_system_file", "a system file has a size it cannot have", system_->host / name,
           fmt::format("{} to {} bytes", least, most));
    return read_up_to(*file, 0, static_cast<std::size_t>(file->size()));
  }

  /// The disc's own folders may be called `system`, too: ours has the most ~ behind its name.
  void find_system() {
    for (std::string name = "system"; const FolderNode* found = tree_.root.find(name); name += '~')
      if (found->folder && found->find("header.bin") && found->find("loader.bin")) system_ = found;
    for (const char* name : {"header.bin", "info.bin", "loader.bin", "main.dol"})
      if (!system_ || !system_->find(name))
        fail("no_system_files", "the folder has not what a GameCube disc begins with", folder_,
             fmt::format("system/{}, as extracting the disc writes it", name));
    constexpr std::size_t kMostLoader = 16 << 20;
    header_ = read_system("header.bin", kBootHeaderBytes, kBootHeaderBytes);
    info_ = read_system("info.bin", kBootInfoBytes, kBootInfoBytes);
    loader_ = read_system("loader.bin", 0x20, kMostLoader);
    if (load_be32(header_, kWiiMarkAt) == kWiiMark)
      fail("wii_not_built", "this is the folder of a Wii partition: it would have to be encrypted and signed again",
           folder_, "the folder of a GameCube disc");
    if (load_be32(header_, kGameCubeMarkAt) != kGameCubeMark)
      fail("bad_system_file", "the header is not that of a GameCube disc", system_->host / "header.bin", "its mark");
    constexpr std::size_t kMostTable = 64 << 20;
    if (system_->find("files.fst")) {
      old_bytes_ = read_system("files.fst", 0, kMostTable);
      old_ = read_old_table(old_bytes_);
    }
    entries_.push_back({"", true, 0, 0, 0});
  }

  std::string raw_name(const FolderNode& node) const {
    const auto raw = encode(node.name, kCodePage);
    if (!raw || raw->empty())
      fail("bad_name", "a name has characters that a GameCube disc cannot hold", node.host, "ASCII or Shift-JIS");
    return *raw;
  }

  /// Known entries in their old order, then new ones by name.
  void add_folder(const FolderNode& node, std::size_t old_index, std::uint32_t index) {
    std::vector<const FolderNode*> rest;
    std::map<std::string, const FolderNode*> known;
    for (const FolderNode& child : node.children)
      if (&child != system_) known[child.name] = &child;
    const bool has_old = old_ && old_index != SIZE_MAX;
    if (has_old)
      for (const std::size_t child : old_->entries[old_index].children) {
        const OldTable::Entry& e = old_->entries[child];
        const auto at = known.find(e.name);
        if (at == known.end() || at->second->folder != e.folder) continue;
        add_entry(*at->second, child, index);
        known.erase(at);
      }
    for (const auto& [name, child] : known) rest.push_back(child);
    std::sort(rest.begin(), rest.end(), [](const FolderNode* a, const FolderNode* b) {
      return std::pair(fold_case(a->name), a->name) < std::pair(fold_case(b->name), b->name);
    });
    for (const FolderNode* child : rest) add_entry(*child, SIZE_MAX, index);
  }

  void add_entry(const FolderNode& node, std::size_t old_index, std::uint32_t parent) {
    const bool known = old_index != SIZE_MAX;
    const auto index = static_cast<std::uint32_t>(entries_.size());
    entries_.push_back(
        {known ? old_->entries[old_index].raw : raw_name(node), node.folder, parent, 0, node.size_bytes});
    if (node.folder) {
      add_folder(node, old_index, index);
      entries_[index].next = static_cast<std::uint32_t>(entries_.size());
      return;
    }
    if (node.size_bytes > kGameCubeDiscBytes) too_large();
    Item item;
    item.entry = index;
    item.source = file_when_read(node.host, node.size_bytes);
    item.size_bytes = node.size_bytes;
    if (known) {
      item.old_offset = old_->entries[old_index].offset;
      item.old_bytes = old_->entries[old_index].size_bytes;
    }
    items_.push_back(std::move(item));
  }

  void add_structures() {
    Item program;
    program.kind = Item::Kind::program;
    program.source = open_file(system_->host / "main.dol");
    program.size_bytes = program.source->size();
    Item table;
    table.kind = Item::Kind::table;
    table.size_bytes = entries_.size() * kEntrySize;
    for (std::size_t i = 1; i < entries_.size(); ++i) table.size_bytes += entries_[i].raw.size() + 1;
    if (same_names()) table.size_bytes = old_bytes_.size();
    if (old_) {
      program.old_offset = load_be32(header_, kProgramAt);
      table.old_offset = load_be32(header_, kTableAt);
      table.old_bytes = old_bytes_.size();
    }
    items_.insert(items_.begin(), {std::move(program), std::move(table)});
  }

  /// The old table fits as it is, but for places and sizes.
  bool same_names() const {
    if (!old_ || old_->entries.size() != entries_.size()) return false;
    for (std::size_t i = 1; i < entries_.size(); ++i) {
      const OldTable::Entry& e = old_->entries[i];
      if (e.raw != entries_[i].raw || e.folder != entries_[i].folder) return false;
      if (e.folder && (e.offset != entries_[i].parent || e.size_bytes != entries_[i].next)) return false;
    }
    return true;
  }

  /// False if there is no room: then everything is placed anew, or there is no way.
  bool place() {
    std::uint64_t end = kBootLoaderAt + loader_.size();
    build_.moved = 0;
    keep_places(end);
    std::vector<Item*> rest;
    for (Item& i : items_)
      if (!i.kept) rest.push_back(&i);
    for (const std::uint64_t step : {kRoomy, kBlock, std::uint64_t{4}})
      if (place_behind(rest, end, step)) return true;
    return false;
  }

  /// What still fits between its neighbours. `end` becomes that of the last.
  void keep_places(std::uint64_t& end) {
    std::vector<Item*> old;
    for (Item& i : items_) {
      i.kept = false;
      if (i.old_offset) old.push_back(&i);
    }
    std::stable_sort(old.begin(), old.end(),
                     [](const Item* a, const Item* b) { return *a->old_offset < *b->old_offset; });
    const Item* last = nullptr;
    for (std::size_t n = 0; n < old.size(); ++n) {
      Item& item = *old[n];
      const auto next = std::find_if(old.begin() + static_cast<std::ptrdiff_t>(n), old.end(),
                                     [&](const Item* i) { return *i->old_offset > *item.old_offset; });
      const std::uint64_t room = (next == old.end() ? kGameCubeDiscBytes : *(*next)->old_offset) - *item.old_offset;
      const bool fits = item.size_bytes <= std::max(item.old_bytes, room) && *item.old_offset <= kGameCubeDiscBytes &&
                        item.size_bytes <= kGameCubeDiscBytes - *item.old_offset;
      const bool free = item.size_bytes == 0 || *item.old_offset >= end || (last && same_overlap(*last, item));
      if (!fits || !free) continue;
      item.offset = *item.old_offset;
      item.kept = true;
      if (item.size_bytes > 0 && item.offset + item.size_bytes > end) {
        end = item.offset + item.size_bytes;
        last = &item;
      }
    }
  }

  /// Two files may share bytes, if they are the same bytes.
  static bool same_overlap(const Item& before, const Item& item) {
    if (!before.source || !item.source || *item.old_offset < before.offset) return false;
    const std::uint64_t skip = *item.old_offset - before.offset;
    std::uint64_t left = std::min(before.size_bytes - std::min(skip, before.size_bytes), item.size_bytes);
    constexpr std::uint64_t kPiece = 1 << 20;
    for (std::uint64_t at = 0; left > 0;) {
      const auto n = static_cast<std::size_t>(std::min(kPiece, left));
      if (read_up_to(*before.source, skip + at, n) != read_up_to(*item.source, at, n)) return false;
      at += n;
      left -= n;
    }
    return true;
  }

  bool place_behind(const std::vector<Item*>& rest, std::uint64_t end, std::uint64_t step) {
    for (Item* item : rest) {
      // Executable and table need no whole cluster.
      const std::uint64_t at =
          round_up(end, item->kind == Item::Kind::file ? step : std::min<std::uint64_t>(step, 0x100));
      if (item->size_bytes > kGameCubeDiscBytes || at > kGameCubeDiscBytes - item->size_bytes) return false;
      item->offset = at;
      if (item->size_bytes > 0) end = at + item->size_bytes;
    }
    build_.moved = old_ ? static_cast<std::uint64_t>(std::count_if(
                              rest.begin(), rest.end(),
                              [](const Item* i) { return i->old_bytes > 0 && i->kind == Item::Kind::file; }))
                        : 0;
    return true;
  }

  [[noreturn]] void too_large() const {
    std::uint64_t total = kBootLoaderAt + loader_.size();
    for (const Item& i : items_) total += i.size_bytes;
    throw Error({.code = "too_large",
                 .what = "the files do not fit a GameCube disc",
                 .file = folder_.string(),
                 .found = grouped(total) + " bytes",
                 .expected = fmt::format("at most {}", grouped(kGameCubeDiscBytes))});
  }

  Bytes make_table() const {
    Bytes table;
    std::vector<std::uint64_t> offsets(entries_.size());
    for (const Item& i : items_)
      if (i.kind == Item::Kind::file) offsets[i.entry] = i.offset;
    const bool same = same_names();
    if (same) table = old_bytes_;
    std::string names;
    table.resize(std::max(table.size(), entries_.size() * kEntrySize));
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      const Entry& e = entries_[i];
      const std::size_t at = i * kEntrySize;
      if (!same) store_be32(table, at, (e.folder ? 0x100'0000u : 0u) | (i == 0 ? 0 : names.size()));
      store_be32(table, at + 4, e.folder ? e.parent : offsets[i]);
      store_be32(table, at + 8, e.folder ? e.next : e.size_bytes);
      if (i > 0) names += e.raw + '\0';
      constexpr std::size_t kMostNames = 0xFF'FFFF;  // a name's place has 24 bits
      if (names.size() > kMostNames)
        throw Error({.code = "too_many_names",
                     .what = "the names of these files are longer together than a table can hold",
                     .found = fmt::format("more than {} bytes", kMostNames)});
    }
    if (!same) table.insert(table.end(), as_view(names).begin(), as_view(names).end());
    return table;
  }

  void patch_header(const Item& program, const Item& table) {
    const std::uint64_t most = load_be32(header_, kTableMostAt), address = load_be32(header_, kTableAddressAt);
    store_be32(header_, kProgramAt, program.offset);
    store_be32(header_, kTableAt, table.offset);
    store_be32(header_, kTableSizeAt, table.size_bytes);
    if (table.size_bytes > most) {
      // The table lies at the end of the console's memory: what it grows by, its start moves down.
      constexpr std::uint64_t kLine = 32;
      const std::uint64_t grown = round_up(table.size_bytes - most, kLine);
      store_be32(header_, kTableMostAt, table.size_bytes);
      if (address > grown) store_be32(header_, kTableAddressAt, round_down<std::uint64_t>(address - grown, kLine));
    }
    if (old_ && build_.moved == 0) return;
    std::uint64_t first = kGameCubeDiscBytes;
    for (const Item& i : items_)
      if (i.kind == Item::Kind::file && i.size_bytes > 0) first = std::min(first, i.offset);
    if (first < load_be32(header_, kUserStartAt) || !old_) {
      store_be32(header_, kUserStartAt, first);
      store_be32(header_, kUserBytesAt, 0);
    }
  }

  void write() {
    patch_header(items_[0], items_[1]);
    items_[1].source = memory_source(make_table(), "files.fst");
    PlannedOutput output{out_, {}, 0};
    std::uint64_t end = 0;
    const auto put = [&](Piece piece, std::uint64_t size) {
      output.pieces.push_back(std::move(piece));
      end += size;
    };
    const auto zeros_to = [&](std::uint64_t offset) {
      if (offset > end) put(SourceRun{zero_source(offset - end), 0, offset - end}, offset - end);
    };
    put(header_, header_.size());
    put(info_, info_.size());
    put(loader_, loader_.size());
    std::vector<const Item*> order;
    for (const Item& i : items_)
      if (i.size_bytes > 0) order.push_back(&i);
    std::stable_sort(order.begin(), order.end(), [](const Item* a, const Item* b) { return a->offset < b->offset; });
    for (const Item* i : order) {
      zeros_to(i->offset);
      const std::uint64_t skip = std::min(end - i->offset, i->size_bytes);  // shared with the one before
      if (skip < i->size_bytes) put(SourceRun{i->source, skip, i->size_bytes - skip}, i->size_bytes - skip);
    }
    zeros_to(options_.full ? kGameCubeDiscBytes : round_up(end, kBlock));
    output.size_bytes = end;
    build_.plan.steps.push_back(
        fmt::format("write a GameCube disc of {} files to {}", grouped(build_.files), out_.filename().string()));
    if (build_.moved > 0)
      build_.plan.steps.push_back(
          fmt::format("{} of them have outgrown their place and go to the end of the disc", grouped(build_.moved)));
    build_.plan.outputs.push_back(std::move(output));
  }

  fs::path folder_, out_;
  GameCubeOptions options_;
  FolderTree tree_;
  const FolderNode* system_ = nullptr;
  Bytes header_, info_, loader_, old_bytes_;
  std::optional<OldTable> old_;
  std::vector<Entry> entries_;
  std::vector<Item> items_;  // the executable, the table, then files in order of the table
  GameCubeBuild build_;
};

}  // namespace

GameCubeBuild plan_gamecube(const fs::path& folder, const fs::path& out, const GameCubeOptions& options) {
  return Builder(folder, out, options).build();
}

}  // namespace opifex
