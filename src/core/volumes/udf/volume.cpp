#include "opifex/core/volumes/udf/volume.hpp"

#include <algorithm>
#include <deque>
#include <set>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

#include "../listing_budget.hpp"
#include "../names.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 2048;
constexpr std::uint16_t kAnchor = 2, kPartition = 5, kLogicalVolume = 6, kTerminator = 8, kFileSet = 256,
                        kIdentifier = 257, kAllocation = 258, kFileEntry = 261, kExtendedFileEntry = 266;

/// Where structures have their fields (ECMA-167, parts 3 and 4).
namespace tag_at {  // 3/7.2
constexpr std::size_t kId = 0, kSum = 4, kCrc = 8, kCrcLength = 10, kPlace = 12;
}
namespace anchor_at {  // 3/10.2
constexpr std::size_t kMain = 16, kReserve = 24;
}
namespace partition_at {  // 3/10.5
constexpr std::size_t kNumber = 22, kStart = 188, kBlocks = 192;
}
namespace logical_at {  // 3/10.6
constexpr std::size_t kName = 84, kBlockSize = 212, kRevision = 240, kMaps = 268, kFirstMap = 440;
}
namespace map_at {  // 3/10.7, UDF 2.2.10
constexpr std::size_t kType = 0, kLength = 1, kPlainPartition = 4, kName = 5, kPartition = 38, kMetadataFile = 40;
}
namespace file_at {  // 4/14.9; an extended entry (4/14.17) has more in front of the last
constexpr std::size_t kType = 27, kFlags = 34, kSize = 56, kModified = 84, kExtendedModified = 92, kAttributes = 168,
                      kExtendedAttributes = 208;
}
namespace identifier_at {  // 4/14.4
constexpr std::size_t kNameLength = 19, kUseLength = 36, kUse = 38;
}

/// A broken structure: its code, for the volume's list of problems.
struct Broken {
  const char* code;
  std::string message;
};

/// The tag's id; 0 if it is no tag (ECMA-167, 7.2).
std::uint16_t tag_of(ByteView block) {
  constexpr std::size_t kTagBytes = 16;
  if (block.size() < kTagBytes) return 0;
  unsigned sum = 0;
  for (std::size_t i = 0; i < kTagBytes; ++i)
    if (i != tag_at::kSum) sum += std::to_integer<unsigned>(block[i]);
  if ((sum & 255) != std::to_integer<unsigned>(block[tag_at::kSum])) return 0;
  const std::size_t length = load_le16(block, tag_at::kCrcLength);
  if (length > block.size() - kTagBytes || crc16(block.subspan(kTagBytes, length), 0) != load_le16(block, tag_at::kCrc))
    return 0;
  return load_le16(block, tag_at::kId);
}

/// An address in a partition.
struct Place {
  std::uint32_t block = 0;
  std::uint16_t partition = 0;
};

struct Run {
  Place place;
  std::uint64_t size_bytes = 0;
  bool recorded = true;
};

struct Node {
  unsigned type = 0;
  std::uint64_t size_bytes = 0;
  std::vector<Run> runs;
  std::optional<Bytes> inside;
  std::optional<std::int64_t> modified;
};

/// ECMA-167, 7.2.12: one byte of 8 or 16 bits a character, then the text.
std::string compressed_text(ByteView v) {
  if (v.empty()) return {};
  const auto kind = std::to_integer<int>(v[0]);
  return kind == 16 ? utf16_be_text(v.subspan(1)) : latin1_text(v.subspan(1));
}
/// A dstring: the last byte is the length used.
std::string dstring(ByteView v) {
  const auto used = std::to_integer<std::size_t>(v.back());
  return compressed_text(v.first(std::min(used, v.size() - 1)));
}

class Reader {
 public:
  explicit Reader(SourcePtr disc) : disc_(std::move(disc)) { volume_.disc = disc_; }

  std::optional<Volume> read() {
    if (!has_udf(*disc_)) return std::nullopt;
    volume_.system = "udf";
    try {
      read_sequences();
      read_maps();
      walk(root());
    } catch (const Broken& b) {
      damage(b.code, b.message);
    }
    return std::move(volume_);
  }

 private:
  std::uint64_t sectors() const { return disc_->size() / kBlock; }
  Bytes sector(std::uint64_t n) const { return n < sectors() ? read_up_to(*disc_, n * kBlock, kBlock) : Bytes{}; }
  void damage(const char* code, std::string message) { volume_.tell(code, Weight::damage, std::move(message)); }

  /// The volume's descriptors stand twice: the second time for when the first cannot be read.
  void read_sequences() {
    const Anchor anchor = find_anchor();
    try {
      read_sequence(anchor.main);
    } catch (const Broken& b) {
      damage(b.code, b.message + ": its reserve is used");
      areas_.clear();
      logical_.clear();
      read_sequence(anchor.reserve);
    }
  }

  struct Anchor {
    std::pair<std::uint32_t, std::uint32_t> main, reserve;  // sector and bytes
  };
  Anchor find_anchor() {
    const std::uint64_t last = sectors() - 1;
    for (const std::uint64_t n :
         {std::uint64_t{256}, last, last - std::min<std::uint64_t>(last, 256), std::uint64_t{512}}) {
      const Bytes b = sector(n);
      if (b.size() != kBlock || tag_of(b) != kAnchor) {
        // Blank discs of some writers have only the ones at the end: nothing is wrong then.
        if (n == 256 && b.size() == kBlock && !all_zero(b)) damage("udf_anchor", "the anchor in sector 256 is broken");
        continue;
      }
      return {extent_at(b, anchor_at::kMain), extent_at(b, anchor_at::kReserve)};
    }
    throw Broken{"udf_anchor", "the UDF file system has no anchor"};
  }

  /// Its first sector, and its bytes (3/7.1).
  static std::pair<std::uint32_t, std::uint32_t> extent_at(ByteView v, std::size_t at) {
    return {load_le32(v, at + 4), load_le32(v, at)};
  }

  struct PartitionArea {
    std::uint16_t number = 0;
    std::uint64_t start = 0, blocks = 0;
  };

  void read_sequence(std::pair<std::uint32_t, std::uint32_t> where) {
    constexpr std::uint64_t kMost = 256;
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(kMost, where.second / kBlock); ++i) {
      const Bytes b = sector(where.first + i);
      if (b.size() < kBlock) break;
      const std::uint16_t tag = tag_of(b);
      if (tag == kTerminator) break;
      if (tag == 0 && !all_zero(b))
        damage("udf_descriptor", fmt::format("the descriptor in sector {} is broken", where.first + i));
      if (tag == kPartition)
        areas_.push_back({load_le16(b, partition_at::kNumber), load_le32(b, partition_at::kStart),
                          load_le32(b, partition_at::kBlocks)});
      if (tag == kLogicalVolume) logical_ = b;
    }
    if (logical_.empty() || areas_.empty())
      throw Broken{"udf_volume", "the UDF file system has no logical volume or no partition"};
    if (load_le32(logical_, logical_at::kBlockSize) != kBlock)
      throw Broken{"bad_block_size", "its blocks are not of 2048 bytes"};
    volume_.label = dstring(ByteView(logical_).subspan(logical_at::kName, 128));
    const unsigned revision = load_le16(logical_, logical_at::kRevision);
    volume_.system = fmt::format("udf-{:x}.{:02x}", revision >> 8, revision & 255);
  }

  /// How the numbers in addresses lead to sectors.
  struct Map {
    std::uint64_t start = 0, blocks = 0;
    std::vector<Run> metadata;  ///< blocks are counted in this file; empty: plain
  };

  const PartitionArea& area(std::uint16_t number) const {
    for (const PartitionArea& a : areas_)
      if (a.number == number) return a;
    throw Broken{"udf_volume", "a partition that is not there is named"};
  }

  void read_maps() {
    constexpr std::size_t kMost = 16;
    const std::uint32_t count = load_le32(logical_, logical_at::kMaps);
    std::size_t at = logical_at::kFirstMap;
    for (std::uint32_t i = 0; i < count && i < kMost; ++i) {
      if (at + 6 > logical_.size()) break;
      const auto type = std::to_integer<int>(logical_[at + map_at::kType]);
      const auto length = std::to_integer<std::size_t>(logical_[at + map_at::kLength]);
      if (length < 6 || at + length > logical_.size()) throw Broken{"udf_volume", "its partition maps are broken"};
      if (type == 1) {
        const PartitionArea& a = area(load_le16(logical_, at + map_at::kPlainPartition));
        maps_.push_back({a.start, a.blocks, {}});
        volume_.blocks = std::max(volume_.blocks, a.start + a.blocks);
      } else {
        add_second_kind(ByteView(logical_).subspan(at, length));
      }
      at += length;
    }
  }

  void add_second_kind(ByteView map) {
    constexpr std::size_t kLength = 64;
    const std::string_view name = map.size() >= kLength ? as_text(map).substr(map_at::kName, 23) : std::string_view{};
    if (name != "*UDF Metadata Partition")
      throw Broken{"udf_partition", "its partition is of a kind that is not read (virtual or sparable)"};
    const PartitionArea& a = area(load_le16(map, map_at::kPartition));
    maps_.push_back({a.start, a.blocks, {}});
    const std::uint32_t file = load_le32(map, map_at::kMetadataFile);
    const Bytes b = a.start + file < sectors() ? sector(a.start + file) : Bytes{};
    const std::optional<Node> node =
        b.empty() ? std::nullopt : parse_node(b, static_cast<std::uint16_t>(maps_.size() - 1));
    if (!node || node->runs.empty()) throw Broken{"udf_partition", "its metadata file cannot be read"};
    maps_.back().metadata = node->runs;
  }

  /// The sector of a block; nothing if it lies outside.
  std::optional<std::uint64_t> resolve(Place p) const {
    if (p.partition >= maps_.size()) return std::nullopt;
    const Map& map = maps_[p.partition];
    std::uint64_t block = p.block;
    if (!map.metadata.empty()) {
      std::uint64_t left = block;
      const auto run = std::find_if(map.metadata.begin(), map.metadata.end(), [&](const Run& r) {
        const std::uint64_t n = r.size_bytes / kBlock;
        if (left < n) return true;
        left -= n;
        return false;
      });
      if (run == map.metadata.end()) return std::nullopt;
      block = run->place.block + left;
    }
    if (block >= map.blocks || map.start + block >= sectors()) return std::nullopt;
    return map.start + block;
  }

  Bytes block_at(Place p) const {
    const auto n = resolve(p);
    return n ? sector(*n) : Bytes{};
  }

  static Place long_place(ByteView v, std::size_t at) { return {load_le32(v, at + 4), load_le16(v, at + 8)}; }

  /// A file entry (ECMA-167, 14.9 and 14.17); `partition` is where it lies.
  std::optional<Node> parse_node(ByteView b, std::uint16_t partition) const {
    const std::uint16_t tag = tag_of(b);
    if (tag != kFileEntry && tag != kExtendedFileEntry) return std::nullopt;
    const bool extended = tag == kExtendedFileEntry;
    const std::size_t ea_at = extended ? file_at::kExtendedAttributes : file_at::kAttributes, head = ea_at + 8,
                      date_at = extended ? file_at::kExtendedModified : file_at::kModified;
    Node node;
    node.type = std::to_integer<unsigned>(b[file_at::kType]);
    node.size_bytes = load_le64(b, file_at::kSize);
    node.modified = date_of(b.subspan(date_at, 12));
    const std::uint64_t ea = load_le32(b, ea_at), ad = load_le32(b, ea_at + 4);
    if (ea > b.size() - head || ad > b.size() - head - ea) return std::nullopt;
    const ByteView list = b.subspan(head + ea, ad);
    const unsigned form = load_le16(b, file_at::kFlags) & 7;
    if (form == 3)
      node.inside =
          Bytes(list.begin(), list.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(node.size_bytes, ad)));
    else if (form > 1 || !add_runs(list, form == 1, partition, node.runs))
      return std::nullopt;
    return node;
  }

  /// Blocks of lists may be named by many files: each reading counts.
  void add_run(std::vector<Run>& runs, const Run& run) const {
    budget_.take(sizeof run);
    runs.push_back(run);
  }

  bool add_runs(ByteView list, bool is_long, std::uint16_t partition, std::vector<Run>& runs) const {
    constexpr int kMostLists = 1000;
    Bytes held;
    for (int hop = 0; hop < kMostLists; ++hop) {
      std::optional<Place> next;
      const std::size_t each = is_long ? 16 : 8;
      for (std::size_t at = 0; at + each <= list.size() && !next; at += each) {
        const std::uint32_t word = load_le32(list, at), length = word & 0x3FFF'FFFF, kind = word >> 30;
        if (length == 0) return true;
        const Place place = is_long ? long_place(list, at) : Place{load_le32(list, at + 4), partition};
        if (kind == 3)
          next = place;
        else if (runs.size() >= ListingBudget::kMostExtents)
          return false;
        else
          add_run(runs, {place, length, kind == 0});
      }
      if (!next) return true;
      Bytes b = block_at(*next);
      constexpr std::size_t kListAt = 24;
      if (b.empty() || tag_of(b) != kAllocation) return false;
      const std::size_t size = std::min<std::size_t>(load_le32(b, 20), b.size() - kListAt);
      held = std::move(b);
      list = ByteView(held).subspan(kListAt, size);
    }
    return false;
  }

  /// ECMA-167, 7.3: type and zone, year, month, day, hour, minute, second.
  static std::optional<std::int64_t> date_of(ByteView d) {
    const auto field = [&](std::size_t i) { return std::to_integer<int>(d[i]); };
    const auto time =
        seconds_of({static_cast<std::int16_t>(load_le16(d, 2)), field(4), field(5), field(6), field(7), field(8)});
    if (!time) return std::nullopt;
    int zone = load_le16(d, 0) & 0xFFF;
    if (zone >= 0x800) zone -= 0x1000;
    constexpr int kNotGiven = -2047;
    if (zone == kNotGiven) zone = 0;
    return *time - zone * 60;
  }

  Place root() const {
    const Bytes b = block_at(long_place(logical_, 248));
    if (b.empty() || tag_of(b) != kFileSet) throw Broken{"udf_fileset", "its file set cannot be read"};
    return long_place(b, 400);
  }

  // ---- The tree ----------------------------------------------------------------------------------------------------

  struct Folder {
    Place place;
    std::string path;
    int depth = 1;
  };

  void walk(Place start) {
    std::deque<Folder> queue = {{start, "", 1}};
    seen_.insert({start.partition, start.block});
    bool is_root = true;
    while (!queue.empty()) {
      const Folder folder = std::move(queue.front());
      queue.pop_front();
      if (!read_folder(folder, queue) && std::exchange(is_root, false))
        throw Broken{"udf_root", "its root directory cannot be read"};
      is_root = false;
    }
  }

  std::optional<Bytes> contents_of(const Node& node) const {
    if (node.inside) return node.inside;
    if (node.size_bytes > ListingBudget::kMostFolderBytes) return std::nullopt;
    budget_.take(node.size_bytes);
    Bytes all;
    for (const Run& run : node.runs)
      for (std::uint64_t done = 0; done < run.size_bytes && all.size() < node.size_bytes; done += kBlock) {
        const Bytes b = block_at({run.place.block + static_cast<std::uint32_t>(done / kBlock), run.place.partition});
        if (b.empty()) return std::nullopt;
        const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(kBlock, run.size_bytes - done));
        all.insert(all.end(), b.begin(), b.begin() + static_cast<std::ptrdiff_t>(n));
      }
    all.resize(std::min<std::size_t>(all.size(), static_cast<std::size_t>(node.size_bytes)));
    return all;
  }

  bool read_folder(const Folder& folder, std::deque<Folder>& queue) {
    constexpr unsigned kFolderType = 4;
    const std::string name = folder.path.empty() ? "the root" : printable(folder.path);
    const Bytes b = block_at(folder.place);
    const auto node = b.empty() ? std::nullopt : parse_node(b, folder.place.partition);
    const auto bytes = node && node->type == kFolderType ? contents_of(*node) : std::nullopt;
    if (!bytes) {
      damage("not_a_directory", fmt::format("{}: a UDF folder cannot be read", name));
      return false;
    }
    constexpr std::size_t kHead = identifier_at::kUse;
    for (std::size_t at = 0; at + kHead <= bytes->size();) {
      const ByteView d = ByteView(*bytes).subspan(at);
      const std::size_t name_bytes = std::to_integer<std::size_t>(d[identifier_at::kNameLength]),
                        use = load_le16(d, identifier_at::kUseLength);
      const std::size_t size = (kHead + use + name_bytes + 3) / 4 * 4;
      if (load_le16(d, tag_at::kId) != kIdentifier || kHead + use + name_bytes > d.size() || budget_.is_full()) {
        damage("record_short", fmt::format("{}: an entry of this UDF folder is broken", name));
        return true;
      }
      add_entry(d, compressed_text(d.subspan(kHead + use, name_bytes)), folder, queue);
      at += size;
    }
    return true;
  }

  void add_entry(ByteView d, const std::string& name, const Folder& folder, std::deque<Folder>& queue) {
    constexpr unsigned kIsFolder = 2, kDeleted = 4, kParent = 8;
    const auto flags = std::to_integer<unsigned>(d[18]);
    if ((flags & (kDeleted | kParent)) != 0) return;
    const Place place = long_place(d, 20);
    VolumeEntry entry;
    entry.path = folder.path.empty() ? name : folder.path + "/" + name;
    entry.safe = is_safe_name(name);
    if (!entry.safe) damage("bad_name", fmt::format("{}: a name that no file may have", printable(entry.path)));
    if ((flags & 1) != 0) entry.attributes = "hidden";
    const Bytes b = block_at(place);
    const auto node = b.empty() ? std::nullopt : parse_node(b, place.partition);
    if ((flags & kIsFolder) != 0) {
      entry.kind = EntryKind::folder;
      if (folder.depth >= ListingBudget::kDeepest || !seen_.insert({place.partition, place.block}).second)
        damage("dir_loop", fmt::format("{} leads back to a folder above it", printable(entry.path)));
      else
        queue.push_back({place, entry.path, folder.depth + 1});
    }
    if (!node) {
      entry.sound = false;
      if (entry.kind == EntryKind::file)
        damage("file_entry", fmt::format("{}: its file entry cannot be read", printable(entry.path)));
    } else {
      fill(entry, *node);
    }
    budget_.take(entry);
    volume_.entries.push_back(std::move(entry));
  }

  void fill(VolumeEntry& entry, const Node& node) {
    constexpr unsigned kLink = 12;
    entry.size_bytes = node.size_bytes;
    entry.modified = node.modified;
    entry.inside = node.inside;
    if (node.type == kLink) entry.kind = EntryKind::link;
    std::uint64_t left = node.size_bytes;
    for (const Run& run : node.runs) {
      const std::uint64_t bytes = std::min(left, run.size_bytes);
      left -= bytes;
      if (bytes == 0) break;
      const auto first = run.recorded ? resolve(run.place) : std::optional<std::uint64_t>(0);
      VolumeExtent e{first.value_or(0), bytes, 0, 0, run.recorded};
      if (!first || (run.recorded && e.sectors() > sectors() - *first)) entry.sound = false;
      entry.extents.push_back(e);
    }
    if (left > 0 && !node.inside) entry.sound = false;
    if (!entry.sound && entry.kind == EntryKind::file)
      damage("extent_outside", fmt::format("{} lies outside the image", printable(entry.path)));
  }

  SourcePtr disc_;
  mutable ListingBudget budget_{*disc_};
  Volume volume_;
  Bytes logical_;
  std::vector<PartitionArea> areas_;
  std::vector<Map> maps_;
  std::set<std::pair<std::uint16_t, std::uint32_t>> seen_;
};

}  // namespace

bool has_udf(const ByteSource& disc) {
  constexpr std::uint64_t kFirst = 16, kLook = 64;
  for (std::uint64_t n = kFirst; n < kFirst + kLook; ++n) {
    const Bytes b = read_up_to(disc, n * kBlock, kBlock);
    if (b.size() < kBlock) return false;
    const std::string_view id = as_text(b).substr(1, 5);
    if (id == "NSR02" || id == "NSR03") return true;
    if (id != kIsoMark && id != "BEA01" && id != "BOOT2" && id != "CDW02" && id != "TEA01") return false;
  }
  return false;
}

bool has_udf_anchor(const ByteSource& disc) {
  constexpr std::uint64_t kPlace = 256;
  const Bytes b = read_up_to(disc, kPlace * kBlock, kBlock);
  return b.size() == kBlock && tag_of(b) == kAnchor && load_le32(b, tag_at::kPlace) == kPlace;
}

std::optional<Volume> read_udf(SourcePtr disc) { return Reader(std::move(disc)).read(); }

}  // namespace opifex
