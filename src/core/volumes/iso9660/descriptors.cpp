#include "opifex/core/volumes/iso9660/descriptors.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

#include "records.hpp"

namespace opifex {
namespace {

using namespace iso;

constexpr std::size_t kMostFolderBytes = 1 << 20;  // larger folders are read as far as this
constexpr int kDeepestPath = 16;

std::string padded_text(std::string_view text) { return std::string(trim(text.substr(0, text.find('\0')))); }

IsoFile file_of(const Record& record) {
  return {static_cast<std::uint32_t>(record.sector), static_cast<std::uint32_t>(record.size_bytes),
          record.has(kFolder)};
}

}  // namespace

std::optional<Iso9660> Iso9660::open(SourcePtr disc, std::uint64_t start) {
  if (!disc) return std::nullopt;
  for (std::uint64_t i = 0; i < kMostDescriptors; ++i) {
    const Bytes d = read_up_to(*disc, (start + kFirstDescriptor + i) * kBlock, kBlock);
    if (!is_descriptor(d)) return std::nullopt;
    const auto type = std::to_integer<unsigned>(d[descriptor_at::kType]);
    if (type == kTerminator) return std::nullopt;
    if (type != kPrimary) continue;
    const Descriptor found = parse_descriptor(d);
    Iso9660 volume;
    volume.disc_ = std::move(disc);
    volume.system_id = padded_text(found.system_id);
    volume.volume_id = padded_text(found.volume_id);
    volume.application_id = padded_text(found.application_id);
    volume.sector_count = static_cast<std::uint32_t>(found.blocks);
    volume.xa = found.xa;
    volume.root_ = {static_cast<std::uint32_t>(found.root_sector), static_cast<std::uint32_t>(found.root_bytes), true};
    return volume;
  }
  return std::nullopt;
}

std::optional<IsoFile> Iso9660::find(std::string_view path) const {
  IsoFile at = root_;
  for (int depth = 0; depth < kDeepestPath; ++depth) {
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
  const Bytes bytes = read(folder, kMostFolderBytes);
  for (std::size_t at = 0; at < bytes.size();) {
    const std::size_t block = round_down(at, kBlock);
    const ByteView sector = ByteView(bytes).subspan(block, std::min(kBlock, bytes.size() - block));
    const auto length = std::to_integer<std::size_t>(bytes[at]);
    if (length == 0) {  // records do not cross blocks
      at = block + kBlock;
      continue;
    }
    if (record_fault(sector, at - block)) return std::nullopt;
    const Record record = parse_record(ByteView(bytes).subspan(at, length));
    if (plain(as_text(record.name)) == wanted) return file_of(record);
    at += length;
  }
  return std::nullopt;
}

Bytes Iso9660::read(const IsoFile& file, std::size_t limit) const {
  return read_up_to(*disc_, std::uint64_t{file.lba} * kBlock, std::min<std::size_t>(limit, file.size_bytes));
}

}  // namespace opifex
