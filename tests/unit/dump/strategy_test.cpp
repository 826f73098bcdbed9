// The order of reading, on a medium made of nothing: no drive, no files but the store.
#include "opifex/core/dump/strategy.hpp"

#include <gtest/gtest.h>

#include "opifex/core/dump/store.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

/// Blocks that hold their own number; some fail, for good or for some readings.
class FakeReader final : public SectorReader {
 public:
  std::map<Lba, int> failures;  ///< readings that fail; -1: all
  std::vector<Lba> asked;       ///< first sector of each command
  std::optional<Lba> end = {};

  std::size_t sector_bytes() const override { return cd::kUserBytes; }
  std::uint32_t chunk() const override { return 16; }
  ReadResult read(const Region&, Lba lba, std::uint32_t count, std::span<std::byte> out, Extras*) override {
    asked.push_back(lba);
    for (std::uint32_t i = 0; i < count; ++i) {
      const Lba at = lba + static_cast<Lba>(i);
      if (end && at >= *end) return {i, Trouble::out_of_range};
      if (auto f = failures.find(at); f != failures.end() && f->second != 0) {
        if (f->second > 0) --f->second;
        return {i, Trouble::read_error};
      }
      std::fill_n(out.begin() + static_cast<std::ptrdiff_t>(i * cd::kUserBytes), cd::kUserBytes,
                  static_cast<std::byte>(at & 255));
    }
    return {count, Trouble::none};
  }
  std::uint32_t skim(Lba, std::uint32_t count) override {
    ++skims;
    return count;
  }
  void forget(Lba) override { ++forgotten; }
  std::uint64_t clock_ms() const override { return asked.size() * 10; }
  int skims = 0, forgotten = 0;
};

class Reading : public testing::Test {
 protected:
  static constexpr Lba kEnd = 20'000;
  std::vector<StateRange> run(StrategyOptions options = {}) {
    const std::vector<Region> regions = {{0, kEnd, RegionKind::blocks, 0, 0}};
    store = std::make_unique<DumpStore>(WorkingFiles::beside(folder / "x.iso"), regions, cd::kUserBytes, false);
    Strategy strategy(
        reader, *store, map, std::move(options), [this] { ++saves; }, context);
    strategy.run();
    stats = strategy.stats();
    return map.ranges();
  }
  std::byte stored(Lba lba) const {
    Bytes block(cd::kUserBytes);
    store->read(lba, block);
    return block[77];
  }
  testkit::TempFolder folder;
  testkit::QuietContext context;
  FakeReader reader;
  SectorMap map{0, kEnd};
  DumpStats stats;
  std::unique_ptr<DumpStore> store;
  int saves = 0;
};

TEST_F(Reading, SoundMediaAreReadOnceInOrder) {
  EXPECT_EQ(run(), (std::vector<StateRange>{{0, kEnd, SectorState::good}}));
  EXPECT_TRUE(std::is_sorted(reader.asked.begin(), reader.asked.end()));
  EXPECT_EQ(reader.forgotten, 0);
  EXPECT_EQ(stored(12'345), static_cast<std::byte>(12'345 & 255));
  EXPECT_GE(saves, 1) << "at the end at the latest";
}

TEST_F(Reading, TheGoodPartsComeBeforeTheBadOnes) {
  for (Lba lba = 5000; lba < 5600; ++lba) reader.failures[lba] = -1;
  run({.passes = 2});
  // When the first pass reached the end, few of the bad sectors had been tried.
  const auto end = std::find_if(reader.asked.begin(), reader.asked.end(), [](Lba lba) { return lba >= kEnd - 512; });
  const auto tried = std::count_if(reader.asked.begin(), end, [](Lba lba) { return lba >= 5000 && lba < 5600; });
  EXPECT_LT(tried, 60);
  EXPECT_EQ(map.count(SectorState::unreadable), 600u);
  EXPECT_EQ(map.count(SectorState::good), static_cast<std::uint64_t>(kEnd) - 600);
  EXPECT_EQ(stored(5300), std::byte{0x55}) << "filled, never silently zero";
  EXPECT_EQ(stats.given_up[3], 600u) << "once in the first passes, twice in the rounds";
}

TEST_F(Reading, WhatGivesWayIsCountedByItsReadings) {
  reader.failures = {{100, 2}, {200, 3}, {300, 4}};
  run({.passes = 6});
  EXPECT_EQ(map.count_if(is_lost), 0u);
  EXPECT_EQ(map.count(SectorState::good) + map.count(SectorState::retried), static_cast<std::uint64_t>(kEnd));
  EXPECT_EQ(stored(300), static_cast<std::byte>(300 & 255));
  EXPECT_GT(reader.forgotten, 0) << "a repeat from the drive's buffer proves nothing";
}

TEST_F(Reading, AMediumShorterThanItClaimsEndsThere) {
  reader.end = 15'001;
  run();
  EXPECT_EQ(stats.ended_at, 15'001);
  EXPECT_EQ(map.count(SectorState::good), 15'001u);
  EXPECT_EQ(map.count_if([](SectorState s) { return s == SectorState::unreadable; }), 0u);
}

TEST_F(Reading, GoesOnWhereAMapEnds) {
  map.set(0, 9000, SectorState::good);
  map.set(400, 401, SectorState::unreadable);
  run();
  EXPECT_EQ(std::count_if(reader.asked.begin(), reader.asked.end(), [](Lba lba) { return lba < 9000; }), 1)
      << "only the damaged one";
  EXPECT_EQ(map.at(400), SectorState::retried);
  EXPECT_EQ(map.count_if(is_lost), 0u);
}

TEST_F(Reading, StopsWhenAsked) {
  std::stop_source stop;
  stop.request_stop();
  context.progress.stop = stop.get_token();
  EXPECT_THROW(run(), Error);
  EXPECT_EQ(map.count(SectorState::good), 0u);
}

TEST_F(Reading, GivesUpWhenTheTimeIsOver) {
  for (Lba lba = 100; lba < 400; ++lba) reader.failures[lba] = -1;
  run({.passes = 100, .give_up_after_ms = 500});
  EXPECT_EQ(map.count_if(is_lost), static_cast<std::uint64_t>(kEnd) - map.count(SectorState::good));
  EXPECT_GE(map.count_if(is_lost), 300u);
  EXPECT_LT(reader.asked.size(), 400u);
}

}  // namespace
}  // namespace opifex::dump
