#include "opifex/core/volumes/amiga/repair.hpp"

#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/amiga/editor.hpp"

#include "../names.hpp"
#include "structure.hpp"

namespace opifex::amiga {
namespace {

constexpr std::string_view kLostFolder = "Lost files";

class Mender {
 public:
  Mender(ByteView image, std::int64_t now)
      : image_(image.begin(), image.end()), disk_(read_disk(image)), now_(Date::of(now)) {}

  Repaired run() {
    if (disk_.findings.empty() || would_lose()) return {};
    for (const Entry& e : disk_.entries) known_.insert(e.block);
    for (std::size_t i = 1; i < disk_.entries.size(); ++i)
      children_[disk_.entries[disk_.entries[i].parent].block].push_back(disk_.entries[i].block);
    find_lost();
    for (const Entry& e : disk_.entries)
      if (e.is_folder() && e.entered) chain(e.block);
    for (const std::uint32_t b : lost_folders_) chain(b);
    cut_caches();
    mend_bitmap();
    mend_caches();
    mend_root();
    if (std::equal(image_.begin(), image_.end(), before_.begin(), before_.end())) done_.clear();
    return {std::move(image_), std::move(done_)};
  }

 private:
  ByteView block(std::uint32_t b) const { return block_of(ByteView(image_), b); }
  std::uint32_t field(std::uint32_t b, std::size_t at) const { return word(block(b), at); }
  /// A right checksum stays right, and a wrong one as wrong as it was: that somebody changed the block is not hidden.
  void store(std::uint32_t b, std::size_t at, std::uint32_t value) {
    const std::span<std::byte> bytes = block_of(std::span(image_), b);
    const std::uint32_t before = word(bytes, at);
    if (before == value) return;
    store_be32(bytes, at, value);
    store_be32(bytes, at::kSum, word(bytes, at::kSum) + before - value);
  }
  bool has(const char* code) const {
    return std::any_of(disk_.findings.begin(), disk_.findings.end(),
                       [&](const Finding& f) { return std::string_view(f.code) == code; });
  }
  std::string name_of(std::uint32_t b) const { return counted_text(block(b), at::kName, kLongestName); }

  bool knows_what_is_in_use() const { return disk_.bitmap_valid && !has("bitmap_checksum"); }
  /// Where a chain broke off, the bitmap alone tells what hung behind it from what was deleted: with neither of them
  /// right, a directory chained anew would look sound, and would have lost files in silence.
  bool would_lose() const { return has_breaks() && !knows_what_is_in_use(); }
  bool has_breaks() const {
    constexpr std::array kBreaks = {"pointer_range", "hash_loop", "dir_loop", "block_type", "cross_link"};
    return std::any_of(kBreaks.begin(), kBreaks.end(), [&](const char* code) { return has(code); });
  }

  // ---- lost files

  /// A sound header that the bitmap says is in use, and that nothing leads to.
  bool is_lost(std::uint32_t b) const {
    if (known_.contains(b) || disk_.owner[b] != 0 || is_marked_free(block(disk_.bitmap), b)) return false;
    const auto type = static_cast<std::int32_t>(field(b, at::kKind));
    return field(b, at::kType) == kTypeHeader && (type == 2 || type == -3) && field(b, at::kOwn) == b &&
           block_sum(block(b), at::kSum) == field(b, at::kSum) && name_fault(name_of(b)).empty();
  }

  void find_lost() {
    // What is deleted looks the same but for the bitmap: without a good one nothing is brought back.
    if (!knows_what_is_in_use()) return;
    std::vector<std::uint32_t> lost;
    for (std::uint32_t b = kFirstBlock; b < disk_.blocks; ++b)
      if (is_lost(b)) lost.push_back(b);
    const std::set<std::uint32_t> all(lost.begin(), lost.end());
    for (const std::uint32_t b : lost)
      if (static_cast<std::int32_t>(field(b, at::kKind)) == 2) lost_folders_.push_back(b);
    std::uint64_t back = 0, homeless = 0;
    for (const std::uint32_t b : lost) {
      const std::uint32_t home = home_of(b, all);
      if (home != 0) {
        children_[home].push_back(b);
        ++back;
      } else if (const std::uint32_t folder = lost_folder(); folder != 0) {
        children_[folder].push_back(b);
        store(b, at::kParent, folder);
        ++homeless;
      }
      found_.push_back(b);
    }
    if (back > 0) done_.push_back(plural(back, "lost entry") + " put back into its folder");
    if (homeless > 0)
      done_.push_back(fmt::format("{} put into the folder {}", plural(homeless, "lost entry"), kLostFolder));
  }

  /// The folder it says it is in, if that is one, and has nothing of this name; 0: none.
  std::uint32_t home_of(std::uint32_t b, const std::set<std::uint32_t>& lost) const {
    const std::uint32_t parent = field(b, at::kParent);
    const bool reached = std::any_of(disk_.entries.begin(), disk_.entries.end(),
                                     [&](const Entry& e) { return e.is_folder() && e.block == parent; });
    if (!reached && !(lost.contains(parent) && static_cast<std::int32_t>(field(parent, at::kKind)) == 2)) return 0;
    // Lost folders that name each other would be reached by nobody.
    std::set<std::uint32_t> seen = {b};
    for (std::uint32_t up = parent; lost.contains(up); up = field(up, at::kParent))
      if (!seen.insert(up).second) return 0;
    return is_taken(parent, name_of(b)) ? 0 : parent;
  }
  bool is_taken(std::uint32_t folder, const std::string& name) const {
    const auto all = children_.find(folder);
    return all != children_.end() && std::any_of(all->second.begin(), all->second.end(), [&](std::uint32_t c) {
             return folded(name_of(c), disk_.kind) == folded(name, disk_.kind);
           });
  }

  /// Made when it is needed, in a block that is surely free; 0: there is none.
  std::uint32_t lost_folder() {
    if (lost_folder_ != 0 || !is_free_name(kLostFolder)) return lost_folder_;
    for (std::uint32_t b = disk_.root + 1; b < disk_.blocks; ++b) {
      if (disk_.owner[b] != 0 || !is_marked_free(block(disk_.bitmap), b)) continue;
      const std::span<std::byte> bytes = block_of(std::span(image_), b);
      std::fill(bytes.begin(), bytes.end(), std::byte{0});
      store_be32(bytes, at::kType, kTypeHeader);
      store_be32(bytes, at::kOwn, b);
      store_be32(bytes, at::kParent, disk_.root);
      store_be32(bytes, at::kKind, 2);
      store_date(bytes, at::kDate, now_);
      Fields(bytes).byte(at::kName, static_cast<unsigned>(kLostFolder.size()));
      Fields(bytes).bytes(at::kName + 1, as_view(kLostFolder));
      seal(bytes);
      children_[disk_.root].push_back(b);
      lost_folders_.push_back(b);
      found_.push_back(b);
      return lost_folder_ = b;
    }
    return 0;
  }
  bool is_free_name(std::string_view name) const { return !is_taken(disk_.root, std::string(name)); }

  // ---- directories

  /// The chains of a folder as the names in it want them; what hangs right already stays in its order.
  void chain(std::uint32_t folder) {
    std::vector<std::vector<std::uint32_t>> slots(kTableSlots);
    for (const std::uint32_t b : children_[folder]) slots[slot_of(name_of(b), disk_.kind)].push_back(b);
    bool changed = false;
    const auto set = [&](std::uint32_t b, std::size_t at, std::uint32_t value) {
      changed = changed || field(b, at) != value;
      store(b, at, value);
    };
    for (unsigned s = 0; s < kTableSlots; ++s) {
      set(folder, at::kTable + 4 * s, slots[s].empty() ? 0 : slots[s].front());
      for (std::size_t i = 0; i < slots[s].size(); ++i)
        set(slots[s][i], at::kChain, i + 1 < slots[s].size() ? slots[s][i + 1] : 0);
    }
    for (const std::uint32_t b : children_[folder]) {
      set(b, at::kParent, folder);
      set(b, at::kOwn, b);
    }
    if (!changed) return;
    chained_.push_back(folder);
    done_.push_back(fmt::format("the directory of {} chained anew",
                                folder == disk_.root ? "the root" : printable(latin1_text(as_view(name_of(folder))))));
  }

  // ---- bitmap, caches, root

  void mend_bitmap() {
    const bool broken = !disk_.bitmap_valid || has("bitmap_checksum") || has("bitmap_used_marked_free") ||
                        has("bitmap_free_marked_used") || !found_.empty() || !cut_.empty();
    if (!broken) return;
    if (disk_.bitmap == 0) place_bitmap();
    store(disk_.root, at::kBitmapFlag, kBitmapIsValid);
    store(disk_.root, at::kBitmap, disk_.bitmap);
    const Disk now = read_disk(image_);
    // While a file is still broken, or where a chain broke off, what only the bitmap knows may be the rest of a file.
    const bool keep = disk_.bitmap_valid && (has_broken_entries(now) || has_breaks());
    std::uint64_t kept = 0;
    const std::span<std::byte> bits = block_of(std::span(image_), disk_.bitmap);
    const Bytes old(bits.begin(), bits.end());
    std::fill(bits.begin(), bits.end(), std::byte{0});
    for (std::uint32_t b = kFirstBlock; b < disk_.blocks; ++b) {
      const bool unowned = now.owner[b] == 0 && b != disk_.bitmap;
      const bool free = unowned && (!keep || is_marked_free(old, b));
      kept += unowned && !free ? 1U : 0U;
      const auto [at, mask] = bit_of(b);
      if (free) store_be32(bits, at, word(bits, at) | mask);
    }
    seal(bits, at::kBitmapSum);
    if (!std::equal(bits.begin(), bits.end(), old.begin(), old.end()) || !disk_.bitmap_valid)
      done_.emplace_back("the bitmap made anew of what is in use");
    if (kept > 0)
      done_.push_back(
          fmt::format("{} that nothing leads to {} marked as in use: there may be the rest of a lost file in {}",
                      plural(kept, "block"), kept == 1 ? "stays" : "stay", kept == 1 ? "it" : "them"));
  }
  static bool has_broken_entries(const Disk& disk) {
    return std::any_of(disk.findings.begin(), disk.findings.end(), [](const Finding& f) {
      return f.error && !std::string_view(f.code).starts_with("bitmap") &&
             !std::string_view(f.code).starts_with("cache");
    });
  }
  void place_bitmap() {
    std::uint32_t b = disk_.root + 1;
    if (disk_.owner[b] != 0)
      for (b = disk_.blocks - 1; b > kFirstBlock && disk_.owner[b] != 0;) --b;
    disk_.bitmap = b;
  }

  /// A list of caches that does not end where the walk ended leads somewhere else: it is let go.
  void cut_caches() {
    if (!disk_.kind.cached()) return;
    for (const Entry& e : disk_.entries) {
      if (!e.is_folder() || !e.entered) continue;
      std::uint32_t holder = e.block;
      std::size_t at = at::kExtension;
      bool good = true;
      for (const std::uint32_t cache : e.caches) {
        good = good && field(holder, at) == cache;
        holder = cache;
        at = at::kNext;
      }
      if (good && field(holder, at) == 0) continue;
      store(e.block, at::kExtension, 0);
      cut_.push_back(e.block);
    }
    // A folder that was lost has a list that nobody walked.
    for (const std::uint32_t b : lost_folders_) {
      store(b, at::kExtension, 0);
      cut_.push_back(b);
    }
  }

  void mend_caches() {
    if (!disk_.kind.cached()) return;
    std::vector<std::uint32_t> folders = chained_;
    folders.insert(folders.end(), cut_.begin(), cut_.end());
    const Disk now = read_disk(image_);
    for (const Finding& f : now.findings) {
      if (!std::string_view(f.code).starts_with("cache") || !f.block) continue;
      const std::size_t owner = now.owner[*f.block];
      if (owner != 0 && now.entries[owner - 1].is_folder()) folders.push_back(now.entries[owner - 1].block);
    }
    if (folders.empty() || has_broken_bitmap(now)) return;
    try {
      Editor editor(image_, now);
      editor.rebuild_caches_of(std::move(folders));
      image_ = editor.image();
      done_.emplace_back("the caches of its directories made anew");
    } catch (const Error& e) {
      if (e.details.cause != Cause::no_space) throw;  // without room they stay as they are, and are told
    }
  }
  static bool has_broken_bitmap(const Disk& disk) {
    return std::any_of(disk.findings.begin(), disk.findings.end(), [](const Finding& f) {
      return f.error && (std::string_view(f.code).starts_with("bitmap") || std::string_view(f.code) == "cache_loop");
    });
  }

  /// A root with a wrong checksum is right if all that it says proves to be so: nothing is lost, nothing contradicts.
  void mend_root() {
    const Disk now = read_disk(image_);
    const bool alone = now.findings.size() == 1 && std::string_view(now.findings.front().code) == "root_checksum";
    if (!alone) return;
    seal(block_of(std::span(image_), disk_.root));
    done_.emplace_back("the checksum of the root made anew: all that it says proved right");
  }

  Bytes image_;
  const Bytes before_ = image_;
  Disk disk_;
  Date now_;
  std::set<std::uint32_t> known_;
  std::map<std::uint32_t, std::vector<std::uint32_t>> children_;  // of each folder
  std::vector<std::uint32_t> lost_folders_, chained_, found_;
  std::vector<std::uint32_t> cut_;  // folders without their list of caches
  std::uint32_t lost_folder_ = 0;
  std::vector<std::string> done_;
};

}  // namespace

Repaired repair_disk(ByteView image, std::int64_t now) { return Mender(image, now).run(); }

}  // namespace opifex::amiga
