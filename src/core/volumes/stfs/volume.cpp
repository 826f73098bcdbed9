#include "opifex/core/volumes/stfs/volume.hpp"

#include <algorithm>
#include <ctime>
#include <map>
#include <set>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

#include "../listing_budget.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 0x1000, kFirst = 170, kSecond = 28'900, kThird = 4'913'000, kEnd = 0xFF'FFFF;
constexpr std::size_t kEntry = 0x18, kHash = 20, kFileEntry = 0x40, kNameField = 40;
constexpr unsigned kSecondCopy = 0x40, kUsed = 0x80;

std::uint64_t little24(ByteView v, std::size_t at) {
  return std::to_integer<std::uint64_t>(v[at]) | std::to_integer<std::uint64_t>(v[at + 1]) << 8 |
         std::to_integer<std::uint64_t>(v[at + 2]) << 16;
}

/// Where blocks and tables are, for one or two copies of each table.
struct Places {
  std::uint64_t start = 0, copies = 1;
  std::uint64_t at(std::uint64_t physical) const { return start + physical * kBlock; }
  std::uint64_t data(std::uint64_t b) const {
    return at(b + copies * (b / kFirst + 1) + (b >= kFirst ? copies * (b / kSecond + 1) : 0) +
              (b >= kSecond ? copies * (b / kThird + 1) : 0));
  }
  /// The first copy of the table of `level` that describes block b.
  std::uint64_t table(unsigned level, std::uint64_t b) const {
    if (level == 0)
      return at(b / kFirst * (kFirst + copies) + (b >= kFirst ? copies * (b / kSecond + 1) : 0) +
                (b >= kSecond ? copies : 0));
    if (level == 1) return at(b < kSecond ? kFirst + copies : b / kSecond * (kSecond + 171 * copies) + copies);
    return at(kSecond + 171 * copies);
  }
};

struct TableEntry {
  ContentHash hash = {};
  unsigned status = 0;
  std::uint64_t next = kEnd;
};

/// The tables of a package, the last one of each level kept.
class Tables {
 public:
  Tables(SourcePtr file, Places places, std::uint64_t blocks, bool second_top)
      : file_(std::move(file)), places_(places), second_top_(second_top) {
    top_ = blocks > kSecond ? 2 : blocks > kFirst ? 1 : 0;
  }
  unsigned top() const { return top_; }
  std::uint64_t offset(unsigned level, std::uint64_t b) {
    const bool second = level == top_ ? second_top_ : (entry(level + 1, b).status & kSecondCopy) != 0;
    return places_.table(level, b) + (places_.copies == 2 && second ? kBlock : 0);
  }
  const Bytes& table(unsigned level, std::uint64_t b) {
    const std::uint64_t at = offset(level, b);
    Bytes& bytes = kept_[level];
    if (at_[level] != at || bytes.empty()) {
      bytes = read_up_to(*file_, at, kBlock);
      bytes.resize(kBlock);
      at_[level] = at;
    }
    return bytes;
  }
  /// Of block b itself, or of the lower table that describes it.
  TableEntry entry(unsigned level, std::uint64_t b) {
    const Bytes& bytes = table(level, b);
    const std::uint64_t index = level == 0 ? b % kFirst : level == 1 ? b / kFirst % kFirst : b / kSecond;
    const std::size_t at = static_cast<std::size_t>(index) * kEntry;
    TableEntry e;
    std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), kHash, e.hash.begin());
    e.status = std::to_integer<unsigned>(bytes[at + kHash]);
    e.next = load_be32(bytes, at + kHash) & 0xFF'FFFF;
    return e;
  }

 private:
  SourcePtr file_;
  Places places_;
  bool second_top_;
  unsigned top_ = 0;
  std::array<Bytes, 3> kept_;
  std::array<std::uint64_t, 3> at_ = {};
};

/// Blocks anywhere in a file, as one.
class BlockSource final : public ByteSource {
 public:
  BlockSource(SourcePtr file, std::vector<std::uint64_t> offsets, std::uint64_t size)
      : file_(std::move(file)), offsets_(std::move(offsets)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return file_->name(); }
  const std::vector<std::uint64_t>& offsets() const { return offsets_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    while (!out.empty()) {
      const std::uint64_t inside = offset % kBlock;
      const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), kBlock - inside));
      file_->read_at(offsets_.at(static_cast<std::size_t>(offset / kBlock)) + inside, out.first(n));
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  SourcePtr file_;
  std::vector<std::uint64_t> offsets_;
  std::uint64_t size_;
};

struct Plan {
  Places places;
  std::uint64_t told = 0, blocks = 0;
  bool second_top = false, other_copies = false;
};

/// One copy or two: the flag says, the top table's hash proves.
Plan plan_of(const ByteSource& file, const ContentHeader& header) {
  constexpr std::size_t kFlagsAt = 2, kTopHashAt = 0x381 - kContentDescriptorAt,
                        kBlocksAt = 0x395 - kContentDescriptorAt;
  Plan plan;
  plan.told = load_be32(header.descriptor, kBlocksAt);
  const std::uint64_t behind = file.size() > header.size_bytes ? file.size() - header.size_bytes : 0,
                      room = ceil_div<std::uint64_t>(behind, kBlock);  // the last one may be cut
  plan.blocks = std::min({plan.told, room, kThird});
  const unsigned flags = std::to_integer<unsigned>(header.descriptor[kFlagsAt]);
  plan.second_top = (flags & 2) != 0;
  ContentHash wanted;
  std::copy_n(header.descriptor.begin() + kTopHashAt, wanted.size(), wanted.begin());
  const auto fits = [&](std::uint64_t copies, bool second) {
    const Places places{header.size_bytes, copies};
    const unsigned top = plan.told > kSecond ? 2 : plan.told > kFirst ? 1 : 0;
    Bytes table = read_up_to(file, places.table(top, 0) + (copies == 2 && second ? kBlock : 0), kBlock);
    table.resize(kBlock);
    return short_sha1(table) == wanted;
  };
  const std::uint64_t copies = (flags & 1) != 0 ? 1 : 2, other = 3 - copies;
  plan.places = {header.size_bytes, copies};
  if (fits(copies, plan.second_top)) return plan;
  for (const auto& [c, second] :
       {std::pair(copies, !plan.second_top), std::pair(other, plan.second_top), std::pair(other, !plan.second_top)}) {
    if (!fits(c, second)) continue;
    plan.other_copies = c != copies;
    plan.places.copies = c;
    plan.second_top = second;
    return plan;
  }
  return plan;
}

std::optional<std::int64_t> fat_time(std::uint32_t value) {
  const std::uint32_t date = value >> 16, time = value & 0xFFFF;
  if (date == 0) return std::nullopt;
  return seconds_of({.year = static_cast<int>(date >> 9) + 1980,
                     .month = static_cast<int>(date >> 5 & 15),
                     .day = static_cast<int>(date & 31),
                     .hour = static_cast<int>(time >> 11),
                     .minute = static_cast<int>(time >> 5 & 63),
                     .second = static_cast<int>(time & 31) * 2});
}

/// Where an entry of the list of files has its fields.
namespace entry_at {
constexpr std::size_t kNameBits = 0x28, kFirstBlock = 0x2F, kParent = 0x32, kSize = 0x34, kWritten = 0x38;
}

/// Why a chain of blocks cannot be followed to its end; no code: it can.
struct ChainFault {
  const char* code = nullptr;
  Weight weight = Weight::damage;
};

class Reader {
 public:
  explicit Reader(SourcePtr file) : file_(std::move(file)), listing_(*file_) {
    package_.header = read_content_header(*file_);
    plan_ = plan_of(*file_, package_.header);
    tables_.emplace(file_, plan_.places, plan_.told, plan_.second_top);
    constexpr std::uint64_t kSteps = 65'536, kStepsPerBlock = 16;
    budget_ = kSteps + kStepsPerBlock * plan_.blocks;
  }

  StfsPackage read() {
    Volume& v = package_.volume;
    v.system = "stfs";
    v.label = package_.header.name();
    v.disc = file_;
    v.blocks = file_->size() / 2048;
    package_.blocks = plan_.blocks;
    package_.copies = static_cast<unsigned>(plan_.places.copies);
    if (plan_.told > plan_.blocks || (plan_.blocks > 0 && plan_.places.data(plan_.blocks - 1) + kBlock > file_->size()))
      cut("cut_short", fmt::format("the header says {} blocks, the file ends before", grouped(plan_.told)));
    if (plan_.other_copies)
      problem("other_copies", "the header's mark for copies of tables contradicts the tables", Weight::warning);
    read_entries();
    for (const Raw& raw : raws_) add(raw);
    return std::move(package_);
  }

 private:
  struct Raw {
    std::size_t index = 0;
    std::string name;
    bool folder = false, consecutive = false, dead = false;
    std::uint64_t first = 0, size = 0, parent = 0xFFFF;
    std::uint32_t written = 0;
  };

  void problem(const char* code, std::string message, Weight weight) {
    package_.volume.tell(code, weight, std::move(message));
  }
  void cut(const char* code, std::string message) { package_.volume.tell(code, Weight::cut, std::move(message)); }
  void damage(const char* code, std::string message) { problem(code, std::move(message), Weight::damage); }

  /// The blocks of a chain of so many bytes; what is wrong with it, or nothing. What is cut off behind the last byte
  /// is no loss.
  ChainFault follow(std::uint64_t first, std::uint64_t bytes, std::vector<std::uint64_t>& chain) {
    const std::uint64_t count = ceil_div<std::uint64_t>(bytes, kBlock);
    std::set<std::uint64_t> seen;
    for (std::uint64_t b = first, i = 0; i < count; ++i) {
      if (b == kEnd) return {"chain_short"};
      if (b >= plan_.told) return {"chain_outside"};
      const std::uint64_t wanted = std::min(kBlock, bytes - i * kBlock);
      if (b >= plan_.blocks || plan_.places.data(b) + wanted > file_->size()) return {"cut_short", Weight::cut};
      if (!seen.insert(b).second) return {"chain_loop"};
      if (budget_-- == 0) return {"too_many_chains"};
      chain.push_back(b);
      b = tables_->entry(0, b).next;
    }
    return {};
  }

  void read_entries() {
    constexpr std::size_t kCountAt = 0x37C - kContentDescriptorAt, kStartAt = 0x37E - kContentDescriptorAt;
    const Bytes& d = package_.header.descriptor;
    const std::uint64_t count = load_le16(d, kCountAt), start = little24(d, kStartAt);
    std::vector<std::uint64_t> chain;
    if (const ChainFault fault = follow(start, count * kBlock, chain); fault.code)
      problem(fault.code, "the list of files: its chain of blocks is broken", fault.weight);
    for (std::size_t n = 0; n < chain.size(); ++n) {
      const Bytes block = read_up_to(*file_, plan_.places.data(chain[n]), kBlock);
      for (std::size_t i = 0; (i + 1) * kFileEntry <= block.size(); ++i) {
        const ByteView e = ByteView(block).subspan(i * kFileEntry, kFileEntry);
        const unsigned bits = std::to_integer<unsigned>(e[entry_at::kNameBits]);
        const std::size_t length = bits & 63;
        if (length == 0) return;
        Raw raw;
        raw.index = n * (kBlock / kFileEntry) + i;
        raw.folder = (bits & 0x80) != 0;
        raw.consecutive = (bits & 0x40) != 0;
        raw.first = little24(e, entry_at::kFirstBlock);
        raw.parent = load_be16(e, entry_at::kParent);
        raw.size = load_be32(e, entry_at::kSize);
        raw.written = load_be32(e, entry_at::kWritten);
        const std::string bytes(as_text(e.first(std::min(length, kNameField))));
        raw.name = decode(bytes, "windows-1252").value_or(printable(bytes));
        if (length > kNameField || !is_safe_name(raw.name)) {
          damage("illegal_name", fmt::format("entry {} has a name that cannot be one", raw.index));
          raw.dead = true;
        }
        raws_.push_back(std::move(raw));
      }
    }
  }

  /// Nothing if its folders are no folders, or lie in each other.
  std::optional<std::string> path_of(const Raw& raw, bool& dead) const {
    std::string path = raw.name;
    dead = raw.dead;
    std::uint64_t parent = raw.parent;
    for (int depth = 0; parent != 0xFFFF; ++depth) {
      const bool there = parent < raws_.size() && raws_[static_cast<std::size_t>(parent)].folder;
      if (!there || depth > ListingBudget::kDeepest) return std::nullopt;
      const Raw& folder = raws_[static_cast<std::size_t>(parent)];
      dead = dead || folder.dead;
      path = folder.name + "/" + path;
      parent = folder.parent;
    }
    return path;
  }

  void add(const Raw& raw) {
    bool dead = false;
    const auto path = path_of(raw, dead);
    if (!path)
      return damage("bad_parent", fmt::format("entry {} ({}) lies in no folder", raw.index, printable(raw.name)));
    VolumeEntry e;
    e.path = *path;
    e.kind = raw.folder ? EntryKind::folder : EntryKind::file;
    e.modified = fat_time(raw.written);
    e.safe = !dead;
    if (dead) e.refused = "its name cannot be one";
    if (!raw.folder) {
      e.size_bytes = raw.size;
      std::vector<std::uint64_t> chain;
      const ChainFault fault = follow(raw.first, raw.size, chain);
      if (fault.code)
        problem(fault.code, fmt::format("{}: its chain of blocks is broken", printable(*path)), fault.weight);
      e.sound = fault.code == nullptr;
      for (std::uint64_t& b : chain) b = plan_.places.data(b);
      if (e.sound) e.source = std::make_shared<BlockSource>(file_, std::move(chain), raw.size);
    }
    listing_.take(e);
    package_.volume.entries.push_back(std::move(e));
  }

  SourcePtr file_;
  ListingBudget listing_;
  StfsPackage package_;
  Plan plan_;
  std::optional<Tables> tables_;
  std::vector<Raw> raws_;
  std::uint64_t budget_ = 0;  // steps along chains: no block is in many files, whatever a broken table says
};

/// The files that hold each block, for telling what a fault hits.
std::map<std::uint64_t, std::string> owners_of(const SourcePtr& file, const Plan& plan) {
  std::map<std::uint64_t, std::string> owners;
  const StfsPackage package = read_stfs(file);
  // The same walk again, by block instead of by place.
  std::map<std::uint64_t, std::uint64_t> block_at;
  for (std::uint64_t b = 0; b < plan.blocks; ++b) block_at[plan.places.data(b)] = b;
  for (const VolumeEntry& e : package.volume.entries) {
    const auto* blocks = dynamic_cast<const BlockSource*>(e.source.get());
    if (!blocks) continue;
    for (const std::uint64_t offset : blocks->offsets())
      if (const auto at = block_at.find(offset); at != block_at.end()) owners[at->second] = e.path;
  }
  return owners;
}

}  // namespace

StfsPackage read_stfs(SourcePtr file) { return Reader(std::move(file)).read(); }

std::vector<StfsFault> verify_stfs(const SourcePtr& file, const StfsPackage& package, JobContext& context) {
  const Plan plan = plan_of(*file, package.header);
  const std::uint64_t groups = ceil_div<std::uint64_t>(plan.blocks, kFirst);
  std::vector<std::vector<StfsFault>> found(static_cast<std::size_t>(groups));
  context.progress.begin("verifying", plan.blocks * kBlock);
  Flow flow;
  flow.next = [&](FlowBlock& b) {
    b.data.clear();
    return b.index < groups;
  };
  flow.work = [&](FlowBlock& b) {
    Tables tables(file, plan.places, plan.told, plan.second_top);
    std::vector<StfsFault>& faults = found[static_cast<std::size_t>(b.index)];
    const std::uint64_t first = b.index * kFirst, end = std::min(first + kFirst, plan.blocks);
    ContentHash top;
    std::copy_n(package.header.descriptor.begin() + (0x381 - kContentDescriptorAt), top.size(), top.begin());
    for (unsigned level = 0; level <= tables.top(); ++level) {
      // Each upper table once: by the first group below it.
      const std::uint64_t covers = level == 0 ? kFirst : level == 1 ? kSecond : kThird;
      if (first % covers != 0) continue;
      const ContentHash wanted = level == tables.top() ? top : tables.entry(level + 1, first).hash;
      if (short_sha1(tables.table(level, first)) != wanted)
        faults.push_back({true, first, tables.offset(level, first), {}});
    }
    for (std::uint64_t n = first; n < end; ++n) {
      const TableEntry e = tables.entry(0, n);
      if ((e.status & kUsed) == 0) continue;
      Bytes block = read_up_to(*file, plan.places.data(n), kBlock);
      block.resize(kBlock);
      if (short_sha1(block) != e.hash) faults.push_back({false, n, plan.places.data(n), {}});
    }
  };
  flow.consume.emplace_back([&](const FlowBlock&) { context.progress.done_bytes += kFirst * kBlock; });
  run_flow(flow, context);
  std::vector<StfsFault> all;
  for (auto& part : found) all.insert(all.end(), part.begin(), part.end());
  if (all.empty()) return all;
  const auto owners = owners_of(file, plan);
  for (StfsFault& f : all)
    if (const auto at = owners.find(f.block); !f.table && at != owners.end()) f.files.push_back(at->second);
  return all;
}

}  // namespace opifex
