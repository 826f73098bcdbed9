#include "opifex/core/volumes/opera/volume.hpp"

#include <algorithm>
#include <deque>
#include <set>
#include <utility>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

#include "../listing_budget.hpp"
#include "../names.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 2048;
/// Where the label, a block of a folder and its entries have their fields.
namespace label_at {
constexpr std::size_t kBlockBytes = 0x4C, kBlocks = 0x50;
}
namespace block_at {
constexpr std::size_t kNext = 0, kBefore = 4, kEnd = 12, kFirst = 16;
}
namespace entry_at {
constexpr std::size_t kFlags = 0, kSize = 0x10, kBlocks = 0x14, kCopies = 0x40;
}
constexpr std::size_t kEntryHead = 0x44, kMostBlocks = 65'536;

struct Folder {
  std::uint64_t block = 0, blocks = 0;
  std::string path;
  int depth = 1;
};

class Reader {
 public:
  explicit Reader(SourcePtr disc) : disc_(std::move(disc)), budget_(*disc_) { volume_.disc = disc_; }

  std::optional<Volume> read() {
    const Bytes head = read_up_to(*disc_, 0, kBlock);
    constexpr std::size_t kRootBlocks = 0x58, kRootAt = 0x64;
    if (head.size() < kBlock || head[0] != std::byte{1} || as_text(head).substr(1, 5) != "ZZZZZ" ||
        head[6] != std::byte{1} || load_be32(head, label_at::kBlockBytes) != kBlock)
      return std::nullopt;
    volume_.system = "opera";
    volume_.label = iso_text(ByteView(head).subspan(0x28, 32));
    volume_.blocks = load_be32(head, label_at::kBlocks);
    std::deque<Folder> queue = {{load_be32(head, kRootAt), load_be32(head, kRootBlocks), "", 1}};
    seen_.insert(queue.front().block);
    while (!queue.empty()) {
      const Folder folder = std::move(queue.front());
      queue.pop_front();
      read_folder(folder, queue);
    }
    return std::move(volume_);
  }

 private:
  void cut(const char* code, std::string message) { volume_.tell(code, Weight::cut, std::move(message)); }
  void damage(const char* code, std::string message) { volume_.tell(code, Weight::damage, std::move(message)); }
  std::uint64_t sectors() const { return disc_->size() / kBlock; }

  static std::string name_of(const Folder& folder) { return folder.path.empty() ? "the root" : printable(folder.path); }

  /// Blocks of a folder are a chain of numbers counted from its first. Each names the one before it, too.
  void read_folder(const Folder& folder, std::deque<Folder>& queue) {
    const std::string name = name_of(folder);
    std::set<std::uint64_t> visited;
    std::int64_t before = -1;
    for (std::int64_t n = 0; n >= 0;) {
      const std::uint64_t at = folder.block + static_cast<std::uint64_t>(n);
      if (at >= sectors()) return cut("outside_image", fmt::format("{}: a folder lies outside the image", name));
      if (!visited.insert(at).second || visited.size() > kMostBlocks)
        return damage("dir_loop", fmt::format("{}: its blocks lead in a circle", name));
      const Bytes block = read_up_to(*disc_, at * kBlock, kBlock);
      const std::uint32_t end = load_be32(block, block_at::kEnd), first = load_be32(block, block_at::kFirst);
      if (first < 20 || end > kBlock || first > end)
        return damage("not_a_directory", fmt::format("{}: its blocks hold something else", name));
      if (static_cast<std::int32_t>(load_be32(block, block_at::kBefore)) != before)
        volume_.tell("block_order", Weight::warning,
                     fmt::format("{}: its blocks contradict each other about their order", name));
      const End found = read_entries(ByteView(block).subspan(first, end - first), folder, queue);
      if (found == End::broken) return;
      before = std::exchange(n, static_cast<std::int32_t>(load_be32(block, block_at::kNext)));
      if ((found == End::of_all) != (n < 0))
        return damage("record_lost", fmt::format("{}: whether more of its blocks follow is contradicted", name));
    }
    if (folder.blocks != visited.size())
      damage("record_lost",
             fmt::format("{} has {} where {} are said", name, plural(visited.size(), "block"), folder.blocks));
  }

  enum class End { of_block, of_all, broken };

  /// The last entry of a block says that it is, and the block says where it ends.
  End read_entries(ByteView entries, const Folder& folder, std::deque<Folder>& queue) {
    constexpr std::uint32_t kLastInBlock = 0x4000'0000, kLastOfAll = 0x8000'0000, kTypeMask = 0xFF, kIsFolder = 7;
    for (std::size_t at = 0; at + kEntryHead + 4 <= entries.size();) {
      const ByteView e = entries.subspan(at);
      const std::uint32_t flags = load_be32(e, entry_at::kFlags), copies = load_be32(e, entry_at::kCopies);
      const std::size_t size = kEntryHead + (std::size_t{copies} + 1) * 4;
      if (copies > 63 || size > e.size()) {
        damage("record_short", fmt::format("{}: a folder's entry is broken", name_of(folder)));
        return End::broken;
      }
      add(e, (flags & kTypeMask) == kIsFolder, folder, queue);
      at += size;
      if ((flags & (kLastOfAll | kLastInBlock)) == 0) continue;
      if (at != entries.size())
        damage("record_lost",
               fmt::format("{}: {} behind its last entry", name_of(folder), bytes_text(entries.size() - at)));
      return (flags & kLastOfAll) != 0 ? End::of_all : End::of_block;
    }
    if (entries.empty()) return End::of_all;  // an empty folder has no entry to carry the mark
    damage("record_lost", fmt::format("{}: its last entry is missing", name_of(folder)));
    return End::broken;
  }

  /// What an entry says twice.
  void find_contradictions(ByteView e, bool is_folder, const VolumeEntry& entry) {
    constexpr std::size_t kTypeAt = 8, kBlockSizeAt = 12, kBlocksAt = 0x14;
    const std::uint64_t blocks = ceil_div(entry.size_bytes, kBlock);
    if (load_be32(e, kBlockSizeAt) != kBlock || load_be32(e, kBlocksAt) != blocks)
      damage("record_contradiction",
             fmt::format("{}: its size in bytes and its size in blocks contradict each other", printable(entry.path)));
    if ((as_text(e.subspan(kTypeAt, 4)) == "*dir") != is_folder)
      damage("record_contradiction", fmt::format("{}: whether it is a folder is contradicted", printable(entry.path)));
  }

  void add(ByteView e, bool is_folder, const Folder& folder, std::deque<Folder>& queue) {
    VolumeEntry entry;
    const std::string name = iso_text(e.subspan(0x20, 32));
    entry.safe = is_safe_name(name);
    entry.path = folder.path.empty() ? name : folder.path + "/" + name;
    if (!entry.safe) damage("bad_name", fmt::format("{}: a name that no file may have", printable(entry.path)));
    entry.size_bytes = load_be32(e, entry_at::kSize);
    const std::uint64_t sector = load_be32(e, kEntryHead), blocks = load_be32(e, entry_at::kBlocks);
    entry.extents.push_back({sector, entry.size_bytes});
    entry.sound = entry.size_bytes == 0 || (sector < sectors() && entry.extents[0].sectors() <= sectors() - sector);
    if (is_folder) {
      entry.kind = EntryKind::folder;
      if (folder.depth >= ListingBudget::kDeepest || !seen_.insert(sector).second)
        damage("dir_loop", fmt::format("{} leads back to a folder above it", printable(entry.path)));
      else
        queue.push_back({sector, blocks, entry.path, folder.depth + 1});
    } else if (!entry.sound) {
      damage("extent_outside", fmt::format("{} lies outside the image", printable(entry.path)));
    }
    find_contradictions(e, is_folder, entry);
    budget_.take(entry);
    volume_.entries.push_back(std::move(entry));
  }

  SourcePtr disc_;
  ListingBudget budget_;
  Volume volume_;
  std::set<std::uint64_t> seen_;
};

}  // namespace

std::optional<Volume> read_opera(SourcePtr disc) { return Reader(std::move(disc)).read(); }

}  // namespace opifex
