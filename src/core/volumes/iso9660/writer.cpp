#include "opifex/core/volumes/iso9660/writer.hpp"

#include <algorithm>
#include <functional>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/folder_tree.hpp"

#include "identifiers.hpp"
#include "nodes.hpp"
#include "records.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

using namespace iso;

constexpr std::size_t kLongestRecord = 254, kSystemArea = 16 * kBlock;

/// One of the two trees: its identifiers and where its tables and folders lie.
struct Tree {
  bool joliet = false;
  std::vector<Bytes> identifiers = {};                // by node, as written
  std::vector<std::vector<std::size_t>> sorted = {};  // children in the order of their records
  std::vector<std::size_t> folders = {};              // in the order of the path table
  std::vector<std::uint64_t> sector = {}, size = {};  // of each node's folder
  std::uint64_t table_bytes = 0, l_table = 0, m_table = 0;
};

std::uint64_t sectors_for(std::uint64_t bytes) { return bytes / kBlock + (bytes % kBlock != 0 ? 1 : 0); }

class Builder {
 public:
  Builder(const fs::path& folder, const fs::path& out, const IsoOptions& options)
      : root_(folder), out_(out), options_(options) {}

  IsoBuild build() {
    read();
    Tree plain = make_tree(false);
    std::optional<Tree> joliet;
    if (options_.joliet) joliet = make_tree(true);
    place(plain, joliet);
    write_head(plain, joliet);
    write_files();
    finish();
    return std::move(build_);
  }

 private:
  [[noreturn]] void refuse(const char* code, std::string what, std::string found, std::string expected) const {
    throw Error({.code = code,
                 .what = std::move(what),
                 .file = root_.string(),
                 .found = std::move(found),
                 .expected = std::move(expected)});
  }

  void read() {
    IsoNodes all = read_iso_nodes(root_, options_);
    refuse_inside(root_, out_);
    nodes_ = std::move(all.nodes);
    build_.files = all.files;
    build_.folders = all.folders;
    build_.notices = std::move(all.notices);
  }

  // ---- Trees -------------------------------------------------------------------------------------------------------

  Tree make_tree(bool joliet) const {
    Tree tree;
    tree.joliet = joliet;
    tree.identifiers.resize(nodes_.size());
    tree.sorted.resize(nodes_.size());
    tree.sector.resize(nodes_.size());
    tree.size.resize(nodes_.size());
    tree.identifiers[0] = Bytes(1);
    tree.folders = {0};
    for (std::size_t i = 0; i < nodes_.size(); ++i)
      if (nodes_[i].folder) name_children(tree, i);
    for (std::size_t i = 0; i < tree.folders.size(); ++i) {
      std::vector<std::size_t> below;
      for (const std::size_t c : nodes_[tree.folders[i]].children)
        if (nodes_[c].folder) below.push_back(c);
      std::sort(below.begin(), below.end(),
                [&](std::size_t a, std::size_t b) { return tree.identifiers[a] < tree.identifiers[b]; });
      tree.folders.insert(tree.folders.end(), below.begin(), below.end());
    }
    for (const std::size_t f : tree.folders) {
      tree.size[f] = folder_bytes(tree, f);
      tree.table_bytes += 8 + tree.identifiers[f].size() + tree.identifiers[f].size() % 2;
    }
    return tree;
  }

  void name_children(Tree& tree, std::size_t folder) const {
    std::vector<HostName> names;
    for (const std::size_t c : nodes_[folder].children) names.push_back({nodes_[c].name, nodes_[c].folder});
    const NameRule rule = tree.joliet                          ? NameRule::joliet
                          : options_.names == IsoNames::level1 ? NameRule::level1
                          : options_.names == IsoNames::level2 ? NameRule::level2
                                                               : NameRule::relaxed;
    const auto mapped = map_names(names, rule);
    if (!mapped)
      refuse("name_collisions", "more than a thousand names of a folder become the same",
             printable(nodes_[folder].path), "names that differ in their first characters");
    std::vector<std::pair<IsoIdentifier, std::size_t>> order;
    for (std::size_t i = 0; i < names.size(); ++i) order.emplace_back((*mapped)[i], nodes_[folder].children[i]);
    std::sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return comes_before(a.first, b.first); });
    for (const auto& [identifier, node] : order) {
      tree.sorted[folder].push_back(node);
      tree.identifiers[node] = identifier.bytes(rule == NameRule::joliet);
      if (record_bytes(tree.identifiers[node].size()) > kLongestRecord)
        refuse("record_too_long", "a name is too long for a directory record", printable(nodes_[node].path),
               "a shorter one");
    }
  }

  std::uint64_t sections_of(const IsoNode& n) const {
    return n.folder || n.size_bytes == 0 ? 1 : (n.size_bytes + options_.largest_section - 1) / options_.largest_section;
  }

  /// Calls `each(node, section, length)` for every record but `.` and `..`.
  template <typename Each>
  void for_records(const Tree& tree, std::size_t folder, Each each) const {
    for (const std::size_t c : tree.sorted[folder])
      for (std::uint64_t s = 0; s < sections_of(nodes_[c]); ++s) each(c, s, record_bytes(tree.identifiers[c].size()));
  }

  std::uint64_t folder_bytes(const Tree& tree, std::size_t folder) const {
    std::uint64_t at = 2 * record_bytes(1);
    for_records(tree, folder,
                [&](std::size_t, std::uint64_t, std::size_t length) { at = advance(at, length) + length; });
    return sectors_for(at) * kBlock;
  }
  /// Records never cross a sector.
  static std::uint64_t advance(std::uint64_t at, std::size_t length) {
    return at % kBlock + length > kBlock ? (at / kBlock + 1) * kBlock : at;
  }

  // ---- Places ------------------------------------------------------------------------------------------------------

  void place(Tree& plain, std::optional<Tree>& joliet) {
    std::uint64_t next = 16 + (joliet ? 3 : 2);
    const auto tables = [&](Tree& t) {
      t.l_table = next;
      t.m_table = t.l_table + sectors_for(t.table_bytes);
      next = t.m_table + sectors_for(t.table_bytes);
    };
    const auto folders = [&](Tree& t) {
      for (const std::size_t f : t.folders) {
        t.sector[f] = next;
        next += t.size[f] / kBlock;
      }
    };
    tables(plain);
    if (joliet) tables(*joliet);
    folders(plain);
    if (joliet) folders(*joliet);
    head_sectors_ = next;
    for (const std::size_t f : data_order(plain)) {
      IsoNode& n = nodes_[f];
      if (n.size_bytes == 0) continue;
      n.sector = next;
      files_.push_back(f);
      next += sectors_for(n.size_bytes);
    }
    sectors_ = next + options_.padding_sectors;
    if (sectors_ > UINT32_MAX)
      refuse("too_large", "the image would have more sectors than ISO 9660 can count", fmt::format("{}", sectors_),
             "at most 4294967295");
  }

  /// The named files first, then folder by folder.
  std::vector<std::size_t> data_order(const Tree& plain) const {
    std::vector<std::size_t> order;
    std::set<std::size_t> taken;
    for (const std::string& wanted : options_.first_files) {
      const auto at = std::find_if(nodes_.begin(), nodes_.end(), [&](const IsoNode& n) {
        return !n.folder && fold_case(n.path) == fold_case(wanted);
      });
      if (at == nodes_.end())
        throw Error({.fault = Fault::usage,
                     .code = "no_such_path",
                     .what = "the order names a file that is not in the folder",
                     .file = root_.string(),
                     .found = printable(wanted)});
      const auto i = static_cast<std::size_t>(at - nodes_.begin());
      if (taken.insert(i).second) order.push_back(i);
    }
    for (const std::size_t f : plain.folders)
      for (const std::size_t c : plain.sorted[f])
        if (!nodes_[c].folder && taken.insert(c).second) order.push_back(c);
    return order;
  }

  // ---- Writing -----------------------------------------------------------------------------------------------------

  Bytes folder_data(const Tree& tree, std::size_t folder) const {
    Bytes data(static_cast<std::size_t>(tree.size[folder]));
    constexpr std::size_t kOwnRecord = record_bytes(1);
    const Bytes self(1), up = {std::byte{1}};
    const std::size_t parent = nodes_[folder].parent;
    put_record(std::span(data).first(kOwnRecord), self, tree.sector[folder], tree.size[folder], nodes_[folder].time,
               kFolder);
    put_record(std::span(data).subspan(kOwnRecord, kOwnRecord), up, tree.sector[parent], tree.size[parent],
               nodes_[parent].time, kFolder);
    std::uint64_t at = 2 * kOwnRecord;
    for_records(tree, folder, [&](std::size_t c, std::uint64_t section, std::size_t length) {
      at = advance(at, length);
      const IsoNode& n = nodes_[c];
      const auto place = std::span(data).subspan(static_cast<std::size_t>(at), length);
      const std::uint64_t done = section * options_.largest_section;
      const bool more = section + 1 < sections_of(n);
      if (n.folder)
        put_record(place, tree.identifiers[c], tree.sector[c], tree.size[c], n.time, kFolder);
      else
        put_record(place, tree.identifiers[c], n.sector == 0 ? 0 : n.sector + done / kBlock,
                   more ? options_.largest_section : n.size_bytes - done, n.time, more ? kMore : std::byte{});
      at += length;
    });
    return data;
  }

  Bytes path_table(const Tree& tree, bool big_endian) const {
    Bytes table;
    std::vector<std::size_t> number(nodes_.size(), 1);
    for (std::size_t i = 0; i < tree.folders.size(); ++i) number[tree.folders[i]] = i + 1;
    for (const std::size_t f : tree.folders) {
      const Bytes& id = tree.identifiers[f];
      Bytes record(8 + id.size() + id.size() % 2);
      Fields put(record);
      put.byte(0, static_cast<unsigned>(id.size()));
      if (big_endian) {
        put.be(2, tree.sector[f], 4);
        put.be(6, number[nodes_[f].parent], 2);
      } else {
        put.le(2, tree.sector[f], 4);
        put.le(6, number[nodes_[f].parent], 2);
      }
      put.bytes(8, id);
      table.insert(table.end(), record.begin(), record.end());
    }
    table.resize(sectors_for(table.size()) * kBlock);
    return table;
  }

  Bytes descriptor(const Tree& tree) const {
    Bytes d(kBlock);
    Fields put(d);
    const auto text = [&](std::size_t at, std::size_t size, const std::string& value) {
      put.bytes(at, tree.joliet ? ucs2_field(value, size) : padded_field(value, size));
    };
    using namespace descriptor_at;
    put.byte(kType, tree.joliet ? kSupplementary : kPrimary);
    put.bytes(kStandardId, as_view(kIsoMark));
    put.byte(kVersion, 1);
    text(kSystemId, 32, "");
    text(kVolumeId, 32, volume_id());
    put.both(kSpace, sectors_, 4);
    if (tree.joliet) put.bytes(kEscapes, as_view("%/E"));
    put.both(kSetSize, 1, 2);
    put.both(kSequence, 1, 2);
    put.both(kBlockSize, kBlock, 2);
    put.both(kPathTableSize, tree.table_bytes, 4);
    put.le(kLTable, tree.l_table, 4);
    put.be(kMTable, tree.m_table, 4);
    put_record(std::span(d).subspan(kRoot, kShortestRecord), Bytes(1), tree.sector[0], tree.size[0], nodes_[0].time,
               kFolder);
    for (const std::size_t at : {kSetId, kPublisher, kPreparer, kApplication}) text(at, 128, "");
    for (const std::size_t at : {kCopyright, kAbstract, kBibliography}) text(at, 37, "");
    for (const std::size_t at : {kCreated, kModified}) put_date17(put, at);
    for (const std::size_t at : {kExpires, kEffective}) put.bytes(at, as_view("0000000000000000"));
    put.byte(kStructureVersion, 1);
    return d;
  }

  void put_date17(Fields& put, std::size_t at) const {
    std::int64_t newest = options_.fixed_time.value_or(0);
    if (!options_.fixed_time)
      for (const IsoNode& n : nodes_) newest = std::max(newest, n.time);
    const CivilTime t = iso_time(newest);
    put.bytes(at, as_view(fmt::format("{:04}{:02}{:02}{:02}{:02}{:02}00", t.year, t.month, t.day, t.hour, t.minute,
                                      t.second)));
  }

  std::string volume_id() const {
    constexpr std::size_t kLongest = 32;
    if (!options_.volume_id.empty()) return options_.volume_id.substr(0, kLongest);
    const fs::path name = fs::canonical(root_).filename();
    const auto mapped = map_names({{name.string(), true}}, NameRule::level2);
    return mapped ? (*mapped)[0].name_text().substr(0, kLongest) : "DISC";
  }

  Bytes system_area() const {
    Bytes area(kSystemArea);
    if (options_.make_system_area) return options_.make_system_area(sectors_);
    if (options_.system_area.empty()) return area;
    const SourcePtr file = open_file(options_.system_area);
    if (file->size() > kSystemArea)
      throw Error({.code = "system_area",
                   .what = "the boot area has room for 32768 bytes",
                   .file = options_.system_area.string(),
                   .found = fmt::format("{} bytes", file->size())});
    file->read_at(0, std::span(area).first(static_cast<std::size_t>(file->size())));
    return area;
  }

  void write_head(const Tree& plain, const std::optional<Tree>& joliet) {
    Bytes head = system_area();
    const auto add = [&](const Bytes& b) { head.insert(head.end(), b.begin(), b.end()); };
    add(descriptor(plain));
    if (joliet) add(descriptor(*joliet));
    Bytes end(kBlock);
    end[0] = std::byte{255};
    Fields(end).bytes(1, as_view("CD001\1"));
    add(end);
    for (const Tree* t : {&plain, joliet ? &*joliet : nullptr})
      if (t) {
        add(path_table(*t, false));
        add(path_table(*t, true));
      }
    for (const Tree* t : {&plain, joliet ? &*joliet : nullptr})
      if (t)
        for (const std::size_t f : t->folders) add(folder_data(*t, f));
    pieces_.emplace_back(std::move(head));
  }

  void write_files() {
    for (const std::size_t f : files_) {
      const IsoNode& n = nodes_[f];
      for (const fs::path& host : n.hosts) {
        const std::uint64_t size = n.hosts.size() == 1 ? n.size_bytes : fs::file_size(host);
        pieces_.emplace_back(SourceRun{file_when_read(host, size), 0, size});
      }
      if (const std::size_t rest = static_cast<std::size_t>(n.size_bytes % kBlock); rest != 0)
        pieces_.emplace_back(Bytes(kBlock - rest));
    }
    if (options_.padding_sectors > 0) pieces_.emplace_back(Bytes(options_.padding_sectors * kBlock));
  }

  void finish() {
    build_.plan.steps.push_back(fmt::format("write {} files in {} folders, {} sectors{}, to {}", grouped(build_.files),
                                            grouped(build_.folders), grouped(sectors_),
                                            options_.joliet ? ", with Joliet names" : "", out_.filename().string()));
    build_.plan.outputs.push_back({out_, std::move(pieces_), sectors_ * kBlock});
  }

  fs::path root_, out_;
  const IsoOptions& options_;
  std::vector<IsoNode> nodes_;
  std::vector<std::size_t> files_;  // in the order of their data
  std::uint64_t head_sectors_ = 0, sectors_ = 0;
  std::vector<Piece> pieces_;
  IsoBuild build_;
};

}  // namespace

IsoBuild plan_iso(const fs::path& folder, const fs::path& out, const IsoOptions& options) {
  return Builder(folder, out, options).build();
}

}  // namespace opifex
