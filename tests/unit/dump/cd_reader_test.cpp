// Music is read where it lies, not where the drive says it lies; drives that cannot do all that is asked do the rest.
#include <algorithm>
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/dump/drive.hpp"
#include "opifex/core/dump/reader.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

constexpr Lba kMusic = 10, kEnd = 40;  // data before, nothing behind
constexpr std::int64_t kSampleBytes = 4, kSamples = 588;

/// The true sample at a place of the disc; data and what lies outside are silent here.
std::uint32_t sample(std::int64_t place) {
  if (place < kMusic * kSamples || place >= kEnd * kSamples) return 0;
  return static_cast<std::uint32_t>(place) * 2'654'435'761u | 1u;
}

/// Delivers sample i - offset where sample i is asked for.
class OffsetDrive final : public DriveTransport {
 public:
  explicit OffsetDrive(int offset) : offset_(offset) {}
  CommandReply execute(ByteView cdb, DataDirection, std::span<std::byte> buffer, std::uint32_t) override {
    if (cdb[0] != std::byte{0xBE}) return {};
    const auto first = static_cast<Lba>(load_be32(cdb, 2));
    const auto count = static_cast<std::uint32_t>(load_be16(cdb, 7));
    const bool c2 = (cdb[9] & std::byte{2}) != std::byte{0}, subchannel = cdb[10] != std::byte{0};
    asked.insert(first);
    largest = std::max(largest, count);
    if ((c2 && !has_c2) || (subchannel && !has_subchannel) || count > most_sectors) return check(5, 0x24);
    if (first < lowest || first + static_cast<Lba>(count) > kEnd + behind) return check(5, 0x21);
    const std::size_t each = CdParts{c2, subchannel ? SubchannelPart::raw : SubchannelPart::none}.bytes();
    for (std::uint32_t s = 0; s < count; ++s) {
      const auto to = buffer.subspan(s * each, each);
      std::fill(to.begin(), to.end(), std::byte{0});
      for (std::int64_t i = 0; i < kSamples; ++i)
        store_le32(to, static_cast<std::size_t>(i * kSampleBytes),
                   sample((first + static_cast<Lba>(s)) * kSamples + i - offset_));
      if (c2 && first + static_cast<Lba>(s) == flagged) to[cd::kRawBytes] = std::byte{0xC0};  // its first two bytes
      if (subchannel) std::fill(to.end() - 96, to.end(), std::byte{0x5A});
    }
    CommandReply good;
    good.transferred = count * each;
    return good;
  }
  void wait(std::uint32_t) override {}
  std::uint64_t clock_ms() const override { return 0; }
  std::string name() const override { return "offset drive"; }

  bool has_c2 = true, has_subchannel = true;
  std::uint32_t most_sectors = 1000, largest = 0;
  Lba lowest = 0, behind = 0, flagged = -1;  // `behind`: sectors of the lead-out it can read
  std::set<Lba> asked;

 private:
  static CommandReply check(int key, int asc) {
    CommandReply reply;
    reply.status = kStatusCheckCondition;
    reply.sense.assign(18, std::byte{0});
    reply.sense[0] = std::byte{0x70};
    reply.sense[2] = static_cast<std::byte>(key);
    reply.sense[12] = static_cast<std::byte>(asc);
    return reply;
  }
  int offset_;
};

const Region kRegion{kMusic, kEnd, RegionKind::audio, 2, kMusic};

Bytes truth(Lba lba, std::uint32_t count) {
  Bytes bytes(count * cd::kRawBytes);
  for (std::int64_t i = 0; i < count * kSamples; ++i)
    store_le32(bytes, static_cast<std::size_t>(i * kSampleBytes), sample(lba * kSamples + i));
  return bytes;
}

TEST(CdReader, TakesTheDrivesOffsetOutExactly) {
  for (const int offset : {0, 1, -1, 6, -6, 102, 587, 588, 589, -588, -1164, 1858}) {
    OffsetDrive transport(offset);
    transport.behind = 4;
    Drive drive(transport);
    CdReader reader(drive, {.offset = offset}, {kRegion}, kEnd);
    // Away from the borders, where all that is needed is music.
    for (const auto& [lba, count] : {std::pair<Lba, std::uint32_t>{15, 1}, {14, 20}, {18, 3}}) {
      Bytes out(count * cd::kRawBytes);
      const ReadResult r = reader.read(kRegion, lba, count, out, nullptr);
      EXPECT_EQ(r.delivered, count);
      EXPECT_EQ(out, truth(lba, count)) << "offset " << offset << ", sector " << lba;
    }
  }
}

TEST(CdReader, TheEndOfTheDiscIsReadIntoTheLeadOutOrIsSilentAndCounted) {
  constexpr int kOffset = 30;
  for (const bool can : {true, false}) {
    OffsetDrive transport(kOffset);
    transport.behind = can ? 1 : 0;
    Drive drive(transport);
    CdReader reader(drive, {.offset = kOffset}, {kRegion}, kEnd);
    Bytes out(2 * cd::kRawBytes);
    const ReadResult r = reader.read(kRegion, kEnd - 2, 2, out, nullptr);
    EXPECT_EQ(r.delivered, 2u);
    Bytes wanted = truth(kEnd - 2, 2);
    if (!can) std::fill(wanted.end() - kOffset * kSampleBytes, wanted.end(), std::byte{0});
    EXPECT_EQ(out, wanted);
    EXPECT_EQ(reader.unreachable_samples(), can ? 0u : unsigned{kOffset});
  }
}

TEST(CdReader, NeverReachesFromMusicIntoData) {
  for (const int offset : {-6, -700}) {
    OffsetDrive transport(offset);
    Drive drive(transport);
    CdReader reader(drive, {.offset = offset}, {kRegion}, kEnd);
    Bytes out(3 * cd::kRawBytes);
    EXPECT_EQ(reader.read(kRegion, kMusic, 3, out, nullptr).delivered, 3u);
    EXPECT_GE(*transport.asked.begin(), kMusic);
    Bytes wanted = truth(kMusic, 3);
    std::fill_n(wanted.begin(), -offset * kSampleBytes, std::byte{0});
    EXPECT_EQ(out, wanted) << "what would lie among the data is silence";
  }
}

TEST(CdReader, FlagsMoveWithTheirSamples) {
  constexpr int kOffset = 6;
  OffsetDrive transport(kOffset);
  transport.behind = 1;
  transport.flagged = 20;
  Drive drive(transport);
  CdReader reader(drive, {.offset = kOffset}, {kRegion}, kEnd);
  Bytes out(4 * cd::kRawBytes);
  Extras extras;
  extras.want_flags = true;
  EXPECT_EQ(reader.read(kRegion, 18, 4, out, &extras).delivered, 4u);
  ASSERT_TRUE(extras.flags_known);
  ASSERT_EQ(extras.flagged.size(), 4u);
  // The first two bytes the drive gave for sector 20 are the last but five samples of sector 19.
  ASSERT_EQ(extras.flagged[1].size(), 1u);
  EXPECT_EQ(extras.flagged[1][0].first, cd::kRawBytes - kOffset * kSampleBytes);
  EXPECT_EQ(extras.flagged[1][0].last, cd::kRawBytes - kOffset * kSampleBytes + 1);
  for (const std::size_t other : {0u, 2u, 3u}) EXPECT_TRUE(extras.flagged[other].empty());
}

TEST(CdReader, WhatTheDriveLacksIsDroppedAndTheRestStays) {
  OffsetDrive transport(0);
  transport.has_c2 = transport.has_subchannel = false;
  transport.most_sectors = 5;
  Drive drive(transport);
  CdReader reader(drive, {.subchannel = true}, {kRegion}, kEnd);
  Bytes out(20 * cd::kRawBytes);
  Extras extras;
  extras.want_flags = true;
  EXPECT_EQ(reader.read(kRegion, 12, 20, out, &extras).delivered, 20u);
  EXPECT_EQ(out, truth(12, 20));
  EXPECT_FALSE(reader.has_c2());
  EXPECT_FALSE(reader.has_subchannel());
  EXPECT_FALSE(extras.flags_known);
  EXPECT_TRUE(extras.subchannel.empty() || all_zero(extras.subchannel));
  EXPECT_LE(reader.chunk(), 5u) << "it does not ask for as much again";
}

TEST(CdReader, SubchannelComesWithItsOwnSectors) {
  OffsetDrive transport(0);
  Drive drive(transport);
  CdReader reader(drive, {.subchannel = true}, {kRegion}, kEnd);
  Bytes out(3 * cd::kRawBytes);
  Extras extras;
  EXPECT_EQ(reader.read(kRegion, 12, 3, out, &extras).delivered, 3u);
  EXPECT_EQ(out, truth(12, 3));
  EXPECT_EQ(extras.subchannel, Bytes(3 * cd::kSubchannelBytes, std::byte{0x5A}));
}

}  // namespace
}  // namespace opifex::dump
