#include "opifex/core/volumes/nvram/nvram.hpp"

#include <map>
#include <set>

#include "opifex/core/base/text.hpp"

#include "layout.hpp"

namespace opifex::nvram {
namespace {

constexpr std::array<unsigned char, 7> kSync = {0x01, 0x5A, 0x5A, 0x5A, 0x5A, 0x5A, 0x02};

class Reader {
 public:
  explicit Reader(ByteView image) : image_(image) {}

  Memory read() {
    if (is_unformatted() || !read_label()) return std::move(memory_);
    const bool whole = walk(at::kForward, at::kBackward);
    if (!whole) walk_back();
    check_tiling();
    check_names();
    measure();
    return std::move(memory_);
  }

 private:
  std::uint32_t field(std::size_t at) const { return load_be32(image_, at); }
  void error(const char* code, std::optional<std::uint32_t> offset, std::string message) {
    memory_.findings.push_back({code, offset, true, std::move(message)});
  }
  void warn(const char* code, std::uint32_t offset, std::string message) {
    memory_.findings.push_back({code, offset, false, std::move(message)});
  }

  bool is_unformatted() {
    const std::byte fill = image_[0];
    if (fill != std::byte{0} && fill != std::byte{0xFF}) return false;
    if (std::any_of(image_.begin(), image_.end(), [&](std::byte b) { return b != fill; })) return false;
    error("unformatted", {}, "the memory was never formatted: there is nothing in it");
    return true;
  }

  bool read_label() {
    const bool anchor = field(kAnchor) == kAnchorMark;
    if (!std::equal(kSync.begin(), kSync.end(), image_.begin(),
                    [](unsigned char a, std::byte b) { return std::byte{a} == b; })) {
      error("label_sync", 0, "the label does not begin as one does");
      memory_.recognised = anchor;
      if (!anchor) return false;
    }
    const std::string_view label = as_text(image_.subspan(at::kLabel, kNameBytes));
    memory_.label = label.substr(0, label.find('\0'));
    if (field(at::kBlockSize) != 1)
      error("label_field", at::kBlockSize, fmt::format("the label says of blocks of {} bytes", field(at::kBlockSize)));
    if (field(at::kBlockCount) != kImageBytes)
      error("label_field", at::kBlockCount, fmt::format("the label says of {} bytes", field(at::kBlockCount)));
    if (field(at::kAvatar) != kAnchor)
      error("avatar", at::kAvatar, fmt::format("the label says the list began at 0x{:X}", field(at::kAvatar)));
    if (!anchor || field(kAnchor + at::kSize) != kFreeHeader || field(kAnchor + at::kHeader) != kFreeHeader)
      error("anchor", kAnchor, "the anchor of the list is broken");
    return true;
  }

  static bool is_link(std::uint32_t offset) { return offset % 4 == 0 && offset >= kAnchor && offset <= kLastLink; }

  /// Along one of the two links from the anchor; true if it came back to it.
  bool walk(std::size_t along, std::size_t back) {
    for (std::uint32_t from = kAnchor, to = field(from + along);; to = field(from + along)) {
      if (!is_link(to)) {
        error("link_range", from,
              fmt::format("the block at 0x{:X} leads to 0x{:X}, which is no place of one", from, to));
        return false;
      }
      if (to == kAnchor) {
        if (field(kAnchor + back) != from) link_back(kAnchor);
        return true;
      }
      if (seen_.contains(to)) {
        error("loop", to, fmt::format("the list leads to the block at 0x{:X} a second time", to));
        return false;
      }
      if (!enter(to)) return false;
      if (field(to + back) != from) link_back(to);
      if (to < from && !out_of_order_) {
        out_of_order_ = true;
        warn("order", to, fmt::format("the list goes back to 0x{:X}", to));
      }
      from = to;
    }
  }
  void link_back(std::uint32_t offset) {
    error("link_back", offset, fmt::format("the block at 0x{:X} names another one before it", offset));
  }

  /// What the broken list leads to from its end: known blocks end it, errors too.
  void walk_back() {
    for (std::uint32_t to = field(kAnchor + at::kBackward); is_link(to) && to != kAnchor && !seen_.contains(to);
         to = field(to + at::kBackward)) {
      const std::size_t before = memory_.findings.size();
      if (!enter(to)) {
        // Where the walk forward stopped was told; the same place is not told twice.
        std::erase_if(memory_.findings, [&, i = std::size_t{0}](const Finding& f) mutable {
          return i++ >= before &&
                 std::any_of(memory_.findings.begin(), memory_.findings.begin() + static_cast<std::ptrdiff_t>(before),
                             [&](const Finding& known) {
                               return known.offset == f.offset && std::string_view(known.code) == f.code;
                             });
        });
        return;
      }
    }
  }

  /// False if it is no block.
  bool enter(std::uint32_t b) {
    const std::uint32_t mark = field(b);
    const bool file = mark == kFileMark;
    if ((mark != kFreeMark && !file) || (file && b + kFileHeader > kImageBytes)) {
      error("fingerprint", b, fmt::format("there is no block at 0x{:X}", b));
      return false;
    }
    seen_.insert(b);
    Block block{.offset = b, .size_bytes = field(b + at::kSize), .is_file = file};
    const std::uint32_t header = file ? kFileHeader : kFreeHeader;
    if (field(b + at::kHeader) != header)
      error("header_size", b, fmt::format("the block at 0x{:X} has a header of a wrong size", b));
    block.good_size = block.size_bytes >= header && block.size_bytes % 4 == 0 && block.size_bytes <= kImageBytes - b;
    if (!block.good_size) {
      error("block_size", b, fmt::format("the block at 0x{:X} is said to have {} bytes", b, block.size_bytes));
      block.flaw = "its size is none";
    }
    if (file) read_file(block);
    memory_.blocks.push_back(std::move(block));
    return true;
  }

  void read_file(Block& block) {
    const std::uint32_t b = block.offset;
    const std::string_view field_bytes = as_text(image_.subspan(b + at::kName, kNameBytes));
    const std::size_t end = field_bytes.find('\0');
    block.name = field_bytes.substr(0, end);
    block.byte_count = field(b + at::kByteCount);
    block.id = field(b + at::kId);
    block.type = field(b + at::kType);
    if (block.good_size && block.byte_count > block.size_bytes - kFileHeader) {
      error("byte_count", b,
            fmt::format("{} is said to have {} bytes, more than its block", printable(block.name), block.byte_count));
      block.flaw = "it is said to be larger than its block";
    }
    if (block.name.empty() || end == std::string_view::npos)
      error("name", b, fmt::format("the file at 0x{:X} has a name that is none", b));
    else if (!all_zero(as_view(field_bytes.substr(end))) || block.name.find('/') != std::string::npos ||
             !std::all_of(block.name.begin(), block.name.end(), &is_plain))
      warn("name_form", b, fmt::format("{}: its name has not the usual form", printable(block.name)));
  }

  /// All blocks by address: they touch, and the last one ends with the memory.
  void check_tiling() {
    std::vector<Block*> blocks;
    for (Block& b : memory_.blocks)
      if (b.good_size) blocks.push_back(&b);
    std::sort(blocks.begin(), blocks.end(), [](const Block* a, const Block* b) { return a->offset < b->offset; });
    std::uint32_t end = kFirstBlock;
    Block* before = nullptr;
    const auto lost = [&](std::uint32_t to) {
      // Behind a break of the list it was told already where it broke.
      error("gap", end, fmt::format("{} from 0x{:X} on are in no block", bytes_text(to - end), end));
    };
    for (Block* b : blocks) {
      if (b->offset < end) {
        error("overlap", b->offset, fmt::format("the block at 0x{:X} begins within the one before it", b->offset));
        for (Block* each : {before, b})
          if (each && each->flaw.empty()) each->flaw = "it overlaps another block";
      } else if (b->offset > end) {
        lost(b->offset);
      } else if (before && !before->is_file && !b->is_file) {
        warn("free_neighbours", b->offset, "two free blocks touch each other");
      }
      if (b->offset + b->size_bytes >= end) {
        end = b->offset + b->size_bytes;
        before = b;
      }
    }
    if (end < kImageBytes) lost(kImageBytes);
  }

  void check_names() {
    std::vector<const Block*> files;
    for (const Block& b : memory_.blocks)
      if (b.is_file && !b.name.empty()) files.push_back(&b);
    std::sort(files.begin(), files.end(), [](const Block* a, const Block* b) { return a->offset < b->offset; });
    std::set<std::string> names;
    for (const Block* b : files)
      if (!names.insert(folded(b->name)).second)
        error("duplicate_name", b->offset, fmt::format("a second file is called {}", printable(b->name)));
  }

  void measure() {
    std::uint32_t largest = 0;
    for (const Block& b : memory_.blocks) {
      if (b.is_file || !b.good_size) continue;
      memory_.total_free += b.size_bytes - kFreeHeader;
      largest = std::max(largest, b.size_bytes);
    }
    memory_.largest_file = largest > kFileHeader ? largest - kFileHeader : 0;
  }

  ByteView image_;
  Memory memory_;
  std::set<std::uint32_t> seen_;
  bool out_of_order_ = false;
};

}  // namespace

bool Memory::damaged() const {
  return std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.error; });
}

std::string shown_name(std::string_view name) {
  std::string text;
  for (const char c : name)
    text += is_plain(c) && c != '\\' && c != '/' ? std::string(1, c)
                                                 : fmt::format("\\x{:02X}", static_cast<unsigned char>(c));
  return text;
}

Memory read_memory(ByteView image) { return Reader(image).read(); }

Bytes make_memory() {
  Bytes image(kImageBytes);
  Fields f(image);
  for (std::size_t i = 0; i < kSync.size(); ++i) f.byte(i, kSync[i]);
  f.bytes(at::kLabel, as_view("nvram"));
  f.be(0x48, 0xFFFFFFFF, 4);
  f.be(at::kBlockSize, 1, 4);
  f.be(at::kBlockCount, kImageBytes, 4);
  f.be(0x54, 0xFFFFFFFE, 4);
  f.be(0x5C, 1, 4);
  f.be(at::kAvatar, kAnchor, 4);
  const auto block = [&](std::uint32_t at, std::uint32_t mark, std::uint32_t link, std::uint64_t size) {
    f.be(at, mark, 4);
    f.be(at + at::kForward, link, 4);
    f.be(at + at::kBackward, link, 4);
    f.be(at + at::kSize, size, 4);
    f.be(at + at::kHeader, kFreeHeader, 4);
  };
  block(kAnchor, kAnchorMark, kFirstBlock, kFreeHeader);
  block(kFirstBlock, kFreeMark, kAnchor, kImageBytes - kFirstBlock);
  return image;
}

}  // namespace opifex::nvram
