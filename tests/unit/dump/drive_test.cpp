// A drive's patience: what is waited for, what is tried again and how often, what ends a dump and in which words.
#include "opifex/core/dump/drive.hpp"

#include <algorithm>
#include <deque>
#include <map>
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/cd/sector.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

constexpr unsigned kTestUnitReady = 0x00, kInquiry = 0x12, kStartStop = 0x1B, kModeSense = 0x5A, kSetSpeed = 0xBB,
                   kReadCd = 0xBE, kReadSubchannel = 0x42, kCapacity = 0x25;

CommandReply sense(int key, int asc, int ascq, std::optional<std::uint32_t> lba = {}) {
  CommandReply reply;
  reply.status = kStatusCheckCondition;
  reply.sense.assign(18, std::byte{0});
  reply.sense[0] = static_cast<std::byte>(lba ? 0xF0 : 0x70);
  reply.sense[2] = static_cast<std::byte>(key);
  for (std::size_t i = 0; lba && i < 4; ++i) reply.sense[3 + i] = static_cast<std::byte>(*lba >> (24 - 8 * i) & 255);
  reply.sense[12] = static_cast<std::byte>(asc);
  reply.sense[13] = static_cast<std::byte>(ascq);
  return reply;
}

CommandReply host(unsigned status) {
  CommandReply reply;
  reply.host_status = status;
  return reply;
}

/// Answers each command with the next reply written for it, and when there is none left with success.
class Scripted final : public DriveTransport {
 public:
  CommandReply execute(ByteView cdb, DataDirection, std::span<std::byte> buffer, std::uint32_t) override {
    const auto code = std::to_integer<unsigned>(cdb[0]);
    sent.emplace_back(cdb.begin(), cdb.end());
    if (auto& replies = script[code]; !replies.empty()) {
      CommandReply reply = replies.front();
      if (replies.size() > 1 || !for_ever.contains(code)) replies.pop_front();
      return reply;
    }
    CommandReply good;
    const Bytes& answer = data[code];
    good.transferred = answer.empty() ? buffer.size() : std::min(buffer.size(), answer.size());
    std::copy_n(answer.begin(), std::min(answer.size(), buffer.size()), buffer.begin());
    return good;
  }
  void wait(std::uint32_t ms) override { waited += ms; }
  std::uint64_t clock_ms() const override { return waited; }
  std::string name() const override { return "scripted"; }

  std::size_t count(unsigned code) const {
    return static_cast<std::size_t>(std::count_if(
        sent.begin(), sent.end(), [&](const Bytes& c) { return std::to_integer<unsigned>(c[0]) == code; }));
  }
  std::map<unsigned, std::deque<CommandReply>> script;
  std::set<unsigned> for_ever;  // the last reply is given again and again
  std::map<unsigned, Bytes> data;
  std::vector<Bytes> sent;
  std::uint64_t waited = 0;
};

class DriveTest : public testing::Test {
 protected:
  Outcome read() {
    Bytes out(cd::kRawBytes);
    return drive.read_cd(100, 1, {}, out);
  }
  /// The code of the Error that reading ends with.
  std::string failure() {
    try {
      read();
      return "none";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.file, "scripted");
      EXPECT_FALSE(e.details.what.empty());
      return e.details.code;
    }
  }
  void always(const CommandReply& reply) {
    transport.script[kReadCd] = {reply};
    transport.for_ever.insert(kReadCd);
  }
  Scripted transport;
  Drive drive{transport};
};

TEST_F(DriveTest, WaitsAMinuteForADriveThatIsNotReadyAndNoLonger) {
  transport.script[kReadCd] = {sense(2, 4, 1), sense(2, 4, 1), sense(2, 4, 7)};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(transport.waited, 1500u);
  always(sense(2, 4, 1));
  transport.waited = 0;
  EXPECT_EQ(failure(), "not_ready");
  EXPECT_EQ(transport.waited, 60'000u);
}

TEST_F(DriveTest, ADriveThatIsBusyIsWaitedForToo) {
  CommandReply busy;
  busy.status = kStatusBusy;
  transport.script[kReadCd] = {busy, busy};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(transport.count(kReadCd), 3u);
}

TEST_F(DriveTest, StartsADiscThatStandsStill) {
  transport.script[kReadCd] = {sense(2, 4, 2)};
  EXPECT_TRUE(read().ok());
  ASSERT_EQ(transport.count(kStartStop), 1u);
  EXPECT_EQ(transport.sent[1][4], std::byte{1}) << "start, do not eject";
  always(sense(2, 4, 2));
  EXPECT_EQ(failure(), "not_ready");
  EXPECT_EQ(transport.count(kStartStop), 4u) << "three more, then it is given up";
}

TEST_F(DriveTest, FaultsOfItsOwnArePausedForThreeTimes) {
  transport.script[kReadCd] = {sense(4, 0x44, 0), sense(4, 0x44, 0), sense(4, 0x44, 0)};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(transport.waited, 3000u);
  always(sense(4, 0x44, 0));
  EXPECT_EQ(failure(), "drive_failed");
}

TEST_F(DriveTest, AnAbortedCommandIsRepeatedAndThenAReadError) {
  transport.script[kReadCd] = {sense(11, 0, 0), host(7)};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(transport.count(kReadCd), 3u);
  always(sense(11, 0, 0));
  EXPECT_EQ(read().trouble, Trouble::read_error);
  EXPECT_EQ(transport.count(kReadCd), 7u);
}

TEST_F(DriveTest, AReadErrorIsAnAnswerWithItsPlace) {
  transport.script[kReadCd] = {sense(3, 0x11, 5, 107), sense(3, 0x11, 5)};
  const Outcome placed = read();
  EXPECT_EQ(placed.trouble, Trouble::read_error);
  EXPECT_EQ(placed.failed_lba, 107u);
  EXPECT_EQ(placed.text, "sense 03/11/05");
  EXPECT_FALSE(read().failed_lba) << "the address does not count unless it is called valid";
  EXPECT_EQ(transport.count(kReadCd), 2u) << "repeating it is the strategy's business";
}

TEST_F(DriveTest, WhatEndsADumpSaysWhy) {
  const std::vector<std::pair<CommandReply, std::string>> cases = {{sense(2, 0x3A, 0), "no_medium"},
                                                                   {sense(2, 0x30, 0), "unsupported_disc"},
                                                                   {sense(5, 0x6F, 3), "video_protection"},
                                                                   {sense(6, 0x5A, 1), "eject_pressed"},
                                                                   {host(kHostNoConnect), "drive_gone"}};
  for (const auto& [reply, code] : cases) {
    transport.script[kReadCd] = {reply};
    EXPECT_EQ(failure(), code);
  }
}

TEST_F(DriveTest, AChangedMediumIsAskedAboutAndTheSpeedSetAgain) {
  int asked = 0;
  drive.on_change([&] { ++asked; });
  drive.set_speed(1411);
  transport.script[kReadCd] = {sense(6, 0x28, 0)};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(asked, 1);
  EXPECT_EQ(transport.count(kSetSpeed), 2u);
  // A reset loses the speed, and what happened meanwhile nobody saw.
  transport.script[kReadCd] = {sense(6, 0x29, 0)};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(asked, 2);
  transport.script[kReadCd] = {sense(2, 4, 1), sense(2, 4, 1)};
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(asked, 3) << "it was not ready for a while";
  EXPECT_TRUE(read().ok());
  EXPECT_EQ(asked, 3) << "nothing happened";
  EXPECT_EQ(transport.count(kSetSpeed), 3u);
}

TEST_F(DriveTest, AnotherDiscEndsItEveryTimeItIsSeen) {
  drive.on_change([] { throw Error({.code = "other_disc", .what = "this is another disc", .file = "scripted"}); });
  for (int twice = 0; twice < 2; ++twice) {
    transport.script[kReadCd] = {sense(6, 0x28, 0)};
    EXPECT_EQ(failure(), "other_disc");
  }
}

TEST_F(DriveTest, ADriveThatOnlyAsksForAttentionIsGivenUp) {
  always(sense(6, 0x29, 0));
  EXPECT_EQ(failure(), "drive_failed");
  EXPECT_EQ(transport.count(kReadCd), 9u);
}

TEST_F(DriveTest, RecoveringWaitsUntilItAnswersAgain) {
  transport.script[kTestUnitReady] = {host(kHostTimeout), host(kHostTimeout), sense(2, 4, 1)};
  drive.set_speed(706);
  EXPECT_TRUE(drive.recover());
  EXPECT_EQ(transport.waited, 1500u);
  EXPECT_EQ(transport.count(kSetSpeed), 2u);
  transport.script[kTestUnitReady] = {host(kHostNoConnect)};
  EXPECT_FALSE(drive.recover());
  transport.script[kTestUnitReady] = {host(kHostTimeout)};
  transport.for_ever.insert(kTestUnitReady);
  transport.waited = 0;
  EXPECT_FALSE(drive.recover());
  EXPECT_EQ(transport.waited, 90'000u);
}

TEST_F(DriveTest, TellsADriveFromOtherDevices) {
  Bytes inquiry(36, std::byte{' '});
  const auto put = [&](std::size_t at, std::string_view text) {
    std::copy(as_view(text).begin(), as_view(text).end(), inquiry.begin() + static_cast<std::ptrdiff_t>(at));
  };
  put(8, "LANTERN");
  put(16, "SPINNER 16");
  put(32, "1.02");
  inquiry[0] = std::byte{5};
  transport.data[kInquiry] = inquiry;
  transport.data[kModeSense] = Bytes(8);
  drive.make_ready();
  EXPECT_EQ(drive.facts().name(), "LANTERN SPINNER 16 1.02");
  EXPECT_FALSE(drive.facts().told);
  for (const std::byte type : {std::byte{0}, std::byte{1}, std::byte{0x1F}}) {
    transport.data[kInquiry][0] = type;
    EXPECT_THROW(Drive(transport).make_ready(), Error);
  }
}

TEST_F(DriveTest, ItsBufferIsBelieved) {
  Bytes inquiry(36, std::byte{' '});
  inquiry[0] = std::byte{5};
  transport.data[kInquiry] = inquiry;
  const auto with_buffer = [&](unsigned kib) {
    Bytes page(8 + 20);
    page[8] = std::byte{0x2A};
    page[8 + 5] = std::byte{2};  // accurate stream
    page[8 + 8] = std::byte{0x1B};
    page[8 + 9] = std::byte{0x90};  // 7056 kB/s
    page[8 + 12] = static_cast<std::byte>(kib >> 8);
    page[8 + 13] = static_cast<std::byte>(kib & 255);
    transport.data[kModeSense] = page;
    Drive d(transport);
    d.make_ready();
    EXPECT_TRUE(d.facts().told);
    EXPECT_TRUE(d.facts().accurate_stream);
    EXPECT_EQ(d.facts().top_speed_kbs, 7056u);
    return d.buffer_bytes();
  };
  constexpr std::uint64_t kSpare = 256 << 10;
  EXPECT_EQ(with_buffer(512), (512u << 10) + kSpare);
  EXPECT_EQ(with_buffer(0), (2u << 20) + kSpare) << "nothing told";
  EXPECT_EQ(with_buffer(65'000), (65'000u << 10) + kSpare) << "too much costs time, too little a wrong proof";
}

TEST_F(DriveTest, CodesOfTheDiscCountIfTheyAreWhole) {
  const auto reply = [&](std::string_view text, bool valid) {
    Bytes data(24);
    data[8] = valid ? std::byte{0x80} : std::byte{0};
    std::copy(as_view(text).begin(), as_view(text).end(), data.begin() + 9);
    transport.data[kReadSubchannel] = data;
  };
  reply("2600000000017", true);
  EXPECT_EQ(drive.catalogue(), "2600000000017");
  reply("2600000000017", false);
  EXPECT_FALSE(drive.catalogue());
  reply("0000000000000", true);
  EXPECT_FALSE(drive.catalogue()) << "drives call zeros valid";
  reply("XXPRX2600001", true);
  EXPECT_EQ(drive.isrc(2), "XXPRX2600001");
  reply("XXPRX26\x01\x02\x03\x04\x05", true);
  EXPECT_FALSE(drive.isrc(2));
  transport.data[kReadSubchannel] = Bytes(12);
  EXPECT_FALSE(drive.catalogue()) << "a reply that is cut";
}

TEST_F(DriveTest, ACapacityThatSaysNothingIsNone) {
  transport.data[kCapacity] = {std::byte{0}, std::byte{0}, std::byte{1}, std::byte{0xFF}, {}, {}, std::byte{8}, {}};
  ASSERT_TRUE(drive.capacity());
  EXPECT_EQ(drive.capacity()->blocks, 512u);
  EXPECT_EQ(drive.capacity()->block_bytes, 2048u);
  std::fill_n(transport.data[kCapacity].begin(), 4, std::byte{0xFF});
  EXPECT_EQ(drive.capacity()->blocks, 0u);
  transport.data[kCapacity].resize(5);
  EXPECT_FALSE(drive.capacity());
}

}  // namespace
}  // namespace opifex::dump
