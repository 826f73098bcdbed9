// The stand-in keeps the rules it is documented by: otherwise the dump tests prove nothing.
#include "opifex/core/dump/sim.hpp"

#include <gtest/gtest.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/dump/drive.hpp"
#include "opifex/core/dump/reader.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

SimDescription data_disc(std::vector<SimDefect> defects = {}) {
  SimDescription d;
  d.seed = 7;
  SimTrack track;
  track.sectors = 600;
  d.discs.emplace_back().sessions = {{track}};
  d.defects = std::move(defects);
  return d;
}

SimDefect defect(DefectKind kind, cd::Lba first, cd::Lba last) {
  SimDefect d;
  d.kind = kind;
  d.first = first;
  d.last = last;
  return d;
}

/// What a reading came to: sectors delivered.
std::size_t delivered(Drive& drive, cd::Lba lba, std::uint32_t count) {
  Bytes out(count * cd::kRawBytes);
  return drive.read_cd(lba, count, {}, out).bytes / cd::kRawBytes;
}

TEST(SimulatedDrive, DrawsFollowTheirKnownAnswers) {
  EXPECT_EQ(sim_mix(0), 0xE220A8397B1DCDAFu);
  EXPECT_EQ(sim_draw(7, 1234, 0, 1), 0x32B7D1E3DFC6C841u);
  EXPECT_EQ(sim_draw(7, 1234, 1, 1), 0x7EFFF53746C237CFu);
  EXPECT_EQ(sim_draw(7, 1234, 2, 1), 0xA40F2ADF581DB9E0u);
}

TEST(SimulatedDrive, GeneratedSectorsAreSound) {
  const auto transport = simulate_drive(data_disc(), "sim");
  Drive drive(*transport);
  drive.make_ready();
  cd::Sector s{};
  ASSERT_TRUE(drive.read_cd(321, 1, {}, s).ok());
  const auto report = cd::examine(s, {321, true});
  EXPECT_EQ(report.kind, cd::SectorKind::mode1);
  EXPECT_EQ(report.problems, 0u);
}

TEST(SimulatedDrive, FailsAtTheFirstBadSectorAndDeliversThoseBefore) {
  const auto transport = simulate_drive(data_disc({defect(DefectKind::unreadable, 105, 110)}), "sim");
  Drive drive(*transport);
  drive.make_ready();
  Bytes out(20 * cd::kRawBytes);
  const Outcome outcome = drive.read_cd(100, 20, {}, out);
  EXPECT_EQ(outcome.trouble, Trouble::read_error);
  EXPECT_EQ(outcome.bytes, 5 * cd::kRawBytes);
  EXPECT_EQ(outcome.failed_lba, 105u);
}

TEST(SimulatedDrive, TheBufferRepeatsAnErrorUntilItHoldsOtherSectors) {
  SimDefect second_time = defect(DefectKind::after, 50, 50);
  second_time.n = 2;
  const auto transport = simulate_drive(data_disc({second_time}), "sim");
  Drive drive(*transport);
  drive.make_ready();
  EXPECT_EQ(delivered(drive, 50, 1), 0u);
  EXPECT_EQ(delivered(drive, 50, 1), 0u) << "from the buffer: no new reading";
  for (cd::Lba lba = 300; lba < 500; lba += 20) delivered(drive, lba, 20);
  EXPECT_EQ(delivered(drive, 50, 1), 1u) << "now it was read again";
}

TEST(SimulatedDrive, RefusesWhatItsFeaturesLack) {
  SimDescription d = data_disc();
  d.drive.c2 = false;
  d.drive.max_blocks = 8;
  const auto transport = simulate_drive(d, "sim");
  Drive drive(*transport);
  drive.make_ready();
  Bytes out(9 * 2646);
  EXPECT_EQ(drive.read_cd(0, 1, {true, SubchannelPart::none}, out).trouble, Trouble::bad_field);
  EXPECT_EQ(drive.read_cd(0, 9, {}, out).trouble, Trouble::bad_field);
  EXPECT_EQ(drive.read_cd(0, 8, {}, out).trouble, Trouble::none);
  EXPECT_EQ(drive.read_cd(600, 1, {}, out).trouble, Trouble::out_of_range);
}

TEST(SimulatedDrive, TimeIsVirtualAndTimeOutsCost) {
  SimDefect hang = defect(DefectKind::hang, 10, 10);
  hang.ms = 600'000;
  const auto transport = simulate_drive(data_disc({hang}), "sim");
  Drive drive(*transport);
  drive.make_ready();
  Bytes out(cd::kRawBytes);
  EXPECT_EQ(drive.read_cd(10, 1, {}, out).trouble, Trouble::timeout);
  EXPECT_GE(transport->clock_ms(), 60'000u);
  EXPECT_TRUE(drive.recover());
  EXPECT_TRUE(drive.read_cd(10, 1, {}, out).ok()) << "it hangs only once";
}

TEST(SimulatedDrive, BecomesReadyAfterAWhile) {
  SimDescription d = data_disc();
  d.unit_attention = {0x062900, 0x062800};
  d.becoming_ready_ms = 7000;
  const auto transport = simulate_drive(d, "sim");
  Drive drive(*transport);
  drive.make_ready();
  EXPECT_GE(transport->clock_ms(), 7000u);
  d.medium = false;
  const auto empty = simulate_drive(d, "sim");
  Drive none(*empty);
  EXPECT_THROW(none.make_ready(), Error);
}

TEST(FindJoin, OnlyAUniqueFitCounts) {
  testkit::Random random(4);
  const Bytes noise = random.bytes(8 * cd::kRawBytes);
  const ByteView reference = ByteView(noise).subspan(3 * cd::kRawBytes + 400, cd::kRawBytes);
  EXPECT_EQ(find_join(noise, reference, 3 * cd::kRawBytes, 4800), 400);
  EXPECT_EQ(find_join(noise, reference, 4 * cd::kRawBytes, 4800), 400 - static_cast<std::ptrdiff_t>(cd::kRawBytes));
  EXPECT_FALSE(find_join(noise, reference, 3 * cd::kRawBytes, 396)) << "too far";
  EXPECT_FALSE(find_join(Bytes(8 * cd::kRawBytes), Bytes(cd::kRawBytes), 3 * cd::kRawBytes, 4800)) << "silence";
  Bytes twice = noise;
  std::copy(noise.begin(), noise.begin() + 2352, twice.begin() + 2400);
  EXPECT_FALSE(find_join(twice, ByteView(twice).first(2352), 1200, 4800)) << "two places fit";
}

}  // namespace
}  // namespace opifex::dump
