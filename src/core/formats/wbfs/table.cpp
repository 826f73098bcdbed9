#include "table.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::wbfs {
namespace {

constexpr unsigned kLeastSectorShift = 9, kMostSectorShift = 12, kLeastBlockShift = 18, kMostBlockShift = 28;
constexpr std::size_t kHeader = 12;

class Reader {
 public:
  explicit Reader(const SourcePtr& file) : file_(file), budget_(file->name(), file->size()) {}

  Table read() {
    read_header();
    const Geometry& g = table_.geometry;
    const Bytes slots = read_up_to(*file_, kHeader, static_cast<std::size_t>(g.sector_bytes() - kHeader));
    for (std::size_t i = 0; i < slots.size(); ++i) {
      if (slots[i] == std::byte{0}) continue;
      if (i >= g.most_discs())
        fail("bad_slot", "a disc is listed where there is no room for one", kHeader + i, fmt::format("slot {}", i),
             fmt::format("below {}", g.most_discs()));
      table_.discs.push_back(read_disc(i));
    }
    if (table_.discs.empty()) fail("no_disc", "there is no disc in this container", kHeader, "no slot in use", "one");
    return std::move(table_);
  }

 private:
  [[noreturn]] void fail(const char* code, std::string what, std::uint64_t offset, std::string found,
                         std::string expected) const {
    throw Error({.code = code,
                 .what = std::move(what),
                 .file = file_->name(),
                 .offset = offset,
                 .found = std::move(found),
                 .expected = std::move(expected)});
  }

  void read_header() {
    const Bytes head = read_up_to(*file_, 0, kHeader);
    if (head.size() < kHeader || !as_text(head).starts_with("WBFS"))
      fail("no_magic", "this is no WBFS container", 0, hex(ByteView(head).first(std::min<std::size_t>(4, head.size()))),
           "WBFS");
    Geometry& g = table_.geometry;
    g.sectors = load_be32(head, 4);
    g.sector_shift = std::to_integer<unsigned>(head[8]);
    g.block_shift = std::to_integer<unsigned>(head[9]);
    g.version = std::to_integer<unsigned>(head[10]);
    const bool sound = g.sector_shift >= kLeastSectorShift && g.sector_shift <= kMostSectorShift &&
                       g.block_shift >= kLeastBlockShift && g.block_shift <= kMostBlockShift &&
                       g.sector_bytes() + g.info_bytes() <= g.block_bytes();
    if (!sound)
      fail("bad_geometry", "the sizes of sectors and blocks make no sense", 8,
           fmt::format("2^{} and 2^{}", g.sector_shift, g.block_shift), "2^9 to 2^12, and 2^18 to 2^28");
    if (g.told_bytes() != file_->size())
      table_.warnings.push_back({"other_size", fmt::format("the header says {} bytes, there are {}",
                                                           grouped(g.told_bytes()), grouped(file_->size()))});
  }

  Disc read_disc(std::size_t slot) {
    const Geometry& g = table_.geometry;
    const std::uint64_t at = g.sector_bytes() + slot * g.info_bytes();
    const Bytes info = read_up_to(*file_, at, static_cast<std::size_t>(g.info_bytes()));
    if (info.size() < kInfoHead + 2 * g.blocks_per_disc())
      fail("truncated", "the table of a disc is cut off", at, fmt::format("{} bytes", info.size()),
           fmt::format("{}", g.info_bytes()));
    budget_.entry();
    budget_.take(info.size());
    Disc disc;
    disc.slot = slot;
    for (std::uint64_t i = 0; i < g.blocks_per_disc(); ++i) {
      const std::uint16_t block = load_be16(info, kInfoHead + 2 * i);
      disc.blocks.push_back(block);
      if (block == 0) continue;
      ++disc.stored;
      check_block(block, at + kInfoHead + 2 * i);
    }
    while (!disc.blocks.empty() && disc.blocks.back() == 0) disc.blocks.pop_back();
    if (disc.blocks.empty() || disc.blocks.front() == 0)
      fail("first_block", "the first block of a disc is not there: it holds the disc's header", at, "no block", "one");
    take_header(disc, at, info);
    check_end(disc);
    return disc;
  }

  void check_block(std::uint16_t block, std::uint64_t at) {
    const Geometry& g = table_.geometry;
    const std::uint64_t place = block * g.block_bytes();
    const bool told = g.told_bytes() >= g.block_bytes();  // some writers leave the count out
    if (place >= file_->size() || (told && place >= g.told_bytes()))
      fail("block_outside", "a block lies outside the container", at, fmt::format("block {}", block),
           fmt::format("below {}", (file_->size() + g.block_bytes() - 1) / g.block_bytes()));
    if (!used_.emplace(block, at).second)
      fail("block_shared", "a block is in use twice", at, fmt::format("block {}", block), "each block once");
  }

  /// The disc's own header counts; the copy in the table may have been renamed.
  void take_header(Disc& disc, std::uint64_t at, const Bytes& info) {
    const Geometry& g = table_.geometry;
    const std::uint64_t place = disc.blocks.front() * g.block_bytes();
    const Bytes head = read_up_to(*file_, place, kInfoHead);
    if (head.size() < kInfoHead)
      fail("truncated", "the first block of a disc is cut off", place, "its end", "the disc's header");
    const auto field = [](ByteView bytes, std::size_t from, std::size_t size) {
      const std::string_view text = as_text(bytes.subspan(from, size));
      return std::string(text.substr(0, text.find('\0')));
    };
    disc.id = printable(field(head, 0, 6));
    disc.title = printable(field(head, 0x20, 64));
    constexpr std::size_t kCompared = 0x60;
    if (!std::equal(head.begin(), head.begin() + kCompared, info.begin()))
      table_.warnings.push_back(
          {"renamed_copy", fmt::format("the copy of the disc's header at {:#x} says something else: {}", at,
                                       printable(field(info, 0x20, 64)))});
    const std::uint64_t needed = disc.blocks.size();
    const std::uint64_t single = ceil_div(kWiiSingleLayerBytes, g.block_bytes());
    disc.size_bytes = load_be32(head, kGameCubeMarkAt) == kGameCubeMark ? kGameCubeDiscBytes
                      : needed > single                                 ? kWiiDualLayerBytes
                                                                        : kWiiSingleLayerBytes;
    if (load_be32(head, kWiiMarkAt) != kWiiMark && load_be32(head, kGameCubeMarkAt) != kGameCubeMark)
      table_.warnings.push_back({"no_disc_magic", "the disc has neither the mark of a Wii nor of a GameCube disc"});
    if (needed * g.block_bytes() >= disc.size_bytes + g.block_bytes()) {
      disc.size_bytes = needed * g.block_bytes();
      table_.warnings.push_back({"beyond_disc", "blocks are stored behind the end of the disc: they are kept"});
    }
  }

  /// Of the last block only what is on the disc has to be there.
  void check_end(const Disc& disc) const {
    const Geometry& g = table_.geometry;
    for (std::uint64_t i = 0; i < disc.blocks.size(); ++i) {
      const std::uint64_t at = disc.blocks[i] * g.block_bytes();
      if (disc.blocks[i] == 0 || at + g.block_bytes() <= file_->size()) continue;
      const std::uint64_t wanted =
          std::min(g.block_bytes(), disc.size_bytes - std::min(disc.size_bytes, i * g.block_bytes()));
      if (at + wanted > file_->size())
        fail("truncated", "a block is cut off: a part may be missing", file_->size(),
             fmt::format("{} bytes", file_->size()), fmt::format("{}", at + wanted));
    }
  }

  const SourcePtr& file_;
  ReadBudget budget_;
  Table table_;
  std::map<std::uint16_t, std::uint64_t> used_;
};

class DiscSource final : public ByteSource {
 public:
  DiscSource(SourcePtr file, const Geometry& geometry, const Disc& disc)
      : file_(std::move(file)), block_bytes_(geometry.block_bytes()), blocks_(disc.blocks), size_(disc.size_bytes) {}
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return file_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size_ || out.size() > size_ - offset)
      throw Error({.code = "truncated", .what = "the disc ends too early", .file = name(), .offset = offset});
    while (!out.empty()) {
      const std::uint64_t number = offset / block_bytes_, inside = offset % block_bytes_;
      const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), block_bytes_ - inside));
      const std::uint64_t block = number < blocks_.size() ? blocks_[static_cast<std::size_t>(number)] : 0;
      if (block == 0)
        std::fill_n(out.begin(), n, std::byte{0});
      else
        file_->read_at(block * block_bytes_ + inside, out.first(n));
      out = out.subspan(n);
      offset += n;
    }
  }
  std::uint64_t next_data(std::uint64_t offset) const override {
    for (std::uint64_t number = offset / block_bytes_; number < blocks_.size(); ++number)
      if (blocks_[static_cast<std::size_t>(number)] != 0) return std::max(offset, number * block_bytes_);
    return size_;
  }

 private:
  SourcePtr file_;
  std::uint64_t block_bytes_;
  std::vector<std::uint16_t> blocks_;
  std::uint64_t size_;
};

}  // namespace

std::uint64_t Geometry::info_bytes() const { return round_up(kInfoHead + 2 * blocks_per_disc(), sector_bytes()); }

std::uint64_t Geometry::most_discs() const {
  constexpr std::uint64_t kMostBlocks = 65536;
  const std::uint64_t blocks = std::min(told_bytes() / block_bytes(), kMostBlocks);
  const std::uint64_t free_at = (block_bytes() - blocks / 8) / sector_bytes() * sector_bytes();
  return std::min((free_at / sector_bytes() - 1) / (info_bytes() / sector_bytes()), sector_bytes() - kHeader);
}

Table read_table(const SourcePtr& file) { return Reader(file).read(); }

SourcePtr open_disc(SourcePtr file, const Geometry& geometry, const Disc& disc) {
  return std::make_shared<DiscSource>(std::move(file), geometry, disc);
}

}  // namespace opifex::wbfs
