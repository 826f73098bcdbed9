// Headers, maps and metadata of versions 3, 4 and 5. Everything is held against the file's size before it is believed.
#include "open.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/base/text.hpp"

#include "bits.hpp"
#include "decoder.hpp"
#include "map_crc.hpp"

namespace opifex::chd {
namespace {

constexpr std::size_t kLeastHeader = 16, kV5Header = 124, kV4Header = 108, kV3Header = 120;
constexpr std::uint32_t kMostHunkBytes = 128 << 20, kMostCompressedHunkBytes = (16 << 20) - 1;
constexpr std::uint64_t kMostHunks = 1 << 26;

std::uint64_t big(ByteView v, std::size_t at, std::size_t bytes) {
  std::uint64_t x = 0;
  for (const std::byte b : v.subspan(at, bytes)) x = x << 8 | std::to_integer<std::uint64_t>(b);
  return x;
}

/// Refusals name the file; the code tells the reason.
struct Refuse {
  const ByteSource& file;
  [[noreturn]] void operator()(const char* code, std::string what, std::optional<std::uint64_t> offset,
                               std::string found, std::string expected) const {
    throw Error({.code = code,
                 .what = std::move(what),
                 .file = file.name(),
                 .offset = offset,
                 .found = std::move(found),
                 .expected = std::move(expected)});
  }
};

/// Where the header has its fields: those of every version, of version 5, and of 3 and 4.
namespace header_at {
constexpr std::size_t kLength = 8, kVersion = 12;
}
namespace v5_at {
constexpr std::size_t kCodecs = 16, kLogicalBytes = 32, kMap = 40, kTags = 48, kHunkBytes = 56, kUnitBytes = 60,
                      kRawSha1 = 64, kSha1 = 84, kParentSha1 = 104;
}
namespace old_at {
constexpr std::size_t kFlags = 16, kMethod = 20, kHunkCount = 24, kLogicalBytes = 28, kTags = 36;
constexpr std::size_t kV3Md5 = 44, kV3HunkBytes = 76, kV3RawSha1 = 80, kV3ParentSha1 = 100;
constexpr std::size_t kV4HunkBytes = 44, kV4Sha1 = 48, kV4ParentSha1 = 68, kV4RawSha1 = 88;
}  // namespace old_at
/// The head of a compressed map of version 5, and of an entry of metadata.
namespace map_at {
constexpr std::size_t kStreamBytes = 0, kFirstHunk = 4, kCrc = 10, kLengthBits = 12, kSelfBits = 13, kParentBits = 14;
}
namespace tag_at {
constexpr std::size_t kFlags = 4, kLength = 5, kNext = 8;
}

std::optional<Sha1> sha1_at(ByteView v, std::size_t at) {
  Sha1 sha1;
  std::copy_n(v.begin() + static_cast<std::ptrdiff_t>(at), sha1.size(), sha1.begin());
  return all_zero(sha1) ? std::nullopt : std::optional(sha1);
}

void read_v5(const Refuse& refuse, ByteView v, Header& h) {
  for (std::size_t slot = 0; slot < h.codecs.size(); ++slot) {
    const std::size_t at = v5_at::kCodecs + 4 * slot;
    if (big(v, at, 4) == 0) continue;
    const std::string codec = printable(as_text(v.subspan(at, 4)));
    if (codec == "avhu")
      refuse("codec", "audio/video CHDs are not supported", at, codec, "data, a disc or a hard disk");
    if (!is_known_codec(codec))
      refuse("codec", "a codec of this CHD is unknown", at, codec,
             "zlib, lzma, huff, flac, zstd, cdzl, cdlz, cdfl, cdzs");
    h.codecs.at(slot) = codec;
  }
  h.compressed = !h.codecs[0].empty();
  h.logical_bytes = big(v, v5_at::kLogicalBytes, 8);
  h.map_offset = big(v, v5_at::kMap, 8);
  h.meta_offset = big(v, v5_at::kTags, 8);
  h.hunk_bytes = static_cast<std::uint32_t>(big(v, v5_at::kHunkBytes, 4));
  h.unit_bytes = static_cast<std::uint32_t>(big(v, v5_at::kUnitBytes, 4));
  h.raw_sha1 = sha1_at(v, v5_at::kRawSha1);
  h.sha1 = sha1_at(v, v5_at::kSha1);
  h.parent_sha1 = sha1_at(v, v5_at::kParentSha1);
  for (const std::string& codec : h.codecs)
    if (is_cd_codec(codec) && h.hunk_bytes % kFrameBytes != 0)
      refuse("codec", "a CD codec needs hunks of whole frames", v5_at::kHunkBytes,
             fmt::format("{} bytes", h.hunk_bytes), "a multiple of 2448");
}

void read_old(const Refuse& refuse, ByteView v, Header& h, bool& has_parent) {
  const bool v3 = h.version == 3;
  const std::uint64_t method = big(v, old_at::kMethod, 4);
  constexpr std::uint64_t kAudioVideo = 3, kParentFlag = 1;
  if (method >= kAudioVideo)
    refuse("codec", "this CHD's compression is not supported", old_at::kMethod, fmt::format("method {}", method),
           "0, 1 or 2");
  h.compressed = method != 0;
  if (h.compressed) h.codecs[0] = "zlib";
  has_parent = (big(v, old_at::kFlags, 4) & kParentFlag) != 0;
  h.hunk_count = static_cast<std::uint32_t>(big(v, old_at::kHunkCount, 4));
  h.logical_bytes = big(v, old_at::kLogicalBytes, 8);
  h.meta_offset = big(v, old_at::kTags, 8);
  h.map_offset = h.header_bytes;
  h.hunk_bytes = static_cast<std::uint32_t>(big(v, v3 ? old_at::kV3HunkBytes : old_at::kV4HunkBytes, 4));
  h.unit_bytes = h.hunk_bytes;
  if (v3) {
    if (!all_zero(v.subspan(old_at::kV3Md5, 16))) h.md5 = hex(v.subspan(old_at::kV3Md5, 16));
    h.raw_sha1 = sha1_at(v, old_at::kV3RawSha1);
    h.parent_sha1 = sha1_at(v, old_at::kV3ParentSha1);
  } else {
    h.sha1 = sha1_at(v, old_at::kV4Sha1);
    h.parent_sha1 = sha1_at(v, old_at::kV4ParentSha1);
    h.raw_sha1 = sha1_at(v, old_at::kV4RawSha1);
  }
}

/// Maps of version 5 that are compressed.
class MapReader {
 public:
  MapReader(const Refuse& refuse, const Header& h, std::uint64_t file_bytes)
      : refuse_(refuse), h_(h), file_bytes_(file_bytes) {}

  HunkMap read() {
    constexpr std::size_t kHead = 16;
    if (h_.map_offset == 0) refuse_("map", "writing this CHD was never finished", v5_at::kMap, "no map", "an offset");
    if (h_.map_offset > file_bytes_ || file_bytes_ - h_.map_offset < kHead) outside("the map's header");
    const Bytes head = read_up_to(refuse_.file, h_.map_offset, kHead);
    const std::uint64_t stream_bytes = big(head, map_at::kStreamBytes, 4);
    if (stream_bytes > file_bytes_ - h_.map_offset - kHead) outside("the map");
    first_ = big(head, map_at::kFirstHunk, 6);
    length_bits_ = static_cast<unsigned>(big(head, map_at::kLengthBits, 1));
    self_bits_ = static_cast<unsigned>(big(head, map_at::kSelfBits, 1));
    parent_bits_ = static_cast<unsigned>(big(head, map_at::kParentBits, 1));
    if (length_bits_ > 24 || self_bits_ > 32 || parent_bits_ > 48) bad("field widths", "at most 24, 32 and 48 bits");
    // No stream of this length can describe more hunks: three bits at least for 274 of them.
    constexpr std::uint64_t kLongestRun = 274;
    if (h_.hunk_count > (8 * stream_bytes / 3 + 1) * kLongestRun)
      refuse_("limits", "this CHD claims more hunks than its map can describe", v5_at::kLogicalBytes,
              fmt::format("{} hunks", h_.hunk_count), fmt::format("a map of {} bytes to fit", stream_bytes));
    const Bytes stream = read_up_to(refuse_.file, h_.map_offset + kHead, static_cast<std::size_t>(stream_bytes));
    // The fields lie behind the kinds: these are read twice, not kept, for a few bytes can claim many of them.
    BitReader kinds_in(stream);
    const auto tree = read_rle_tree(kinds_in, 16, 8);
    if (!tree) bad("no prefix code", "a tree of 16 symbols");
    Kinds ahead(*this, *tree, kinds_in), kinds = ahead;
    for (std::uint32_t n = 0; n < h_.hunk_count; ++n) ahead.next();
    BitReader fields = ahead.in();
    read_fields(kinds, fields);
    if (fields.overran()) bad("a bit stream that ends early", "fields of every hunk");
    check_crc(static_cast<std::uint16_t>(big(head, map_at::kCrc, 2)));
    return std::move(hunks_);
  }

 private:
  enum Code {
    kStored = 4,
    kSame = 5,
    kParent = 6,
    kShortRun = 7,
    kLongRun = 8,
    kSameAgain = 9,
    kSameNext = 10,
    kParentHere = 11,
    kParentAgain = 12,
    kParentNext = 13
  };

  [[noreturn]] void bad(std::string found, std::string expected) const {
    refuse_("map", "the map of this CHD is damaged", h_.map_offset, std::move(found), std::move(expected));
  }
  [[noreturn]] void outside(const char* what) const {
    refuse_("map_range", fmt::format("{} lies outside the file", what), h_.map_offset,
            fmt::format("a file of {} bytes", file_bytes_), "all of it");
  }
  /// The types of the hunks, one after the other.
  class Kinds {
   public:
    Kinds(const MapReader& map, const PrefixCode& tree, BitReader in) : map_(&map), tree_(&tree), in_(in) {}
    const BitReader& in() const { return in_; }
    int next() {
      if (run_ > 0) {
        --run_;
      } else if (const int s = symbol(); s == kShortRun) {
        run_ = 2 + symbol();
      } else if (s == kLongRun) {
        run_ = 18 + (symbol() << 4);
        run_ += symbol();
      } else if (s > kParentNext) {
        map_->bad(fmt::format("hunk type {}", s), "0 to 13");
      } else {
        last_ = s;
      }
      return last_;
    }

   private:
    int symbol() {
      const int s = tree_->next(in_);
      if (s < 0 || in_.overran()) map_->bad("an undefined code", "a hunk type");
      return s;
    }
    const MapReader* map_;
    const PrefixCode* tree_;
    BitReader in_;
    int run_ = 0, last_ = 0;
  };

  /// A map whose every hunk is real needs less: their fields, and they, lie in the file.
  void keep(const Hunk& hunk) {
    constexpr std::uint64_t kFree = 32 << 20, kForAByte = 6;
    hunks_.push_back(hunk);
    if (hunks_.bytes() > kFree + kForAByte * file_bytes_)
      refuse_("limits", "the map of this CHD claims more than a file of this size can hold", h_.map_offset,
              fmt::format("{} hunks", h_.hunk_count), fmt::format("a file of {} bytes to fit", file_bytes_));
  }

  void read_fields(Kinds& kinds, BitReader& in) {
    std::uint64_t at = first_, same = 0, unit = 0;
    const std::uint64_t units = h_.hunk_bytes / h_.unit_bytes;
    for (std::uint32_t n = 0; n < h_.hunk_count && !in.overran(); ++n) {
      Hunk h;
      const int code = kinds.next();
      if (code <= kStored) {
        h.kind = static_cast<HunkKind>(code);
        h.length = code == kStored ? h_.hunk_bytes : static_cast<std::uint32_t>(in.bits(length_bits_));
        h.crc = static_cast<std::uint32_t>(in.bits(16));
        h.crc_known = true;
        h.place = at;
        if (code < kStored && h_.codecs.at(static_cast<std::size_t>(code)).empty())
          refuse_("codec", fmt::format("hunk {} uses a codec that this CHD does not name", n), 16,
                  fmt::format("slot {}", code), "a slot in use");
        at += h.length;
      } else if (code == kSame || code == kSameAgain || code == kSameNext) {
        h.kind = HunkKind::same;
        same = code == kSame ? in.bits(self_bits_) : code == kSameNext ? same + 1 : same;
        h.place = same;
      } else {
        h.kind = HunkKind::parent;
        unit = code == kParent       ? in.bits(parent_bits_)
               : code == kParentHere ? n * units
               : code == kParentNext ? unit + units
                                     : unit;
        h.place = unit;
      }
      keep(h);
    }
  }
  void check_crc(std::uint16_t expected) const {
    MapCrc crc;
    for (const Hunk& h : hunks_)
      crc.add(h.kind == HunkKind::same ? +kSame : h.kind == HunkKind::parent ? +kParent : static_cast<int>(h.kind), h);
    if (const std::uint16_t found = crc.finish(); found != expected)
      refuse_("map_crc", "the map of this CHD is damaged", h_.map_offset + 10, fmt::format("CRC {:04X}", found),
              fmt::format("{:04X}", expected));
  }

  const Refuse& refuse_;
  const Header& h_;
  std::uint64_t file_bytes_, first_ = 0;
  unsigned length_bits_ = 0, self_bits_ = 0, parent_bits_ = 0;
  HunkMap hunks_;
};

/// A map of fixed records behind the header, or at the map's offset.
Bytes fixed_map(const Refuse& refuse, const Header& h, std::uint64_t each, std::uint64_t file_bytes) {
  const std::uint64_t bytes = each * h.hunk_count;
  if (h.map_offset > file_bytes || bytes > file_bytes - h.map_offset)
    refuse("map_range", "the map lies outside the file", h.map_offset, fmt::format("a file of {} bytes", file_bytes),
           fmt::format("a map of {} bytes", bytes));
  return read_up_to(refuse.file, h.map_offset, static_cast<std::size_t>(bytes));
}

HunkMap read_plain_map(const Refuse& refuse, const Header& h, std::uint64_t file_bytes) {
  const Bytes map = fixed_map(refuse, h, 4, file_bytes);
  HunkMap hunks;
  for (std::uint32_t n = 0; n < h.hunk_count; ++n) {
    const std::uint64_t index = load_be32(map, n * std::size_t{4});
    hunks.push_back(index != 0      ? Hunk{HunkKind::stored, false, h.hunk_bytes, 0, index * h.hunk_bytes}
                    : h.parent_sha1 ? Hunk{HunkKind::parent_hunk, false, 0, 0, n}
                                    : Hunk{});
  }
  return hunks;
}

HunkMap read_old_map(const Refuse& refuse, const Header& h, std::uint64_t file_bytes) {
  constexpr std::uint64_t kEach = 16;
  const Bytes map = fixed_map(refuse, h, kEach, file_bytes);
  HunkMap hunks;
  for (std::uint32_t n = 0; n < h.hunk_count; ++n) {
    const std::size_t at = n * kEach;
    const auto flags = static_cast<unsigned>(big(map, at + 15, 1));
    Hunk hunk;
    hunk.place = big(map, at, 8);
    hunk.crc = static_cast<std::uint32_t>(big(map, at + 8, 4));
    hunk.length = static_cast<std::uint32_t>(big(map, at + 12, 2) | big(map, at + 14, 1) << 16);
    constexpr unsigned kNoCrc = 16;
    hunk.crc_known = (flags & kNoCrc) == 0;
    switch (flags & 15) {
      case 1:
        hunk.kind = HunkKind::codec0;
        break;
      case 2:
        hunk.kind = HunkKind::stored;
        hunk.length = h.hunk_bytes;
        break;
      case 3:
        hunk.kind = HunkKind::repeated;
        break;
      case 4:
        hunk.kind = HunkKind::same;
        hunk.crc_known = false;
        break;
      case 5:
        hunk.kind = HunkKind::parent_hunk;
        hunk.crc_known = false;
        break;
      default:
        refuse("map", fmt::format("hunk {} is of an unknown type", n), h.map_offset + at + 15,
               fmt::format("{}", flags & 15), "1 to 5");
    }
    hunks.push_back(hunk);
  }
  return hunks;
}

void check_places(const Refuse& refuse, const Header& h, const HunkMap& hunks, std::uint64_t file_bytes) {
  hunks.each_run([&](std::uint64_t n, std::uint64_t count, Hunk hunk, std::uint64_t step) {
    if (hunk.kind <= HunkKind::stored) {
      // Places only grow along a run: if the first and the last lie in the file, all do.
      for (const std::uint64_t i : {std::uint64_t{0}, count - 1}) {
        const std::uint64_t place = hunk.place + i * step;
        const bool inside = place >= hunk.place && place >= h.header_bytes && place <= file_bytes &&
                            hunk.length <= file_bytes - place && hunk.length > 0;
        const bool on_map =
            h.version == 5 && h.compressed && place < h.map_offset + 16 && place + hunk.length > h.map_offset;
        if (!inside || on_map)
          refuse("map_range", fmt::format("hunk {} does not lie where hunks can", n + i), h.map_offset,
                 fmt::format("{} bytes at {}", hunk.length, place),
                 fmt::format("between {} and {}", h.header_bytes, file_bytes));
      }
    }
    // With the place the number grows by one: a step above that overtakes it in the end.
    const std::uint64_t worst = step > 1 ? count - 1 : 0;
    if (hunk.kind == HunkKind::same && hunk.place + worst * step >= n + worst)
      refuse("self_ref", fmt::format("hunk {} is a copy of one that does not come before it", n + worst), h.map_offset,
             fmt::format("hunk {}", hunk.place + worst * step), fmt::format("below {}", n + worst));
  });
}

/// Copies of copies become copies of the first, so that no chain of a million has to be walked again and again.
HunkMap shorten_chains(HunkMap hunks) {
  if (!hunks.holds(HunkKind::same)) return hunks;
  HunkMap shortened;
  std::optional<std::uint64_t> target;  // of the last copy: the next is often of the same hunk
  Hunk found;
  for (Hunk hunk : hunks) {
    if (hunk.kind == HunkKind::same) {
      if (target != hunk.place) {
        target = hunk.place;
        found = shortened[hunk.place];
      }
      if (found.kind == HunkKind::same) hunk.place = found.place;
    }
    shortened.push_back(hunk);
  }
  return shortened;
}

std::vector<Tag> read_tags(const Refuse& refuse, const Header& h, std::uint64_t file_bytes) {
  constexpr std::uint64_t kHead = 16;
  std::vector<Tag> tags;
  std::set<std::uint64_t> seen;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> places;
  ReadBudget budget(refuse.file.name(), file_bytes, {.entries = 4096, .bytes = 64 << 20});
  for (std::uint64_t at = h.meta_offset; at != 0;) {
    if (!seen.insert(at).second)
      refuse("meta_loop", "the metadata runs in a circle", at, "an entry seen before", "the end of the list");
    if (at < h.header_bytes || at > file_bytes || file_bytes - at < kHead)
      refuse("meta_range", "a metadata entry lies outside the file", at, fmt::format("a file of {} bytes", file_bytes),
             "an entry inside it");
    const Bytes head = read_up_to(refuse.file, at, kHead);
    const std::uint64_t length = big(head, tag_at::kLength, 3);
    if (length > file_bytes - at - kHead)
      refuse("meta_range", "a metadata entry runs past the end of the file", at, fmt::format("{} bytes", length),
             fmt::format("at most {}", file_bytes - at - kHead));
    for (const auto& [begin, end] : places)
      if (at < end && at + kHead + length > begin)
        refuse("meta_range", "metadata entries overlap", at, fmt::format("an entry up to {}", end),
               "entries side by side");
    places.emplace_back(at, at + kHead + length);
    if (!budget.try_entry(length))
      refuse("limits", "there is too much metadata", at, fmt::format("{} entries", tags.size()),
             "at most 4096, and 64 MiB");
    tags.push_back({std::string(as_text(head).substr(0, 4)), std::to_integer<std::uint8_t>(head[tag_at::kFlags]), at,
                    read_up_to(refuse.file, at + kHead, static_cast<std::size_t>(length))});
    at = big(head, tag_at::kNext, 8);
  }
  return tags;
}

/// Bytes that references into a parent count in: by what the old versions' metadata says the data is.
std::uint32_t old_unit(const std::vector<Tag>& tags, std::uint32_t hunk_bytes) {
  for (const Tag& t : tags) {
    if (t.name == "GDDD") {
      const std::string text = t.text();
      const std::size_t at = text.find("BPS:");
      if (at == std::string::npos) continue;
      std::uint32_t bps = 0;
      for (const char c : text.substr(at + 4)) {
        if (c < '0' || c > '9' || bps > kMostHunkBytes) break;
        bps = bps * 10 + static_cast<std::uint32_t>(c - '0');
      }
      if (bps > 0 && hunk_bytes % bps == 0) return bps;
    }
    for (const char* cd : {"CHT2", "CHTR", "CHCD", "CHGD", "CHGT"})
      if (t.name == cd && hunk_bytes % kFrameBytes == 0) return kFrameBytes;
  }
  return hunk_bytes;
}

/// The version, and the header's length, from its first bytes.
void read_version(const Refuse& refuse, ByteView start, Header& h) {
  if (start.size() < kLeastHeader)
    refuse("truncated", "the file ends inside its header", start.size(), fmt::format("{} bytes", start.size()),
           "a header");
  if (!as_text(start).starts_with(kChdMark))
    refuse("magic", "this is no CHD", 0, printable(as_text(start).substr(0, 8)), std::string(kChdMark));
  const std::uint64_t version = big(start, header_at::kVersion, 4), length = big(start, header_at::kLength, 4);
  if (version < 3 || version > 5)
    refuse("version", "this version of CHD is not supported", header_at::kVersion, fmt::format("version {}", version),
           "3, 4 or 5");
  h.version = static_cast<int>(version);
  h.header_bytes = version == 5 ? kV5Header : version == 4 ? kV4Header : kV3Header;
  if (length != h.header_bytes)
    refuse("header", "the header's length does not fit its version", header_at::kLength, fmt::format("{}", length),
           fmt::format("{}", h.header_bytes));
  if (start.size() < h.header_bytes)
    refuse("truncated", "the file ends inside its header", start.size(), fmt::format("{} bytes", start.size()),
           fmt::format("{}", h.header_bytes));
}

/// Counts the hunks.
void check_sizes(const Refuse& refuse, Header& h) {
  if (h.hunk_bytes == 0 || h.unit_bytes == 0 || h.hunk_bytes % h.unit_bytes != 0)
    refuse("header", "the sizes in the header make no sense", v5_at::kHunkBytes,
           fmt::format("hunks of {} bytes, units of {}", h.hunk_bytes, h.unit_bytes), "hunks of whole units");
  if (h.hunk_bytes > kMostHunkBytes || (h.version == 5 && h.compressed && h.hunk_bytes > kMostCompressedHunkBytes))
    refuse("limits", "the hunks are too large", v5_at::kHunkBytes, fmt::format("{} bytes", h.hunk_bytes),
           "below 16 MiB");
  if (h.logical_bytes == 0) refuse("header", "this CHD holds nothing", v5_at::kLogicalBytes, "0 bytes", "data");
  const std::uint64_t hunks = ceil_div<std::uint64_t>(h.logical_bytes, h.hunk_bytes);
  if (hunks > kMostHunks)
    refuse("limits", "this CHD claims to be larger than any disc", v5_at::kLogicalBytes,
           fmt::format("{} bytes", h.logical_bytes), fmt::format("at most {} hunks", kMostHunks));
  h.hunk_count = static_cast<std::uint32_t>(hunks);
}

}  // namespace

std::optional<Sha1> peek_identity(const ByteSource& file) {
  const Bytes head = read_up_to(file, 0, kV5Header);
  if (head.size() < kV5Header || !as_text(head).starts_with(kChdMark)) return std::nullopt;
  switch (big(head, header_at::kVersion, 4)) {
    case 5: {
      const auto overall = sha1_at(head, v5_at::kSha1);
      return overall ? overall : sha1_at(head, v5_at::kRawSha1);
    }
    case 4: {
      const auto overall = sha1_at(head, old_at::kV4Sha1);
      return overall ? overall : sha1_at(head, old_at::kV4RawSha1);
    }
    case 3:
      return sha1_at(head, old_at::kV3RawSha1);
    default:
      return std::nullopt;
  }
}

Opened read_container(const ByteSource& file) {
  const Refuse refuse{file};
  const std::uint64_t file_bytes = file.size();
  Opened o;
  Header& h = o.header;
  const Bytes start = read_up_to(file, 0, kV5Header);
  read_version(refuse, start, h);
  const bool old = h.version < 5;
  bool has_parent = false;
  if (old) {
    read_old(refuse, start, h, has_parent);
  } else {
    h.hunk_bytes =
        static_cast<std::uint32_t>(big(start, v5_at::kHunkBytes, 4));  // first: the codecs' rules depend on it
    read_v5(refuse, start, h);
  }
  check_sizes(refuse, h);
  const std::uint64_t claimed_hunks = old ? big(start, old_at::kHunkCount, 4) : h.hunk_count;
  if (claimed_hunks != h.hunk_count)
    refuse("header", "the number of hunks does not fit the size", old_at::kHunkCount,
           fmt::format("{} hunks", claimed_hunks), fmt::format("{}", h.hunk_count));
  if (old && !has_parent) h.parent_sha1.reset();

  o.hunks = old            ? read_old_map(refuse, h, file_bytes)
            : h.compressed ? MapReader(refuse, h, file_bytes).read()
                           : read_plain_map(refuse, h, file_bytes);
  check_places(refuse, h, o.hunks, file_bytes);
  o.hunks = shorten_chains(std::move(o.hunks));
  o.tags = read_tags(refuse, h, file_bytes);
  if (old) h.unit_bytes = old_unit(o.tags, h.hunk_bytes);
  if ((o.hunks.holds(HunkKind::parent) || o.hunks.holds(HunkKind::parent_hunk)) && !h.parent_sha1 && !has_parent)
    refuse("parent_missing", "hunks refer to a parent, but the header names none", v5_at::kParentSha1, "no parent",
           "its SHA-1");
  return o;
}

}  // namespace opifex::chd
