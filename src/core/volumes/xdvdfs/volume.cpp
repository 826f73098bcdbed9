#include "opifex/core/volumes/xdvdfs/volume.hpp"

#include <algorithm>
#include <array>
#include <set>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

#include "../listing_budget.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 2048, kDescriptor = 32, kFirstFree = 33;
constexpr std::size_t kSecondMark = 0x7EC, kEntryHead = 14;
constexpr std::uint64_t kLargestTable = 0x40000;
constexpr std::uint32_t kNone = 0xFFFF;
constexpr unsigned kFolder = 0x10;

/// Bare images first, then the three generations of discs and the one with a large part for video players.
constexpr std::array<std::uint64_t, 5> kPlaces = {0, 0x1830'0000, 0x0FD9'0000, 0x0208'0000, 0x89D8'0000};

char upper(char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; }

std::string attribute_text(unsigned bits) {
  std::string text;
  for (const auto& [bit, word] :
       {std::pair(0x01u, "read-only"), std::pair(0x02u, "hidden"), std::pair(0x04u, "system")})
    if ((bits & bit) != 0) text += (text.empty() ? "" : ",") + std::string(word);
  return text;
}

struct Table {
  std::uint64_t sector = 0, size_bytes = 0;
  std::string path;  // of the folder; the root's is empty
  int depth = 0;
};

class Reader {
 public:
  Reader(SourcePtr disc, std::uint64_t offset) : disc_(std::move(disc)), budget_(*disc_), offset_(offset) {
    volume_.disc = disc_;
    volume_.system = "xdvdfs";
    volume_.shift = static_cast<std::int64_t>(offset / kBlock);
  }

  Volume read() {
    const Bytes head = read_up_to(*disc_, offset_ + kDescriptor * kBlock, kBlock);
    if (as_text(head).substr(kSecondMark, kXdvdfsMark.size()) != kXdvdfsMark)
      damage("second_mark", "the mark at the end of the volume descriptor is not there");
    volume_.created = load_le64(head, 0x1C);
    tables_.push_back({load_le32(head, 0x14), load_le32(head, 0x18), "", 0});
    while (!tables_.empty()) {
      const Table table = std::move(tables_.back());
      tables_.pop_back();
      read_table(table);
    }
    find_overlaps();
    volume_.blocks = end_;
    return std::move(volume_);
  }

 private:
  void problem(const char* code, std::string message, Weight weight) { volume_.tell(code, weight, std::move(message)); }
  void cut(const char* code, std::string message) { volume_.tell(code, Weight::cut, std::move(message)); }
  void damage(const char* code, std::string message) { problem(code, std::move(message), Weight::damage); }

  /// True if bytes of the partition are in the image; descriptor and what lies before belong to no file.
  bool inside(std::uint64_t sector, std::uint64_t size) const {
    const std::uint64_t at = offset_ + sector * kBlock;
    return sector >= kFirstFree && at <= disc_->size() && size <= disc_->size() - at;
  }

  void read_table(const Table& table) {
    const std::string where = table.path.empty() ? "the root" : printable(table.path);
    if (table.size_bytes == 0) return;
    if (table.depth > ListingBudget::kDeepest)
      return damage("too_deep", where + ": folders lie too deep in each other");
    if (table.size_bytes > kLargestTable || !inside(table.sector, table.size_bytes))
      return cut("outside_image", where + ": its table lies outside the image");
    if (!seen_tables_.insert(table.sector).second)
      return damage("folder_loop", where + ": its table is that of another folder");
    use(table.sector, table.size_bytes, table.path.empty() ? "the root" : table.path);
    budget_.take(table.size_bytes / 4);  // tables that overlap are read again and again
    Bytes bytes(static_cast<std::size_t>(table.size_bytes));
    disc_->read_at(offset_ + table.sector * kBlock, bytes);
    const bool empty =
        all_zero(bytes) || std::all_of(bytes.begin(), bytes.end(), [](std::byte b) { return b == std::byte{255}; });
    if (!empty) walk(table, where, bytes);
  }

  /// The tree in the order of its names: a chain of thousands must not be a recursion of thousands.
  void walk(const Table& table, const std::string& where, const Bytes& bytes) {
    std::set<std::size_t> seen = {0};
    std::vector<std::size_t> waiting;
    std::vector<Table> folders;
    std::optional<std::string> before;
    bool ordered = true;
    const auto child = [&](std::size_t from, std::size_t field) -> std::optional<std::size_t> {
      const std::uint32_t n = load_le16(bytes, from + field);
      if (n == 0 || n == kNone) return std::nullopt;
      const std::size_t at = std::size_t{n} * 4;
      if (at + kEntryHead > bytes.size()) {
        damage("entry_outside", fmt::format("{}: an entry lies outside the table, at {:#x}", where, at));
        return std::nullopt;
      }
      const ByteView e = ByteView(bytes).subspan(at);
      if (load_le16(e, 0) == kNone && load_le16(e, 2) == kNone && e[12] == std::byte{255} && e[13] == std::byte{255}) {
        damage("into_padding", fmt::format("{}: an entry lies in the padding, at {:#x}", where, at));
        return std::nullopt;
      }
      if (!has_name(where, bytes, at)) return std::nullopt;
      if (!seen.insert(at).second) {
        damage("tree_loop", fmt::format("{}: the entry at {:#x} is reached twice", where, at));
        return std::nullopt;
      }
      return at;
    };
    if (bytes.size() < kEntryHead) return damage("entry_outside", where + ": its table has no room for an entry");
    if (!has_name(where, bytes, 0)) return;
    std::optional<std::size_t> at = 0;
    while (at || !waiting.empty()) {
      while (at) {
        waiting.push_back(*at);
        at = child(*at, 0);
      }
      const std::size_t entry = waiting.back();
      waiting.pop_back();
      std::string name = take(table, where, bytes, entry, folders);
      ordered = ordered && (!before || xdvdfs_less(*before, name));
      before = std::move(name);
      at = child(entry, 2);
    }
    if (!ordered)
      damage("name_order", where + ": the names are not in the console's order: it will not find all of them");
    tables_.insert(tables_.end(), folders.rbegin(), folders.rend());
  }

  /// An entry without one is not followed: nothing says that it is an entry.
  bool has_name(const std::string& where, const Bytes& bytes, std::size_t at) {
    const std::size_t length = std::to_integer<std::size_t>(bytes[at + 13]);
    const bool has = length > 0 && at + kEntryHead + length <= bytes.size();
    if (!has)
      damage(
          length == 0 ? "no_name" : "entry_outside",
          fmt::format("{}: the entry at {:#x} has {}", where, at, length == 0 ? "no name" : "a name beyond the table"));
    return has;
  }

  /// The entry at `at`; its name as it stands there.
  std::string take(const Table& table, const std::string& where, const Bytes& bytes, std::size_t at,
                   std::vector<Table>& folders) {
    const std::size_t length = std::to_integer<std::size_t>(bytes[at + 13]);
    if (at % kBlock + kEntryHead + length > kBlock)
      damage("straddles", fmt::format("{}: the entry at {:#x} lies across two sectors", where, at));
    const std::string raw(as_text(ByteView(bytes).subspan(at + kEntryHead, length)));
    const std::string name = opifex::decode(raw, "windows-1252").value_or(printable(raw));
    const unsigned bits = std::to_integer<unsigned>(bytes[at + 12]);
    VolumeEntry e;
    e.path = table.path.empty() ? name : table.path + "/" + name;
    e.kind = (bits & kFolder) != 0 ? EntryKind::folder : EntryKind::file;
    e.attributes = attribute_text(bits);
    e.stored_attributes = bits & ~kFolder;
    const std::uint64_t sector = load_le32(bytes, at + 4), size = load_le32(bytes, at + 8);
    if (!is_safe_name(name)) {
      e.safe = false;
      e.refused = "its name cannot be one";
      damage("illegal_name", fmt::format("{}: a name that cannot be one", printable(e.path)));
    }
    if (e.kind == EntryKind::folder) {
      if (e.safe) folders.push_back({sector, size, e.path, table.depth + 1});
      if (size > 0) e.extents.push_back({.sector = sector, .size_bytes = size});
    } else {
      e.size_bytes = size;
      if (size > 0) e.extents.push_back({.sector = sector, .size_bytes = size});
      e.sound = size == 0 || inside(sector, size);
      if (!e.sound)
        cut("outside_image", fmt::format("{} lies outside the image", printable(e.path)));
      else if (size > 0)
        use(sector, size, e.path);
    }
    budget_.take(e);
    volume_.entries.push_back(std::move(e));
    return raw;
  }

  void use(std::uint64_t sector, std::uint64_t size, const std::string& path) {
    const std::uint64_t end = sector + ceil_div<std::uint64_t>(size, kBlock);
    budget_.take(sizeof(Used) + path.size());
    used_.push_back({sector, end, path});
    end_ = std::max(end_, end);
  }

  void find_overlaps() {
    std::sort(used_.begin(), used_.end(), [](const Used& a, const Used& b) { return a.first < b.first; });
    for (std::size_t i = 1; i < used_.size(); ++i) {
      const Used &before = used_[i - 1], &here = used_[i];
      if (here.first >= before.end) continue;
      damage("overlap", fmt::format("{} and {} lie in the same sectors, from {}", printable(before.path),
                                    printable(here.path), here.first));
    }
  }

  struct Used {
    std::uint64_t first = 0, end = 0;
    std::string path;
  };

  SourcePtr disc_;
  ListingBudget budget_;
  std::uint64_t offset_, end_ = kFirstFree;
  Volume volume_;
  std::vector<Table> tables_;  // still to be read, the next one last
  std::set<std::uint64_t> seen_tables_;
  std::vector<Used> used_;
};

}  // namespace

std::uint64_t game_bytes(const Volume& volume, const ByteSource& disc, std::uint64_t place) {
  const std::uint64_t there = disc.size() - place;
  const bool cut =
      std::any_of(volume.entries.begin(), volume.entries.end(), [](const VolumeEntry& e) { return !e.sound; });
  return cut ? there : std::min(volume.blocks * kBlock, there);
}

bool xdvdfs_less(std::string_view a, std::string_view b) {
  return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end(), [](char x, char y) {
    return static_cast<unsigned char>(upper(x)) < static_cast<unsigned char>(upper(y));
  });
}

std::optional<std::uint64_t> find_game_partition(const ByteSource& disc) {
  // Looked at as they lie, for going back in a packed image costs a pass over it; the first of the list counts.
  std::array<std::uint64_t, kPlaces.size()> as_they_lie = kPlaces;
  std::sort(as_they_lie.begin(), as_they_lie.end());
  std::set<std::uint64_t> found;
  for (const std::uint64_t place : as_they_lie) {
    const Bytes head = read_up_to(disc, place + kDescriptor * kBlock, kBlock);
    if (head.size() == kBlock && as_text(head).starts_with(kXdvdfsMark)) found.insert(place);
    if (found.contains(0)) return 0;
  }
  for (const std::uint64_t place : kPlaces)
    if (found.contains(place)) return place;
  return std::nullopt;
}

std::optional<Volume> read_xdvdfs(SourcePtr disc) {
  const auto offset = find_game_partition(*disc);
  return offset ? std::optional(Reader(std::move(disc), *offset).read()) : std::nullopt;
}

}  // namespace opifex
