// Records and descriptors of ISO 9660: written and read by the same names of fields, and damaged ones.
#include <gtest/gtest.h>

#include "../../../src/core/volumes/iso9660/records.hpp"
#include "testkit.hpp"

namespace opifex::iso {
namespace {

using testkit::Random;

struct Written {
  Bytes identifier;
  std::uint64_t sector = 0, size = 0;
  std::int64_t time = 0;
  std::byte flags{};
};

Written random_record(Random& random) {
  Written w;
  w.identifier = random.bytes(1 + random.below(200));
  w.sector = random.next() & 0xFFFF'FFFF;
  w.size = random.next() & 0xFFFF'FFFF;
  w.time = static_cast<std::int64_t>(random.below(4'000'000'000)) - 1'000'000'000;
  w.flags = static_cast<std::byte>(random.below(256));
  return w;
}

Bytes bytes_of(const Written& w) {
  Bytes bytes(record_bytes(w.identifier.size()));
  put_record(bytes, w.identifier, w.sector, w.size, w.time, w.flags);
  return bytes;
}

TEST(IsoRecords, WhatIsWrittenIsRead) {
  Random random(1);
  for (int i = 0; i < 5'000; ++i) {
    const Written w = random_record(random);
    const Bytes bytes = bytes_of(w);
    ASSERT_EQ(bytes.size() % 2, 0u) << "a record has an even length (ECMA-119, 9.1.1)";
    ASSERT_EQ(record_fault(bytes, 0), nullptr);
    const Record r = parse_record(bytes);
    EXPECT_EQ(r.sector, w.sector);
    EXPECT_EQ(r.size_bytes, w.size);
    EXPECT_TRUE(std::equal(r.name.begin(), r.name.end(), w.identifier.begin(), w.identifier.end()));
    EXPECT_EQ(r.date, w.time);
    EXPECT_EQ(r.flags, w.flags);
    EXPECT_EQ(r.halves, Halves::same);
    EXPECT_TRUE(r.system_use.empty());
  }
}

TEST(IsoRecords, ALengthThatLeadsOutsideIsSeenBeforeItIsRead) {
  Random random(2);
  for (int i = 0; i < 5'000; ++i) {
    Bytes sector(kBlock);
    const Written w = random_record(random);
    const Bytes record = bytes_of(w);
    const std::size_t at = random.below(kBlock - 34);
    const std::size_t room = std::min(record.size(), kBlock - at);
    std::copy_n(record.begin(), room, sector.begin() + static_cast<std::ptrdiff_t>(at));
    const char* fault = record_fault(sector, at);
    if (room < record.size()) {
      ASSERT_STREQ(fault, "record_crosses_sector");
    } else {
      ASSERT_EQ(fault, nullptr);
      parse_record(ByteView(sector).subspan(at, record.size()));
    }
    // The length of the name, or of the record, is what it was not.
    sector[at + (random.below(2) != 0 ? record_at::kNameLength : record_at::kLength)] =
        static_cast<std::byte>(random.below(256));
    const auto length = std::to_integer<std::size_t>(sector[at]);
    if (record_fault(sector, at) != nullptr) continue;
    const Record read = parse_record(ByteView(sector).subspan(at, length));
    ASSERT_LE(record_at::kName + read.name.size() + read.system_use.size(), length);
  }
}

TEST(IsoRecords, TheHalvesOfANumberTellWhatBecameOfThem) {
  Bytes bytes(8);
  Fields(bytes).both(0, 0x1234, 4);
  EXPECT_EQ(load_both32(bytes, 0).value, 0x1234u);
  EXPECT_EQ(load_both32(bytes, 0).halves, Halves::same);
  Fields(bytes).le(0, 0, 4);
  EXPECT_EQ(load_both32(bytes, 0).value, 0x1234u) << "the one that is there";
  EXPECT_EQ(load_both32(bytes, 0).halves, Halves::one_left_out);
  Fields(bytes).le(0, 0x99, 4);
  EXPECT_EQ(load_both32(bytes, 0).value, 0x99u) << "the little-endian one counts";
  EXPECT_EQ(load_both32(bytes, 0).halves, Halves::contradict);
}

TEST(IsoRecords, ADateThatMakesNoSenseIsNone) {
  Written w;
  w.identifier = Bytes(1);
  Bytes bytes = bytes_of(w);
  bytes[record_at::kDate + 1] = std::byte{13};
  EXPECT_EQ(parse_record(bytes).date, std::nullopt);
  EXPECT_TRUE(parse_record(bytes).bad_date);
  bytes[record_at::kDate + 1] = std::byte{2};
  bytes[record_at::kDate + 2] = std::byte{30};
  EXPECT_TRUE(parse_record(bytes).bad_date) << "30 February";
  std::fill_n(bytes.begin() + record_at::kDate, 7, std::byte{0});
  EXPECT_EQ(parse_record(bytes).date, std::nullopt);
  EXPECT_FALSE(parse_record(bytes).bad_date) << "none was given";
}

TEST(IsoRecords, YearsBeyondWhatAByteHoldsBecomeTheNearest) {
  EXPECT_EQ(iso_time(INT64_MIN).year, 1900);
  EXPECT_EQ(iso_time(INT64_MAX).year, 2155);
  EXPECT_EQ(iso_time(0).year, 1970);
}

Bytes descriptor(unsigned type) {
  Bytes d(kBlock);
  Fields put(d);
  put.byte(descriptor_at::kType, type);
  put.bytes(descriptor_at::kStandardId, as_view(kIsoMark));
  put.byte(descriptor_at::kVersion, 1);
  put.bytes(descriptor_at::kVolumeId, as_view("KESTREL"));
  put.both(descriptor_at::kSpace, 300, 4);
  put.both(descriptor_at::kBlockSize, kBlock, 2);
  put.both(descriptor_at::kPathTableSize, 10, 4);
  put.le(descriptor_at::kLTable, 18, 4);
  put.be(descriptor_at::kMTable, 19, 4);
  put_record(std::span(d).subspan(descriptor_at::kRoot, kShortestRecord), Bytes(1), 20, kBlock, 0, kFolder);
  return d;
}

TEST(IsoRecords, ADescriptorIsReadByItsFields) {
  Bytes d = descriptor(kPrimary);
  ASSERT_TRUE(is_descriptor(d));
  Descriptor read = parse_descriptor(d);
  EXPECT_EQ(read.volume_id.substr(0, 7), "KESTREL");
  EXPECT_EQ(read.blocks, 300u);
  EXPECT_EQ(read.root_sector, 20u);
  EXPECT_EQ(read.root_bytes, kBlock);
  EXPECT_EQ(read.path_table_bytes, 10u);
  EXPECT_EQ(read.l_table, 18u);
  EXPECT_EQ(read.m_table, 19u);
  EXPECT_EQ(read.block_bytes, kBlock);
  EXPECT_FALSE(read.xa);
  EXPECT_FALSE(read.joliet);
  Fields(d).bytes(descriptor_at::kXa, as_view(kXaMark));
  Fields(d).bytes(descriptor_at::kEscapes, as_view("%/E"));
  read = parse_descriptor(d);
  EXPECT_TRUE(read.xa);
  EXPECT_TRUE(read.joliet);
  Fields(d).be(descriptor_at::kSpace + 4, 301, 4);
  EXPECT_EQ(parse_descriptor(d).halves, Halves::contradict);
  d[descriptor_at::kStandardId] = std::byte{'X'};
  EXPECT_FALSE(is_descriptor(d));
  EXPECT_FALSE(is_descriptor(ByteView(d).first(kBlock - 1)));
}

}  // namespace
}  // namespace opifex::iso
