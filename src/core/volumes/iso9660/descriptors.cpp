#include "opifex/core/volumes/iso9660/descriptors.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::size_t kBlock = 2048;
constexpr std::uint64_t kFirstDescriptor = 16, kMaxDescriptors = 64;
constexpr std::size_t kMaxFolderBytes = 1 << 20;  // larger folders are read as far as this
constexpr std::size_t kShortestRecord = 34;
constexpr int kMaxDepth = 16;

std::string padded_text(ByteView v) {
  const std::string_view text = as_text(v);
  return std::string(trim(text.substr(0, text.find('\0'))));
}

/// Numbers stand twice; the little-endian half counts unless it is zero and the other is not.
std::uint32_t both32(ByteView v, std::size_t at) {
  const std::uint32_t little = load_le32(v, at);
  return little != 0 ? little : load_be32(v, at + 4);
}

IsoFile file_of(ByteView record) {
  return {both32(record, 2) + std::to_integer<std::uint32_t>(record[1]), both32(record, 10),
          (record[25] & std::byte{2}) != std::byte{0}};
}

}  // namespace

std::optional<Iso9660> Iso9660::open(SourcePtr disc, std::uint64_t start) {
  if (!disc) return std::nullopt;
  for (std::uint64_t i = 0; i < kMaxDescriptors; ++i) {
    const Bytes d = read_up_to(*disc, (start + kFirstDescriptor + i) * kBlock, kBlock);
    if (d.size() < kBlock || as_text(d).substr(1, 5) != "CD001" || d[0] == std::byte{255}) return std::nullopt;
    if (d[0] != std::byte{1}) continue;
    const ByteView v(d);
    Iso9660 volume;
    volume.disc_ = std::move(disc);
    volume.system_id = padded_text(v.subspan(8, 32));
    volume.volume_id = padded_text(v.subspan(40, 32));
    volume.application_id = padded_text(v.subspan(574, 128));
    volume.sector_count = both32(v, 80);
    volume.xa = as_text(v).substr(1024, 8) == "CD-XA001";
    volume.root_ = file_of(v.subspan(156, kShortestRecord));
    return volume;
  }
  return std::nullopt;
}

std::optional<IsoFile> Iso9660::find(std::string_view path) const {
  IsoFile at = root_;
  for (int depth = 0; depth < kMaxDepth; ++depth) {
    while (path.starts_with('/') || path.starts_with('\\')) path.remove_prefix(1);
    if (path.empty()) return at;
    const std::size_t end = std::min(path.find_first_of("/\\"), path.size());
    const auto next = find_in(at, path.substr(0, end));
    if (!next) return std::nullopt;
    at = *next;
    path.remove_prefix(end);
  }
  return std::nullopt;
}

std::optional<IsoFile> Iso9660::find_in(const IsoFile& folder, std::string_view name) const {
  const auto plain = [](std::string_view n) {
    std::string s = to_upper_ascii(n.substr(0, n.find(';')));
    if (s.ends_with('.')) s.pop_back();
    return s;
  };
  const std::string wanted = plain(name);
  const Bytes bytes = read(folder, kMaxFolderBytes);
  for (std::size_t at = 0; at + kShortestRecord <= bytes.size();) {
    const auto length = std::to_integer<std::size_t>(bytes[at]);
    if (length == 0) {  // records do not cross blocks
      at = (at / kBlock + 1) * kBlock;
      continue;
    }
    if (length < kShortestRecord || at + length > bytes.size()) return std::nullopt;
    const ByteView record = ByteView(bytes).subspan(at, length);
    const auto name_bytes = std::to_integer<std::size_t>(record[32]);
    if (33 + name_bytes > length) return std::nullopt;
    if (plain(as_text(record).substr(33, name_bytes)) == wanted) return file_of(record);
    at += length;
  }
  return std::nullopt;
}

Bytes Iso9660::read(const IsoFile& file, std::size_t limit) const {
  return read_up_to(*disc_, std::uint64_t{file.lba} * kBlock, std::min<std::size_t>(limit, file.size_bytes));
}

}  // namespace opifex
