#include "opifex/core/dump/buffer_model.hpp"

#include <deque>

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

TEST(BufferModel, ARepeatIsFreshOnceABufferWasReadInBetween) {
  BufferModel model(0, 2000, 100);
  EXPECT_TRUE(model.is_fresh(10));
  model.take(10, 1);
  EXPECT_FALSE(model.is_fresh(10));
  model.take(500, 99);
  EXPECT_FALSE(model.is_fresh(10));
  model.take(599, 1);
  EXPECT_TRUE(model.is_fresh(10));
  // What was read twice in a row pushes nothing out.
  model.take(10, 1);
  for (int i = 0; i < 5; ++i) model.take(700, 90);
  EXPECT_FALSE(model.is_fresh(10));
}

TEST(BufferModel, WhatMayHaveBeenReadAheadIsFreshOnlyAsTheStreamGoesOn) {
  BufferModel model(0, 2000, 300);
  model.take(100, 10);
  EXPECT_TRUE(model.is_fresh(110, 150)) << "it goes on where it stopped";
  EXPECT_FALSE(model.is_fresh(120, 150));
  EXPECT_FALSE(model.is_fresh(90, 120)) << "some of it was read just now";
  EXPECT_TRUE(model.is_fresh(110 + static_cast<Lba>(BufferModel::kReadAhead), 400));
  EXPECT_TRUE(model.is_fresh(20, 100)) << "in front of it nothing is read ahead";
}

TEST(BufferModel, ALargerOneHoldsWhatWasThoughtToBeGone) {
  BufferModel model(0, 2000, 100);
  model.take(10, 1);
  model.take(500, 120);
  EXPECT_TRUE(model.is_fresh(10));
  model.enlarge(200);
  EXPECT_EQ(model.length(), 200u);
  EXPECT_FALSE(model.is_fresh(10));
  model.take(800, 80);
  EXPECT_TRUE(model.is_fresh(10));
}

TEST(BufferModel, WithoutABufferAllIsFresh) {
  BufferModel model(0, 100, 0);
  model.take(5, 10);
  EXPECT_TRUE(model.is_fresh(5));
}

/// A buffer as drives have it: first in, first out; repeats come from it.
TEST(BufferModel, NeverCallsFreshWhatADriveStillHolds) {
  for (std::uint64_t seed = 1; seed <= 40; ++seed) {
    testkit::Random random(seed);
    constexpr Lba kEnd = 600;
    const std::size_t room = 20 + random.below(200);
    BufferModel model(0, kEnd, room);
    std::deque<Lba> held;
    const auto holds = [&](Lba lba) { return std::find(held.begin(), held.end(), lba) != held.end(); };
    for (int step = 0; step < 400; ++step) {
      const auto lba = static_cast<Lba>(random.below(kEnd));
      const auto count = static_cast<std::uint32_t>(1 + random.below(60));
      for (std::uint32_t i = 0; i < count && lba + static_cast<Lba>(i) < kEnd; ++i) {
        const Lba at = lba + static_cast<Lba>(i);
        const bool from_buffer = holds(at);
        ASSERT_FALSE(from_buffer && model.is_fresh(at)) << "seed " << seed << ", step " << step << ", sector " << at;
        if (!from_buffer) held.push_back(at);
        if (held.size() > room) held.pop_front();
        model.take(at, 1);
      }
    }
  }
}

}  // namespace
}  // namespace opifex::dump
