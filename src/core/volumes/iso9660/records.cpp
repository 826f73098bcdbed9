#include "records.hpp"

#include <algorithm>
#include <utility>

#include "../names.hpp"

namespace opifex::iso {
namespace {

constexpr std::size_t kDateBytes = 7;

/// 9.1.5
void put_date7(Fields& put, std::size_t at, std::int64_t time) {
  const CivilTime t = iso_time(time);
  for (const auto& [i, v] : {std::pair<std::size_t, int>{0, t.year - 1900},
                             {1, t.month},
                             {2, t.day},
                             {3, t.hour},
                             {4, t.minute},
                             {5, t.second}})
    put.byte(at + i, static_cast<unsigned>(v));
}

}  // namespace

Both load_both32(ByteView v, std::size_t at) {
  const std::uint32_t little = load_le32(v, at), big = load_be32(v, at + 4);
  if (little == big) return {little, Halves::same};
  // Two different ones are no longer what anybody wrote.
  return {little != 0 ? little : big, little != 0 && big != 0 ? Halves::contradict : Halves::one_left_out};
}

const char* record_fault(ByteView sector, std::size_t at) {
  const auto length = std::to_integer<std::size_t>(sector[at]);
  if (at + length > sector.size()) return "record_crosses_sector";
  if (length < kShortestRecord) return "record_short";
  const auto name = std::to_integer<std::size_t>(sector[at + record_at::kNameLength]);
  return record_at::kName + name > length ? "record_short" : nullptr;
}

Record parse_record(ByteView r) {
  Record out;
  const Both extent = load_both32(r, record_at::kExtent), size = load_both32(r, record_at::kSize);
  out.sector = extent.value + std::to_integer<std::uint64_t>(r[record_at::kAttributeSectors]);
  out.size_bytes = size.value;
  out.halves = std::max(extent.halves, size.halves);
  const ByteView date = r.subspan(record_at::kDate, kDateBytes);
  out.date = iso_date7(date);
  out.bad_date = !out.date && !all_zero(date);
  out.flags = r[record_at::kFlags];
  out.unit = std::to_integer<std::uint32_t>(r[record_at::kUnit]);
  out.gap = std::to_integer<std::uint32_t>(r[record_at::kGap]);
  const auto n = std::to_integer<std::size_t>(r[record_at::kNameLength]);
  out.name = r.subspan(record_at::kName, n);
  if (const std::size_t use = record_bytes(n); use < r.size()) out.system_use = r.subspan(use);
  return out;
}

bool is_descriptor(ByteView d) {
  return d.size() >= kBlock && as_text(d).substr(descriptor_at::kStandardId, kIsoMark.size()) == kIsoMark;
}

Descriptor parse_descriptor(ByteView d) {
  Descriptor out;
  out.system_id = as_text(d.subspan(descriptor_at::kSystemId, 32));
  out.volume_id = as_text(d.subspan(descriptor_at::kVolumeId, 32));
  out.application_id = as_text(d.subspan(descriptor_at::kApplication, 128));
  const Both space = load_both32(d, descriptor_at::kSpace), table = load_both32(d, descriptor_at::kPathTableSize);
  out.blocks = space.value;
  out.path_table_bytes = table.value;
  out.l_table = load_le32(d, descriptor_at::kLTable);
  out.m_table = load_be32(d, descriptor_at::kMTable);
  const std::uint16_t little = load_le16(d, descriptor_at::kBlockSize);
  out.block_bytes = little != 0 ? little : load_be16(d, descriptor_at::kBlockSize + 2);
  const Record root = parse_record(d.subspan(descriptor_at::kRoot, kShortestRecord).first(kShortestRecord));
  out.root_sector = root.sector;
  out.root_bytes = root.size_bytes;
  out.halves = std::max({space.halves, table.halves, root.halves});
  out.xa = as_text(d).substr(descriptor_at::kXa, kXaMark.size()) == kXaMark;
  const std::string_view escape = as_text(d).substr(descriptor_at::kEscapes, 3);
  out.joliet = d[descriptor_at::kVersion] == std::byte{1} && (escape == "%/@" || escape == "%/C" || escape == "%/E");
  return out;
}

CivilTime iso_time(std::int64_t seconds) {
  constexpr std::int64_t k1900 = -2'208'988'800, k2155 = 5'869'583'999;
  return civil_time(std::clamp(seconds, k1900, k2155));
}

void put_record(std::span<std::byte> out, ByteView identifier, std::uint64_t sector, std::uint64_t size,
                std::int64_t time, std::byte flags) {
  Fields put(out);
  put.byte(record_at::kLength, static_cast<unsigned>(record_bytes(identifier.size())));
  put.both(record_at::kExtent, sector, 4);
  put.both(record_at::kSize, size, 4);
  put_date7(put, record_at::kDate, time);
  put.byte(record_at::kFlags, std::to_integer<unsigned>(flags));
  put.both(record_at::kSequence, 1, 2);
  put.byte(record_at::kNameLength, static_cast<unsigned>(identifier.size()));
  put.bytes(record_at::kName, identifier);
}

}  // namespace opifex::iso
