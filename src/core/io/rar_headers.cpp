#include "rar_headers.hpp"

#include <libdeflate.h>

#include "opifex/core/base/read_budget.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kSelfExtracting = 1 << 20;  // a program may stand in front
constexpr std::size_t kMostHeader = 2 << 20, kEach = sizeof(RarFile);

// RAR 4
constexpr unsigned kType4Archive = 0x73, kType4File = 0x74, kType4End = 0x7B;
constexpr unsigned kLongBlock = 0x8000;
constexpr std::size_t kBlock4 = 7, kFile4 = 32;

constexpr unsigned kFirstWithEnd = 29;  ///< "version needed to unpack" of writers that always end with that block

/// The low half of the CRC-32 over the header but its first two bytes. Comments of old writers have sums of their own.
bool sum_fits4(const ByteSource& source, std::uint64_t at, const Bytes& head, unsigned size) {
  const unsigned type = std::to_integer<unsigned>(head[2]);
  if (type != kType4Archive && type != kType4File && type != kType4End) return true;
  const Bytes header = read_up_to(source, at, size);
  if (header.size() < size) return false;
  return (libdeflate_crc32(0, header.data() + 2, header.size() - 2) & 0xFFFF) == load_le16(header, 0);
}

void walk4(const ByteSource& source, std::uint64_t at, RarHeaders& out) {
  out.sound = false;
  bool needs_end = false;
  for (ReadBudget budget(source.name(), source.size()); budget.try_entry(kEach);) {
    const Bytes head = read_up_to(source, at, kFile4 + 8);
    if (head.empty() || head.size() < kBlock4) return;
    const unsigned type = std::to_integer<unsigned>(head[2]), flags = load_le16(head, 3), size = load_le16(head, 5);
    if (size < kBlock4 || !sum_fits4(source, at, head, size)) return;
    std::uint64_t data = 0;
    if ((flags & kLongBlock) != 0 || type == kType4File) {
      if (head.size() < kBlock4 + 4) return;
      data = load_le32(head, kBlock4);
    }
    if (type == kType4Archive) {
      out.volume = (flags & 0x0001) != 0;
      out.headers_encrypted = (flags & 0x0080) != 0;
      if ((flags & 0x0100) != 0) out.number = 0;
      if (out.headers_encrypted) {
        out.sound = true;
        return;
      }
    } else if (type == kType4File) {
      if (head.size() < kFile4 || size < kFile4) return;
      RarFile file{load_le32(head, 11), load_le32(head, 16), (flags & 0x0004) != 0, (flags & 0x0001) != 0,
                   (flags & 0x0002) != 0};
      if ((flags & 0x0100) != 0) {
        if (head.size() < kFile4 + 8) return;
        data |= std::uint64_t{load_le32(head, kFile4)} << 32;
        file.size_bytes |= std::uint64_t{load_le32(head, kFile4 + 4)} << 32;
      }
      out.files.push_back(file);
      needs_end = needs_end || std::to_integer<unsigned>(head[24]) >= kFirstWithEnd;
    } else if (type == kType4End) {
      out.more_follow = (flags & 0x0001) != 0;
      out.sound = true;
      return;
    }
    const auto next = checked_add<std::uint64_t>(at + size, data);
    if (!next || *next <= at || *next > source.size()) return;
    at = *next;
    if (at == source.size()) {  // older writers leave the end block out
      out.sound = !needs_end;
      return;
    }
  }
}

/// Numbers of RAR 5: seven bits a byte, low first. Overrun leaves `good` false.
struct Cursor {
  ByteView bytes;
  std::size_t at = 0;
  bool good = true;
  std::uint64_t number() {
    std::uint64_t value = 0;
    for (unsigned shift = 0; shift < 70; shift += 7) {
      if (at >= bytes.size()) break;
      const auto byte = std::to_integer<std::uint64_t>(bytes[at++]);
      if (shift < 64) value |= (byte & 0x7F) << shift;
      if ((byte & 0x80) == 0) return value;
    }
    good = false;
    return 0;
  }
  void skip(std::uint64_t n) {
    if (n > bytes.size() - at)
      good = false;
    else
      at += static_cast<std::size_t>(n);
  }
};

constexpr std::uint64_t kType5Archive = 1, kType5File = 2, kType5Encryption = 4, kType5End = 5;
constexpr std::uint64_t kHasExtra = 1, kHasData = 2, kFromBefore = 8, kGoesOn = 16;

/// True if one of the extra records says that the file is encrypted.
bool says_encrypted(ByteView extra) {
  constexpr std::uint64_t kEncrypted = 1;
  Cursor c{extra};
  while (c.good && c.at < extra.size()) {
    const std::uint64_t size = c.number();
    const std::size_t start = c.at;
    if (!c.good || size == 0) return false;
    if (c.number() == kEncrypted && c.good) return true;
    c.at = start;
    c.skip(size);
  }
  return false;
}

RarFile file5(Cursor& c, std::uint64_t flags, ByteView extra) {
  RarFile file;
  file.from_before = (flags & kFromBefore) != 0;
  file.goes_on = (flags & kGoesOn) != 0;
  const std::uint64_t own = c.number();
  file.size_bytes = c.number();
  c.number();                     // attributes
  if ((own & 2) != 0) c.skip(4);  // time
  if ((own & 4) != 0) {
    const std::size_t at = c.at;
    c.skip(4);
    if (c.good) file.crc = load_le32(c.bytes, at);
  }
  file.encrypted = says_encrypted(extra);
  return file;
}

void walk5(const ByteSource& source, std::uint64_t at, RarHeaders& out) {
  out.sound = false;
  constexpr std::size_t kCrc = 4, kSizeField = 10;
  for (ReadBudget budget(source.name(), source.size()); budget.try_entry(kEach);) {
    const Bytes start = read_up_to(source, at, kCrc + kSizeField);
    Cursor size_of{start, std::min(kCrc, start.size())};
    const std::uint64_t size = size_of.number();
    if (!size_of.good || size == 0 || size > kMostHeader) return;
    const std::uint64_t body = at + size_of.at;
    const Bytes header = read_up_to(source, body, static_cast<std::size_t>(size));
    if (header.size() < size) return;
    // Over the size and the header.
    const std::size_t field = size_of.at - kCrc;
    const std::uint32_t sum =
        libdeflate_crc32(libdeflate_crc32(0, start.data() + kCrc, field), header.data(), header.size());
    if (sum != load_le32(start, 0)) return;
    Cursor c{header};
    const std::uint64_t type = c.number(), flags = c.number();
    const std::uint64_t extra_size = (flags & kHasExtra) != 0 ? c.number() : 0;
    const std::uint64_t data = (flags & kHasData) != 0 ? c.number() : 0;
    if (!c.good || extra_size > header.size() - c.at) return;
    const ByteView extra = ByteView(header).last(static_cast<std::size_t>(extra_size));
    if (type == kType5Archive) {
      const std::uint64_t own = c.number();
      out.volume = (own & 1) != 0;
      out.number = (own & 2) != 0 ? c.number() : 0;
    } else if (type == kType5File) {
      out.files.push_back(file5(c, flags, extra));
    } else if (type == kType5Encryption) {
      out.headers_encrypted = out.sound = true;
      return;
    } else if (type == kType5End) {
      out.more_follow = (c.number() & 1) != 0;
      out.sound = true;
      return;
    }
    const auto next = checked_add<std::uint64_t>(body + size, data);
    if (!c.good || !next || *next > source.size()) return;
    at = *next;
  }
}

}  // namespace

RarHeaders read_rar_headers(const ByteSource& source) {
  using namespace std::string_view_literals;
  constexpr std::string_view kMagic = "Rar!\x1A\x07"sv;
  const Bytes front = read_up_to(source, 0, kSelfExtracting + 8);
  RarHeaders out;
  const std::size_t at = as_text(front).find(kMagic);
  if (at == std::string_view::npos || front.size() < at + 8) return out;
  if (front[at + 6] == std::byte{0}) {
    out.version = 4;
    walk4(source, at + 7, out);
  } else if (front[at + 6] == std::byte{1} && front[at + 7] == std::byte{0}) {
    out.version = 5;
    walk5(source, at + 8, out);
  }
  return out;
}

}  // namespace opifex
