/// Descriptors, directory records, numbers and dates of ISO 9660, as they are read and written (ECMA-119, sections
/// 7, 8.4 and 9.1).
#pragma once

#include <optional>
#include <string>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/disc_marks.hpp"

namespace opifex::iso {

inline constexpr std::size_t kBlock = 2048;
inline constexpr std::uint64_t kFirstDescriptor = kIsoDescriptorSector,
                               kMostDescriptors = 64;  ///< sectors behind the volume's start
inline constexpr unsigned kPrimary = 1, kSupplementary = 2, kTerminator = 255;

/// Where a volume descriptor has its fields (8.4, 8.5; the mark of CD-ROM XA in the part for applications).
namespace descriptor_at {
inline constexpr std::size_t kType = 0, kStandardId = 1, kVersion = 6, kSystemId = 8, kVolumeId = 40, kSpace = 80,
                             kEscapes = 88, kSetSize = 120, kSequence = 124, kBlockSize = 128, kPathTableSize = 132,
                             kLTable = 140, kMTable = 148, kRoot = 156, kSetId = 190, kPublisher = 318, kPreparer = 446,
                             kApplication = 574, kCopyright = 702, kAbstract = 739, kBibliography = 776, kCreated = 813,
                             kModified = 830, kExpires = 847, kEffective = 864, kStructureVersion = 881, kXa = 1024;
}
/// Where a directory record has its fields (9.1).
namespace record_at {
inline constexpr std::size_t kLength = 0, kAttributeSectors = 1, kExtent = 2, kSize = 10, kDate = 18, kFlags = 25,
                             kUnit = 26, kGap = 27, kSequence = 28, kNameLength = 32, kName = 33;
}
inline constexpr std::size_t kShortestRecord = 34;
inline constexpr std::byte kHidden{1}, kFolder{2}, kAssociated{4}, kMore{0x80};  ///< flags of a record (9.1.6)

/// What the two halves of a number that stands twice say of each other. The greater, the worse.
enum class Halves { same, one_left_out, contradict };

/// A number in both byte orders (7.3.3). The little-endian half counts, unless a sloppy writer left it out.
struct Both {
  std::uint32_t value = 0;
  Halves halves = Halves::same;
};
Both load_both32(ByteView v, std::size_t at);

/// The fields of a directory record. Views into the bytes it was read from.
struct Record {
  std::uint64_t sector = 0, size_bytes = 0;
  ByteView name, system_use;
  std::optional<std::int64_t> date;
  bool bad_date = false;  ///< there is one, and it makes no sense
  std::byte flags{};
  std::uint32_t unit = 0, gap = 0;
  Halves halves = Halves::same;  ///< of its numbers, the worst
  bool is_self() const { return name.size() == 1 && name[0] == std::byte{0}; }
  bool is_parent() const { return name.size() == 1 && name[0] == std::byte{1}; }
  bool has(std::byte flag) const { return (flags & flag) != std::byte{0}; }
};

/// What is wrong with the record at `at` of a sector: a code, or null if parse_record() may read it.
const char* record_fault(ByteView sector, std::size_t at);
/// `r` is the record from its first to its last byte, and has no fault.
Record parse_record(ByteView r);

/// A descriptor's fields that matter (8.4, 8.5); texts as they are stored.
struct Descriptor {
  std::string system_id, volume_id, application_id;
  std::uint64_t blocks = 0, root_sector = 0, root_bytes = 0;
  std::uint32_t path_table_bytes = 0, l_table = 0, m_table = 0;
  std::uint16_t block_bytes = 0;
  bool xa = false, joliet = false;
  Halves halves = Halves::same;
};
/// `d` has kBlock bytes.
Descriptor parse_descriptor(ByteView d);
bool is_descriptor(ByteView d);

/// Years that ISO 9660 cannot write become the nearest it can.
CivilTime iso_time(std::int64_t seconds);

/// The length of a record with an identifier of so many bytes: even.
constexpr std::size_t record_bytes(std::size_t identifier) {
  const std::size_t n = record_at::kName + identifier;
  return n + n % 2;
}

/// `out` has the length of the record; `size` is in bytes.
void put_record(std::span<std::byte> out, ByteView identifier, std::uint64_t sector, std::uint64_t size,
                std::int64_t time, std::byte flags);

}  // namespace opifex::iso
