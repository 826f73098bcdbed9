#include "opifex/core/volumes/iso9660/volume.hpp"

#include <algorithm>
#include <deque>
#include <map>
#include <set>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

#include "../listing_budget.hpp"
#include "../names.hpp"
#include "records.hpp"

namespace opifex {
namespace {

using namespace iso;

constexpr std::uint64_t kMostPathTable = 16 << 20;

struct Folder {
  std::uint64_t sector = 0, size_bytes = 0;
  std::string path;
  int depth = 1;
};

class Reader {
 public:
  Reader(SourcePtr disc, std::uint64_t start) : disc_(std::move(disc)), start_(start) { volume_.disc = disc_; }

  std::optional<Volume> read(IsoTree tree) {
    if (!read_descriptors()) return std::nullopt;
    find_shift();
    volume_.blocks = primary_->blocks;
    volume_.system = "iso9660";
    walk(*primary_, Names::primary);
    check_path_tables();
    std::vector<VolumeEntry> entries = std::move(entries_);
    if (joliet_) add_joliet(entries, tree);
    volume_.entries = std::move(entries);
    check_size();
    volume_.shift = shift_;
    return std::move(volume_);
  }

 private:
  enum class Names { primary, joliet };

  void say(const char* code, Weight weight, std::string message) { volume_.tell(code, weight, std::move(message)); }
  void damage(const char* code, std::string message) { say(code, Weight::damage, std::move(message)); }

  std::uint64_t sectors() const { return disc_->size() / kBlock; }
  /// Nothing if the sector lies outside.
  std::optional<std::uint64_t> place(std::uint64_t sector) const {
    const auto at = static_cast<std::int64_t>(sector) + shift_;
    return at < 0 || static_cast<std::uint64_t>(at) >= sectors() ? std::nullopt
                                                                 : std::optional(static_cast<std::uint64_t>(at));
  }
  bool inside(std::uint64_t sector, std::uint64_t size_bytes) const {
    if (size_bytes == 0) return true;
    const auto at = place(sector);
    return at && ceil_div(size_bytes, kBlock) <= sectors() - *at;
  }
  Bytes block(std::uint64_t at) const { return read_up_to(*disc_, at * kBlock, kBlock); }

  // ---- Descriptors -------------------------------------------------------------------------------------------------

  void say_halves(Halves halves) {
    if (halves == Halves::same || said_halves_.count(halves) != 0) return;
    said_halves_.insert(halves);
    say(halves == Halves::contradict ? "both_endian_contradiction" : "both_endian_mismatch",
        halves == Halves::contradict ? Weight::doubt : Weight::warning,
        "a number that stands twice differs: the little-endian one counts");
  }

  Descriptor take_descriptor(ByteView d) {
    const Descriptor out = parse_descriptor(d);
    say_halves(out.halves);
    return out;
  }

  bool read_descriptors() {
    bool ended = false;
    for (std::uint64_t i = 0; i < kMostDescriptors; ++i) {
      const Bytes d = block(start_ + kFirstDescriptor + i);
      if (!is_descriptor(d)) break;
      const auto type = std::to_integer<unsigned>(d[descriptor_at::kType]);
      if (type == kTerminator) {
        ended = true;
        break;
      }
      if (type == kPrimary && !primary_) {
        primary_ = take_descriptor(d);
        if (primary_->block_bytes != kBlock)
          throw Error({.code = "bad_block_size",
                       .what = "this file system has blocks of another size",
                       .file = disc_->name(),
                       .offset = (start_ + kFirstDescriptor + i) * kBlock + descriptor_at::kBlockSize,
                       .found = fmt::format("{} bytes", primary_->block_bytes),
                       .expected = "2048"});
        volume_.label = iso_text(as_view(primary_->volume_id));
      } else if (type == kSupplementary && !joliet_ && parse_descriptor(d).joliet) {
        joliet_ = take_descriptor(d);
      }
    }
    if (primary_ && !ended) say("no_terminator", Weight::warning, "the list of volume descriptors has no end");
    return primary_.has_value();
  }

  /// Addresses count from the start of the disc, which need not be the start of what we have.
  void find_shift() {
    const auto is_root = [&](std::uint64_t at) {
      const Bytes b = at < sectors() ? block(at) : Bytes{};
      return b.size() == kBlock && record_fault(b, 0) == nullptr && parse_record(b).is_self() &&
             parse_record(b).has(kFolder) &&
             load_le32(b, record_at::kExtent) + std::to_integer<std::uint32_t>(b[record_at::kAttributeSectors]) ==
                 primary_->root_sector;
    };
    const std::uint64_t root = primary_->root_sector;
    // A second layer counts from its own start; a later track counts from the start of the disc.
    if (start_ != 0 && is_root(root + start_)) {
      shift_ = static_cast<std::int64_t>(start_);
      return;
    }
    if (is_root(root)) return;
    constexpr std::uint64_t kLook = 8192;
    for (std::uint64_t i = start_; i < std::min(sectors(), start_ + kLook); ++i) {
      if (!is_root(i)) continue;
      shift_ = static_cast<std::int64_t>(i) - static_cast<std::int64_t>(root);
      say("base_lba", Weight::note, fmt::format("its addresses count from {} sectors before this image", -shift_));
      return;
    }
  }

  // ---- Directories -------------------------------------------------------------------------------------------------

  void walk(const Descriptor& from, Names names) {
    entries_.clear();
    folders_.clear();
    std::deque<Folder> queue = {{from.root_sector, from.root_bytes, "", 1}};
    std::set<std::uint64_t> seen = {from.root_sector};
    bool root = true;
    while (!queue.empty()) {
      const Folder folder = std::move(queue.front());
      queue.pop_front();
      read_folder(folder, names, from.xa, queue, seen, std::exchange(root, false));
    }
  }

  /// An unreadable root is an Error, any other folder damage.
  bool refuse_folder(const Folder& folder, bool root, const char* code, std::string what,
                     Weight weight = Weight::damage) {
    if (!root) {
      say(code, weight, fmt::format("{}: {}", printable(folder.path), what));
      return false;
    }
    throw Error({.code = code,
                 .cause = weight == Weight::cut ? Cause::outside_image : Cause::other,
                 .what = "the root directory of this file system cannot be read: " + what,
                 .file = disc_->name(),
                 .found = fmt::format("sector {}, {} bytes", folder.sector, folder.size_bytes),
                 .expected = fmt::format("inside {} sectors", sectors())});
  }

  bool can_read(const Folder& folder, bool root) {
    if (folder.size_bytes > ListingBudget::kMostFolderBytes)
      return refuse_folder(folder, root, "dir_too_big", "a directory of more than 64 MiB");
    if (!inside(folder.sector, folder.size_bytes) || folder.size_bytes == 0)
      return refuse_folder(folder, root, "outside_image", "it lies outside the image", Weight::cut);
    if (folder.depth > ListingBudget::kDeepest) return refuse_folder(folder, root, "too_deep", "more than 64 levels");
    return true;
  }

  void read_folder(const Folder& folder, Names names, bool xa, std::deque<Folder>& queue, std::set<std::uint64_t>& seen,
                   bool root) {
    if (!can_read(folder, root)) return;
    budget_.take(folder.size_bytes);
    Bytes bytes(static_cast<std::size_t>(round_up(folder.size_bytes, kBlock)));
    disc_->read_at(*place(folder.sector) * kBlock, bytes);
    std::vector<Record> records;
    for (std::size_t at = 0; at < bytes.size(); at += kBlock)
      read_sector(ByteView(bytes).subspan(at, kBlock), folder, records);
    if (records.empty() || !records.front().is_self()) {
      refuse_folder(folder, root, "not_a_directory", "its sectors hold something else");
      return;
    }
    if (root && names == Names::primary) find_rock_ridge(records.front(), xa);
    folders_.insert(folder.sector);
    for (std::size_t i = 0; i < records.size();) i = add_entry(records, i, folder, names, xa, queue, seen);
  }

  /// A record that makes no sense ends its sector.
  void read_sector(ByteView sector, const Folder& folder, std::vector<Record>& records) {
    for (std::size_t at = 0; at < kBlock;) {
      const auto length = std::to_integer<std::size_t>(sector[at]);
      if (length == 0) {
        if (!all_zero(sector.subspan(at)))
          damage("record_lost", fmt::format("{}: records follow where its sector should have ended",
                                            folder.path.empty() ? "the root" : printable(folder.path)));
        return;
      }
      const char* fault = record_fault(sector, at);
      if (fault || records.size() >= ListingBudget::kMostEntries) {
        damage(fault ? fault : "too_many_records",
               fmt::format("{}: a directory record is broken; what follows it in its sector is lost",
                           folder.path.empty() ? "the root" : printable(folder.path)));
        return;
      }
      records.push_back(parse_record(sector.subspan(at, length)));
      say_halves(records.back().halves);
      if (records.back().bad_date && !std::exchange(bad_date_, true))
        say("bad_date", Weight::note, "a file's date makes no sense: it is left out");
      if (holds_record(records.back().system_use))
        damage("record_lost", fmt::format("{}: a record is longer than it was, and hides the next one",
                                          folder.path.empty() ? "the root" : printable(folder.path)));
      at += length;
    }
  }

  /// What belongs to the system does not look like a record: its length, and a sector and a size that stand twice.
  static bool holds_record(ByteView use) {
    if (use.size() < kShortestRecord) return false;
    const auto twice = [&](std::size_t at) { return load_le32(use, at) == load_be32(use, at + 4); };
    const auto length = std::to_integer<std::size_t>(use[0]);
    return length >= kShortestRecord && length <= use.size() && load_le32(use, record_at::kExtent) != 0 &&
           twice(record_at::kExtent) && twice(record_at::kSize);
  }

  /// Adds the entry that begins with record `i`; sections of one file are joined. Returns the record behind it.
  std::size_t add_entry(const std::vector<Record>& records, std::size_t i, const Folder& folder, Names names, bool xa,
                        std::deque<Folder>& queue, std::set<std::uint64_t>& seen) {
    const Record& first = records[i];
    if (first.is_self() || first.is_parent() || first.has(kAssociated)) return i + 1;
    if (names == Names::joliet && (first.name.size() % 2 != 0 || first.name.empty())) {
      damage("joliet_name",
             fmt::format("{}: a Joliet name of odd length; its record is left out", printable(folder.path)));
      return i + 1;
    }
    VolumeEntry entry;
    entry.modified = first.date;
    std::string name = names == Names::joliet ? iso_joliet_name(first.name) : iso_name(first.name);
    if (xa && names == Names::primary) read_xa(first, entry);
    if (rock_ridge_ && names == Names::primary) read_rock_ridge(first, xa, name, entry);
    if (first.has(kHidden)) add_attribute(entry, "hidden");
    entry.safe = is_safe_name(name);
    if (!entry.safe)
      damage("bad_name", fmt::format("{}: a name that no file may have", printable(folder.path + "/" + name)));
    entry.path = folder.path.empty() ? name : folder.path + "/" + name;
    const std::size_t end = join_sections(records, i, entry);
    if (first.has(kFolder)) {
      entry.kind = EntryKind::folder;
      if (!seen.insert(first.sector).second)
        damage("dir_loop", fmt::format("{} leads back to a folder above it", printable(entry.path)));
      else
        queue.push_back({first.sector, first.size_bytes, entry.path, folder.depth + 1});
    }
    check_extents(entry);
    budget_.take(entry);
    entries_.push_back(std::move(entry));
    return end;
  }

  std::size_t join_sections(const std::vector<Record>& records, std::size_t i, VolumeEntry& entry) {
    const Record& first = records[i];
    for (;; ++i) {
      const Record& r = records[i];
      entry.extents.push_back({r.sector, r.size_bytes, r.unit, r.gap});
      entry.size_bytes += r.size_bytes;
      if (!r.has(kMore)) return i + 1;
      if (r.size_bytes % kBlock != 0)
        damage("multi_extent_size",
               fmt::format("{}: a section in its middle is no whole number of sectors", printable(entry.path)));
      const bool goes_on = i + 1 < records.size() && std::ranges::equal(records[i + 1].name, first.name);
      if (goes_on) continue;
      damage("multi_extent_broken", fmt::format("{}: its last section says that more follow", printable(entry.path)));
      return i + 1;
    }
  }

  void check_extents(VolumeEntry& entry) {
    if (entry.kind == EntryKind::link || entry.kind == EntryKind::audio) return;
    for (const VolumeExtent& e : entry.extents) entry.sound = entry.sound && inside(e.sector, e.sectors() * kBlock);
    if (!entry.sound && entry.kind == EntryKind::file)
      damage("extent_outside", fmt::format("{} lies outside the image", printable(entry.path)));
  }

  static void add_attribute(VolumeEntry& entry, std::string_view word) {
    if (!entry.attributes.empty()) entry.attributes += ',';
    entry.attributes += word;
  }

  // ---- XA and Rock Ridge -------------------------------------------------------------------------------------------

  static constexpr std::size_t kXaBytes = 14;

  static bool has_xa(const Record& r) {
    return r.system_use.size() >= kXaBytes && as_text(r.system_use).substr(6, 2) == "XA";
  }

  static void read_xa(const Record& r, VolumeEntry& entry) {
    if (!has_xa(r)) return;
    constexpr std::uint16_t kForm2 = 0x1000, kInterleaved = 0x2000, kCdDa = 0x4000;
    const std::uint16_t attributes = load_be16(r.system_use, 4);
    if ((attributes & kForm2) != 0) add_attribute(entry, "form2");
    if ((attributes & kInterleaved) != 0) add_attribute(entry, "interleaved");
    entry.form2 = (attributes & (kForm2 | kInterleaved)) != 0;
    if ((attributes & kCdDa) != 0) {
      add_attribute(entry, "cd-da");
      entry.kind = EntryKind::audio;
    }
  }

  void find_rock_ridge(const Record& root, bool xa) {
    for (const std::size_t skip : {std::size_t{0}, xa ? kXaBytes : 0}) {
      const std::string_view use = as_text(root.system_use).substr(std::min(skip, root.system_use.size()));
      constexpr std::size_t kSpBytes = 7;
      if (use.size() < kSpBytes || !use.starts_with("SP\x07") || use.substr(4, 2) != "\xBE\xEF") continue;
      rock_ridge_ = true;
      skip_ = static_cast<unsigned char>(use[6]);
    }
    // An indicator that is broken in one place takes all long names with it.
    const std::string_view use = as_text(root.system_use);
    const bool nearly = use.size() >= 7 && (use.starts_with("SP") ? 1 : 0) + (use[2] == 7 ? 1 : 0) +
                                                   (use[3] == 1 ? 1 : 0) + (use.substr(4, 2) == "\xBE\xEF" ? 1 : 0) >=
                                               3;
    if (!rock_ridge_ && nearly)
      damage("rock_ridge", "the mark of its Rock Ridge names is broken: the plain names are shown");
  }

  void read_rock_ridge(const Record& r, bool xa, std::string& name, VolumeEntry& entry) {
    const std::size_t skip = std::max(skip_, xa && has_xa(r) ? kXaBytes : 0);
    if (skip >= r.system_use.size()) return;
    SystemUse use;
    const char* fault = use.read(r.system_use.subspan(skip), [&](std::uint32_t sector, Bytes& out) {
      if (!inside(sector, kBlock)) return false;
      budget_.take(kBlock);
      out = block(*place(sector));
      return true;
    });
    if (fault)
      damage(fault, fmt::format("{}: {}", printable(name),
                                fault == std::string_view("susp_entry")
                                    ? "its Rock Ridge entries are broken: name, date or link may be lost"
                                    : "what goes on elsewhere of its name cannot be read"));
    if (!use.name.empty()) name = use.name;
    if (use.modified) entry.modified = use.modified;
    if (!use.link) return;
    entry.kind = EntryKind::link;
    entry.link = *use.link;
  }

  // ---- Cross-checks ------------------------------------------------------------------------------------------------

  /// Folders a path table knows; nothing if it cannot be read (ECMA-119, 9.4).
  std::optional<std::set<std::uint64_t>> path_table(std::uint32_t sector, bool big_endian) {
    const std::uint32_t size = primary_->path_table_bytes;
    if (size > kMostPathTable || !inside(sector, size) || !place(sector)) return std::nullopt;
    Bytes table(size);
    disc_->read_at(*place(sector) * kBlock, table);
    std::set<std::uint64_t> folders;
    constexpr std::size_t kHead = 8;
    for (std::size_t at = 0; at + kHead <= table.size();) {
      const auto n = std::to_integer<std::size_t>(table[at]);
      if (n == 0) break;
      const std::uint32_t lba = big_endian ? load_be32(table, at + 2) : load_le32(table, at + 2);
      folders.insert(lba + std::to_integer<std::uint64_t>(table[at + 1]));
      at += kHead + n + n % 2;
    }
    return folders;
  }

  void check_path_tables() {
    const auto l = path_table(primary_->l_table, false), m = path_table(primary_->m_table, true);
    if (!l || !m) {
      say("path_table", Weight::warning, "a path table lies outside the image: the directories are read all the same");
      return;
    }
    if (*l != *m) {
      say("path_table_mismatch", Weight::warning, "the two path tables differ");
      return;
    }
    const bool lost = !std::includes(folders_.begin(), folders_.end(), l->begin(), l->end());
    if (*l == folders_) return;
    say("path_table_mismatch", lost ? Weight::damage : Weight::warning,
        lost ? "the path table names folders that no directory leads to" : "folders are missing in the path table");
  }

  using Contents = std::set<std::pair<std::uint64_t, std::uint64_t>>;
  static Contents contents_of(const std::vector<VolumeEntry>& entries) {
    Contents all;
    for (const VolumeEntry& e : entries)
      if (e.kind != EntryKind::folder)
        for (const VolumeExtent& x : e.extents) all.emplace(x.sector, x.size_bytes);
    return all;
  }

  /// The tree with the longer names is shown, unless it is not the same disc's.
  void add_joliet(std::vector<VolumeEntry>& entries, IsoTree tree) {
    const std::size_t problems = volume_.problems.size();
    try {
      walk(*joliet_, Names::joliet);
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
      const bool outside = e.details.cause == Cause::outside_image;
      say(outside ? "outside_image" : "joliet_differs", outside ? Weight::cut : Weight::damage, e.details.what);
      return;
    }
    if (contents_of(entries_) != contents_of(entries)) {
      damage("joliet_differs", "the Joliet directories do not hold the same files: the plain names are shown");
      return;
    }
    const bool sound = volume_.problems.size() == problems;
    if (!sound || tree == IsoTree::primary) return;
    copy_facts(entries);
    entries = std::move(entries_);
    volume_.system = "iso9660+joliet";
    if (std::string label = iso_joliet_text(as_view(joliet_->volume_id)); !label.empty())
      volume_.label = std::move(label);
  }

  /// XA facts stand in the primary tree only.
  void copy_facts(const std::vector<VolumeEntry>& primary) {
    std::multimap<std::uint64_t, const VolumeEntry*> by_sector;
    for (const VolumeEntry& p : primary)
      if (!p.attributes.empty() && !p.extents.empty()) by_sector.emplace(p.extents.front().sector, &p);
    for (VolumeEntry& entry : entries_) {
      if (entry.kind != EntryKind::file || entry.size_bytes == 0) continue;
      const auto [begin, end] = by_sector.equal_range(entry.extents.front().sector);
      const auto same = std::find_if(begin, end, [&](const auto& p) { return p.second->extents == entry.extents; });
      if (same == end) continue;
      entry.attributes = same->second->attributes;
      entry.kind = same->second->kind;
      entry.form2 = same->second->form2;
    }
  }

  void check_size() {
    if (disc_->size() % kBlock != 0)
      say("odd_length", Weight::warning,
          fmt::format("the image ends with {} bytes of a sector", disc_->size() % kBlock));
    const std::uint64_t there = sectors() - std::min(sectors(), start_), said = primary_->blocks;
    if (start_ == 0 && there < said)
      say("truncated", Weight::warning,
          fmt::format("the volume says it has {} sectors, the image has {}", said, there));
    if (start_ == 0 && there > said) {
      bool zeros = true;
      constexpr std::uint64_t kLook = 1024;
      for (std::uint64_t i = said; i < std::min(there, said + kLook) && zeros; ++i) zeros = all_zero(block(i));
      say(zeros ? "trailing_zeros" : "trailing_data", zeros ? Weight::warning : Weight::note,
          fmt::format("{} sectors follow the volume", there - said));
    }
  }

  SourcePtr disc_;
  std::uint64_t start_;
  ListingBudget budget_{*disc_};
  std::int64_t shift_ = 0;
  Volume volume_;
  std::optional<Descriptor> primary_, joliet_;
  std::vector<VolumeEntry> entries_;
  std::set<std::uint64_t> folders_;
  bool rock_ridge_ = false, bad_date_ = false;
  std::set<Halves> said_halves_;
  std::size_t skip_ = 0;
};

}  // namespace

std::optional<Volume> read_iso9660(SourcePtr disc, std::uint64_t start, IsoTree tree) {
  return Reader(std::move(disc), start).read(tree);
}

}  // namespace opifex
