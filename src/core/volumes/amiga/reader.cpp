#include <algorithm>
#include <deque>
#include <map>
#include <set>

#include "opifex/core/base/text.hpp"

#include "../names.hpp"
#include "structure.hpp"

namespace opifex::amiga {
namespace {

constexpr std::string_view kNewMagic = "UAE-1ADF", kOldMagic = "UAE--ADF";
constexpr std::uint32_t kOldTracks = 160;
constexpr std::size_t kRootOwner = 0;

std::string shown(std::string_view latin1) { return printable(latin1_text(as_view(latin1))); }

std::vector<std::uint32_t> root_candidates(ByteView image) {
  const auto blocks = static_cast<std::uint32_t>(image.size() / kBlockBytes);
  const std::uint32_t usual =
      image.size() % (2 * kCylinderBytes) == 0 && image.size() >= 160 * kCylinderBytes ? 1760 : 880;
  std::vector<std::uint32_t> all = {usual, blocks / 2};
  if (const std::uint32_t told = word(image, 8); told >= kFirstBlock && told < blocks) all.push_back(told);
  return all;
}

/// The first with a right checksum, else the first that looks like one.
std::optional<std::uint32_t> find_root(ByteView image) {
  std::optional<std::uint32_t> doubtful;
  for (const std::uint32_t b : root_candidates(image)) {
    if (std::size_t{b} * kBlockBytes + kBlockBytes > image.size()) continue;
    const ByteView block = block_of(image, b);
    if (!is_root(block)) continue;
    if (block_sum(block, at::kSum) == word(block, at::kSum)) return b;
    if (!doubtful) doubtful = b;
  }
  return doubtful;
}

/// Walks from the root with one table of owners: no block is entered twice, so that everything ends.
class Walk {
 public:
  explicit Walk(ByteView image, std::uint32_t root) : image_(image) {
    disk_.kind.flags = std::to_integer<unsigned>(image[3]);
    disk_.root = root;
    disk_.blocks = std::min(static_cast<std::uint32_t>(image.size() / kBlockBytes), 2 * root);
    disk_.bootable = boot_sum(image.first(kBootBytes)) == word(image, kBootSumAt);
    disk_.owner.assign(disk_.blocks, 0);
  }

  Disk run() {
    read_root();
    for (std::size_t folder = 0; folder < disk_.entries.size(); ++folder)
      if (disk_.entries[folder].is_folder() && disk_.entries[folder].entered) read_folder(folder);
    check_links();
    if (disk_.kind.cached()) check_caches();
    check_bitmap();
    return std::move(disk_);
  }

 private:
  void error(const char* code, std::uint32_t block, std::string message) {
    tell(code, block, true, std::move(message));
  }
  void warn(const char* code, std::uint32_t block, std::string message) {
    tell(code, block, false, std::move(message));
  }
  void tell(const char* code, std::uint32_t block, bool is_error, std::string message) {
    Finding& finding = disk_.findings.emplace_back();
    finding.code = code;
    finding.block = block;
    finding.error = is_error;
    finding.message = std::move(message);
  }
  ByteView block(std::uint32_t b) const { return block_of(image_, b); }
  std::uint32_t field(std::uint32_t b, std::size_t at) const { return word(block(b), at); }
  bool in_volume(std::uint32_t b) const { return b >= kFirstBlock && b < disk_.blocks; }
  bool is_free(std::uint32_t b) const { return disk_.owner[b] == 0; }
  void claim(std::uint32_t b, std::size_t entry) { disk_.owner[b] = entry + 1; }
  std::string name_of(std::size_t entry) const {
    return entry == kRootOwner ? "the root" : shown(disk_.path_of(entry));
  }
  void spoil(std::size_t entry, std::string why) {
    if (disk_.entries[entry].flaw.empty()) disk_.entries[entry].flaw = std::move(why);
  }

  /// Of two that share a block nobody knows whose it is: neither is to be trusted.
  void crossed(std::uint32_t b, std::size_t entry) {
    const std::size_t other = disk_.owner[b] - 1;
    error("cross_link", b, fmt::format("block {} is used by {} and by {}", b, name_of(other), name_of(entry)));
    spoil(entry, "it shares a block with another entry");
    spoil(other, "it shares a block with another entry");
  }
  void outside(std::uint32_t holder, std::uint32_t pointer) {
    error("pointer_range", holder,
          fmt::format("block {} points to block {}, and the volume has {}", holder, pointer, disk_.blocks));
  }

  void read_root() {
    const std::uint32_t b = disk_.root;
    Entry root{.block = b, .type = EntryType::root};
    root.date = date_at(block(b), at::kDate);
    disk_.entries.push_back(std::move(root));
    claim(b, kRootOwner);
    disk_.changed = date_at(block(b), at::kChanged);
    disk_.created = date_at(block(b), at::kCreated);
    disk_.label = counted_text(block(b), at::kName, kLongestName);
    if (block_sum(block(b), at::kSum) != field(b, at::kSum))
      error("root_checksum", b, "the checksum of the root is wrong");
    if (std::to_integer<unsigned>(block(b)[at::kName]) > kLongestName || !name_fault(disk_.label).empty())
      error("name", b, "the label of the volume is none: " + shown(disk_.label));
    disk_.bitmap_valid = field(b, at::kBitmapFlag) == kBitmapIsValid;
    if (!disk_.bitmap_valid) warn("bitmap_flag", b, "the bitmap is marked as not valid: what is free is not known");
    const std::uint32_t bitmap = field(b, at::kBitmap);
    if (!in_volume(bitmap) || !is_free(bitmap)) {
      error("bitmap_pointer", b, fmt::format("the bitmap is said to be block {}", bitmap));
      disk_.bitmap_valid = false;
      return;
    }
    disk_.bitmap = bitmap;
    claim(bitmap, kRootOwner);
    if (block_sum(block(bitmap), at::kBitmapSum) != field(bitmap, at::kBitmapSum))
      error("bitmap_checksum", bitmap, "the checksum of the bitmap is wrong");
  }

  std::size_t depth_of(std::size_t entry) const {
    std::size_t depth = 0;
    for (; entry != 0; entry = disk_.entries[entry].parent) ++depth;
    return depth;
  }
  bool is_above(std::uint32_t b, std::size_t folder) const {
    for (std::size_t i = folder;; i = disk_.entries[i].parent) {
      if (disk_.entries[i].block == b) return true;
      if (i == 0) return false;
    }
  }

  void read_folder(std::size_t folder) {
    const std::uint32_t b = disk_.entries[folder].block;
    std::set<std::string> names;
    for (unsigned slot = 0; slot < kTableSlots; ++slot)
      read_chain(folder, slot, field(b, at::kTable + 4 * slot), names);
    if (disk_.kind.cached()) read_caches(folder);
  }

  void read_chain(std::size_t folder, unsigned slot, std::uint32_t next, std::set<std::string>& names) {
    std::uint32_t holder = disk_.entries[folder].block;
    std::set<std::uint32_t> chain;
    while (next != 0) {
      if (!in_volume(next)) return outside(holder, next);
      if (is_above(next, folder))
        return error("dir_loop", next, fmt::format("{} leads back to a folder above it", name_of(folder)));
      if (chain.contains(next))
        return error("hash_loop", next, fmt::format("the names of {} lead in a circle", name_of(folder)));
      if (!is_free(next)) return crossed(next, folder);
      if (!is_header(next))
        return error("block_type", next,
                     fmt::format("block {} should be a file or a folder of {}, and is neither", next, name_of(folder)));
      chain.insert(next);
      read_header(next, folder, slot, names);
      holder = next;
      next = field(next, at::kChain);
    }
  }

  bool is_header(std::uint32_t b) const {
    const auto type = static_cast<std::int32_t>(field(b, at::kKind));
    return field(b, at::kType) == kTypeHeader && (type == 2 || type == 3 || type == 4 || type == -3 || type == -4);
  }

  void read_header(std::uint32_t b, std::size_t folder, unsigned slot, std::set<std::string>& names) {
    const std::size_t number = disk_.entries.size();
    claim(b, number);
    Entry e{.block = b,
            .parent = folder,
            .type = static_cast<EntryType>(static_cast<std::int32_t>(field(b, at::kKind))),
            .slot = slot};
    e.name = counted_text(block(b), at::kName, kLongestName);
    e.comment = counted_text(block(b), at::kComment, kLongestComment);
    e.protection = field(b, at::kProtection);
    e.date = date_at(block(b), at::kDate);
    disk_.entries.push_back(std::move(e));
    check_header(number, names);
    switch (disk_.entries[number].type) {
      case EntryType::file:
        return read_file(number);
      case EntryType::folder:
        if (depth_of(number) > kDeepest) {
          error("depth", b, fmt::format("{} is nested deeper than {} folders", name_of(number), kDeepest));
          disk_.entries[number].entered = false;
        }
        return;
      case EntryType::soft_link: {
        const std::string_view text = as_text(block(b).subspan(at::kTable, kLongestSoftLink + 1));
        disk_.entries[number].target_path = text.substr(0, text.find('\0'));
        return;
      }
      default:
        disk_.entries[number].target = field(b, at::kTarget);
    }
  }

  void check_header(std::size_t number, std::set<std::string>& names) {
    const Entry& e = disk_.entries[number];
    const std::uint32_t b = e.block;
    const auto name_bytes = std::to_integer<unsigned>(block(b)[at::kName]);
    if (block_sum(block(b), at::kSum) != field(b, at::kSum))
      error("header_checksum", b, fmt::format("the checksum of {} is wrong", name_of(number)));
    if (field(b, at::kOwn) != b)
      error("self_pointer", b, fmt::format("{} says it were block {}", name_of(number), field(b, at::kOwn)));
    if (field(b, at::kParent) != disk_.entries[e.parent].block)
      error("parent", b, fmt::format("{} says it were in another folder", name_of(number)));
    const bool countable = name_bytes >= 1 && name_bytes <= kLongestName;
    if (!countable || !name_fault(e.name).empty())
      error("name", b, fmt::format("{} is a name that nothing may have", name_of(number)));
    if (countable && slot_of(e.name, disk_.kind) != e.slot)
      error("hash_bucket", b, fmt::format("{} is not where its name would be looked for", name_of(number)));
    if (countable && !names.insert(folded(e.name, disk_.kind)).second)
      error("duplicate_name", b, fmt::format("a second entry is called {}", name_of(number)));
    if (std::to_integer<unsigned>(block(b)[at::kComment]) > kLongestComment)
      warn("comment_length", b, fmt::format("the comment of {} is said to be longer than one can be", name_of(number)));
  }

  // ---- files

  void read_file(std::size_t number) {
    Entry& e = disk_.entries[number];
    e.size_bytes = field(e.block, at::kSize);
    const std::uint64_t needed = ceil_div<std::uint64_t>(e.size_bytes, disk_.kind.payload());
    if (needed > disk_.blocks) {
      error("file_size", e.block,
            fmt::format("{} is said to have {}, more than the volume", name_of(number), bytes_text(e.size_bytes)));
      spoil(number, "its size is larger than the volume");
    }
    read_pointers(number, e.block);
    read_extensions(number);
    const std::size_t there = e.data.size();
    if (there < needed && needed <= disk_.blocks) {
      error("file_size", e.block,
            fmt::format("{} has {} of the {} that its size needs", name_of(number), plural(there, "block"), needed));
      spoil(number, fmt::format("{} of its {} blocks are missing", needed - there, needed));
    }
    if (there > needed)
      warn("excess_blocks", e.block,
           fmt::format("{} has {} more than its size needs", name_of(number), plural(there - needed, "block")));
    const std::uint32_t first = field(e.block, at::kFirstData), really = e.data.empty() ? 0 : e.data.front();
    if (first != really && !(disk_.kind.fast() && first == 0))
      warn("first_data", e.block, fmt::format("{} names another first block than it has", name_of(number)));
    if (!disk_.kind.fast()) check_data(number, static_cast<std::size_t>(std::min<std::uint64_t>(there, needed)));
  }

  /// Those that one header or list holds. One that leads nowhere keeps its place as block 0.
  void read_pointers(std::size_t number, std::uint32_t holder) {
    Entry& e = disk_.entries[number];
    std::uint32_t count = field(holder, at::kHighSeq);
    if (count > kTableSlots) {
      error("high_seq", holder,
            fmt::format("block {} of {} is said to hold {} pointers", holder, name_of(number), count));
      spoil(number, "it says of more pointers than it can have");
      count = kTableSlots;
    }
    for (std::uint32_t k = 0; k < count; ++k) {
      const std::uint32_t b = field(holder, pointer_at(k));
      if (!in_volume(b)) {
        outside(holder, b);
        spoil(number, "it points to what is not there");
        e.data.push_back(0);
        continue;
      }
      is_free(b) ? claim(b, number) : crossed(b, number);
      e.data.push_back(b);
    }
  }

  void read_extensions(std::size_t number) {
    Entry& e = disk_.entries[number];
    std::uint32_t holder = e.block;
    for (std::uint32_t next = field(holder, at::kExtension); next != 0; next = field(holder, at::kExtension)) {
      const auto broken = [&](const char* code, std::uint32_t b, std::string message) {
        error(code, b, std::move(message));
        spoil(number, "the list of its blocks is broken");
      };
      if (!in_volume(next)) {
        outside(holder, next);
        return spoil(number, "the list of its blocks is broken");
      }
      if (std::find(e.extensions.begin(), e.extensions.end(), next) != e.extensions.end() || next == e.block)
        return broken("ext_loop", next, fmt::format("the lists of {} lead in a circle", name_of(number)));
      if (!is_free(next)) return crossed(next, number);
      if (field(next, at::kType) != kTypeList || static_cast<std::int32_t>(field(next, at::kKind)) != -3)
        return broken("block_type", next,
                      fmt::format("block {} should be a list of {}, and is none", next, name_of(number)));
      claim(next, number);
      e.extensions.push_back(next);
      check_extension(number, next);
      read_pointers(number, next);
      holder = next;
    }
  }

  void check_extension(std::size_t number, std::uint32_t b) {
    if (block_sum(block(b), at::kSum) != field(b, at::kSum)) {
      error("ext_checksum", b, fmt::format("the checksum of a list of {} is wrong", name_of(number)));
      spoil(number, "the checksum of a list of its blocks is wrong");
    }
    if (field(b, at::kOwn) != b)
      error("self_pointer", b, fmt::format("a list of {} says it were another block", name_of(number)));
    if (field(b, at::kParent) != disk_.entries[number].block) {
      error("parent", b, fmt::format("a list of {} says it were another file's", name_of(number)));
      spoil(number, "a list of its blocks says it were another file's");
    }
  }

  /// OFS: each block says whose it is, which one, and what follows it.
  void check_data(std::size_t number, std::size_t needed) {
    const Entry& e = disk_.entries[number];
    std::uint64_t left = e.size_bytes;
    for (std::size_t i = 0; i < needed; ++i) {
      const std::uint32_t b = e.data[i];
      const auto bad = [&](const char* code, std::string what) {
        error(code, b, fmt::format("block {} of {} {}", i + 1, name_of(number), what));
        spoil(number, fmt::format("its block {} {}", i + 1, what));
      };
      const auto used = static_cast<std::uint32_t>(std::min<std::uint64_t>(left, kOfsPayload));
      left -= used;
      if (b == 0 || disk_.owner[b] != number + 1) continue;  // told already
      if (field(b, at::kType) != kTypeData) {
        bad("block_type", "is none of a file's");
        continue;
      }
      if (block_sum(block(b), at::kSum) != field(b, at::kSum)) bad("data_checksum", "has a wrong checksum");
      if (field(b, at::kOwn) != e.block) bad("data_owner", "says it were another file's");
      if (field(b, at::kSequence) != i + 1)
        bad("data_seq", fmt::format("says it were number {}", field(b, at::kSequence)));
      const std::uint32_t said = field(b, at::kUsed);
      if (said < used || said > kOfsPayload)
        bad("data_size", fmt::format("says it held {} bytes, where {} are needed", said, used));
      else if (said > used)
        warn("data_size", b,
             fmt::format("block {} of {} holds {} bytes more than the file has", i + 1, name_of(number), said - used));
      const std::uint32_t next = i + 1 < e.data.size() ? e.data[i + 1] : 0;
      if (field(b, at::kNext) != next && !(i + 1 == needed && field(b, at::kNext) == 0))
        warn("data_next", b,
             fmt::format("block {} of {} names another next one than the list", i + 1, name_of(number)));
    }
  }

  // ---- links, caches, bitmap

  void check_links() {
    std::map<std::uint32_t, std::size_t> by_block;
    for (std::size_t i = 0; i < disk_.entries.size(); ++i) by_block[disk_.entries[i].block] = i;
    for (std::size_t i = 1; i < disk_.entries.size(); ++i) {
      Entry& e = disk_.entries[i];
      if (e.type != EntryType::file_link && e.type != EntryType::folder_link) continue;
      const auto target = by_block.find(e.target);
      const bool right = target != by_block.end() &&
                         (e.type == EntryType::file_link ? disk_.entries[target->second].type == EntryType::file
                                                         : disk_.entries[target->second].is_folder());
      if (!right) {
        error("link_target", e.block, fmt::format("{} is a link to nothing of its kind", name_of(i)));
        e.target = 0;
        continue;
      }
      if (!is_listed(e.block, disk_.entries[target->second].block))
        warn("link_chain", e.block, fmt::format("{} is missing in its target's list of links", name_of(i)));
    }
  }
  bool is_listed(std::uint32_t link, std::uint32_t target) const {
    std::set<std::uint32_t> seen;
    for (std::uint32_t b = field(target, at::kLinks); in_volume(b) && seen.insert(b).second; b = field(b, at::kLinks))
      if (b == link) return true;
    return false;
  }

  void read_caches(std::size_t folder) {
    Entry& e = disk_.entries[folder];
    std::uint32_t holder = e.block;
    for (std::uint32_t next = field(holder, at::kExtension); next != 0; next = field(next, at::kNext)) {
      if (!in_volume(next)) return outside(holder, next);
      if (std::find(e.caches.begin(), e.caches.end(), next) != e.caches.end())
        return error("cache_loop", next, fmt::format("the caches of {} lead in a circle", name_of(folder)));
      if (!is_free(next)) return crossed(next, folder);
      if (field(next, at::kType) != kTypeCache)
        return error("block_type", next,
                     fmt::format("block {} should be a cache of {}, and is none", next, name_of(folder)));
      claim(next, folder);
      e.caches.push_back(next);
      if (block_sum(block(next), at::kSum) != field(next, at::kSum))
        error("cache_checksum", next, fmt::format("the checksum of a cache of {} is wrong", name_of(folder)));
      if (field(next, at::kOwn) != next)
        error("self_pointer", next, fmt::format("a cache of {} says it were another block", name_of(folder)));
      holder = next;
    }
  }

  void check_caches() {
    std::map<std::size_t, std::multiset<Bytes>> wanted;
    for (std::size_t i = 1; i < disk_.entries.size(); ++i)
      wanted[disk_.entries[i].parent].insert(without_details(cache_record(disk_.entries[i])));
    for (std::size_t i = 0; i < disk_.entries.size(); ++i) {
      const Entry& e = disk_.entries[i];
      if (!e.is_folder() || !e.entered) continue;
      const auto records = records_of(e);
      if (!records) continue;  // told already
      if (e.caches.empty() || *records != wanted[i])
        warn("cache_mismatch", e.block, fmt::format("the cache of {} does not say what is in it", name_of(i)));
    }
  }
  /// Owners are nobody's matter, and the date of a folder changes without its line.
  static Bytes& without_details(Bytes& record) {
    constexpr std::size_t kOwnerAndDate = 12, kTheirBytes = 10;
    std::fill_n(record.begin() + kOwnerAndDate, kTheirBytes, std::byte{0});
    return record;
  }
  static Bytes without_details(Bytes&& record) { return without_details(record); }
  std::optional<std::multiset<Bytes>> records_of(const Entry& folder) {
    std::multiset<Bytes> records;
    for (const std::uint32_t b : folder.caches) {
      std::size_t at = at::kFirstRecord;
      for (std::uint32_t n = field(b, at::kRecords); n > 0; --n) {
        const auto size = record_bytes(block(b), at);
        if (!size) {
          error("cache_record", b, fmt::format("a line of cache {} runs out of its block", b));
          return std::nullopt;
        }
        Bytes record(block(b).begin() + static_cast<std::ptrdiff_t>(at),
                     block(b).begin() + static_cast<std::ptrdiff_t>(at + *size));
        without_details(record);
        records.insert(std::move(record));
        at += *size;
      }
    }
    return records;
  }
  static std::optional<std::size_t> record_bytes(ByteView b, std::size_t at) {
    constexpr std::size_t kName = 23;
    if (at + kName >= kBlockBytes) return std::nullopt;
    const std::size_t comment = at + kName + 1 + std::to_integer<unsigned>(b[at + kName]);
    if (comment >= kBlockBytes) return std::nullopt;
    const std::size_t end = comment + 1 + std::to_integer<unsigned>(b[comment]);
    if (end > kBlockBytes) return std::nullopt;
    return std::min<std::size_t>(round_up(end - at, 2), kBlockBytes - at);
  }

  void check_bitmap() {
    const bool known = disk_.bitmap != 0 && disk_.bitmap_valid;
    std::uint32_t lost = 0, lowest = 0;
    for (std::uint32_t b = kFirstBlock; b < disk_.blocks; ++b) {
      const bool marked = known ? is_marked_free(block(disk_.bitmap), b) : is_free(b);
      if (disk_.bitmap != 0) disk_.free_blocks += marked ? 1u : 0u;
      if (marked && !is_free(b))
        error("bitmap_used_marked_free", b,
              fmt::format("block {} is in use by {}, and marked as free", b, name_of(disk_.owner[b] - 1)));
      if (!marked && is_free(b) && lost++ == 0) lowest = b;
    }
    if (lost > 0)
      warn("bitmap_free_marked_used", lowest,
           fmt::format("{} marked as used, and nothing uses {}",
                       lost == 1 ? "a block is" : plural(lost, "block") + " are", lost == 1 ? "it" : "them"));
  }

  ByteView image_;
  Disk disk_;
};

}  // namespace

bool is_image_size(std::uint64_t bytes) {
  for (const std::uint64_t cylinder : {kCylinderBytes, 2 * kCylinderBytes})
    if (bytes % cylinder == 0 && bytes / cylinder >= 80 && bytes / cylinder <= 84) return true;
  return false;
}

ImageFacts examine_image(ByteView image) {
  const std::string_view magic = as_text(image.first(std::min<std::size_t>(image.size(), kNewMagic.size())));
  if (magic == kNewMagic)
    return {.kind = ImageKind::extended,
            .tracks = image.size() >= 12 ? load_be16(image, 10) : std::uint32_t{0},
            .variant = "new"};
  if (magic == kOldMagic) return {.kind = ImageKind::extended, .tracks = kOldTracks, .variant = "old"};
  ImageFacts facts;
  facts.dos = magic.starts_with("DOS") && magic.size() > 3 && static_cast<unsigned char>(magic[3]) <= 7;
  facts.kind = ImageKind::other_size;
  if (!is_image_size(image.size())) return facts;
  facts.kind = ImageKind::custom;
  facts.bootable = boot_sum(image.first(kBootBytes)) == word(image, kBootSumAt);
  facts.expected_root = root_candidates(image).front();
  if (!facts.dos) return facts;
  if (find_root(image))
    facts.kind = magic[3] >= 6 ? ImageKind::long_names : ImageKind::volume;
  else if (!facts.bootable)
    facts.kind = ImageKind::rootless;
  return facts;
}

Disk read_disk(ByteView image) {
  const auto root = find_root(image);
  if (!root) throw Error({.code = "root_type", .what = "there is no root block on this floppy"});
  return Walk(image, *root).run();
}

}  // namespace opifex::amiga
