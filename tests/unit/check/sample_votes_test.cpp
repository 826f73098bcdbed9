#include "opifex/core/check/sample_votes.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

cd::Sector sector(std::uint64_t seed) {
  testkit::Random random(seed);
  const Bytes bytes = random.bytes(cd::kRawBytes);
  cd::Sector s;
  std::copy(bytes.begin(), bytes.end(), s.begin());
  return s;
}

TEST(SampleVotes, TwoReadingsThatAgreeAreEnoughIfNothingWasWrongUnflagged) {
  SampleVotes votes;
  votes.add(sector(1), {});
  EXPECT_FALSE(votes.confirmed(2));
  votes.add(sector(1), {});
  EXPECT_TRUE(votes.confirmed(2));
  EXPECT_EQ(votes.best(), sector(1));
}

TEST(SampleVotes, WhatIsFlaggedIsNeverConfirmedByAgreement) {
  SampleVotes votes;
  for (int i = 0; i < 9; ++i) votes.add(sector(1), {{40, 43}});
  EXPECT_FALSE(votes.confirmed(2));
  ASSERT_EQ(votes.open_bytes(2).size(), 1u);
  EXPECT_EQ(votes.open_bytes(2)[0].first, 40u);
  EXPECT_EQ(votes.open_bytes(2)[0].last, 43u);
  votes.add(sector(1), {});
  votes.add(sector(1), {});
  EXPECT_TRUE(votes.confirmed(2));
}

TEST(SampleVotes, ReadingsThatAreWrongElsewhereMakeAWholeOneTogether) {
  SampleVotes votes;
  for (const std::size_t at : {100u, 900u, 1700u}) {
    cd::Sector s = sector(2);
    for (std::size_t i = at; i < at + 40; ++i) s[i] ^= std::byte{0x11};
    votes.add(s, {{at, at + 39}});
  }
  EXPECT_TRUE(votes.confirmed(2)) << "each sample came twice without a flag";
  EXPECT_EQ(votes.best(), sector(2));
}

TEST(SampleVotes, ADriveThatIsWrongWithoutAFlagIsAskedOnceMore) {
  SampleVotes votes;
  cd::Sector wrong = sector(3);
  wrong[500] ^= std::byte{1};
  votes.add(wrong, {});
  votes.add(sector(3), {});
  votes.add(sector(3), {});
  EXPECT_FALSE(votes.confirmed(2)) << "two of three are not three";
  votes.add(sector(3), {});
  EXPECT_TRUE(votes.confirmed(2));
  EXPECT_EQ(votes.best(), sector(3));
  SampleVotes rivals;
  for (int i = 0; i < 4; ++i) {
    rivals.add(wrong, {});
    rivals.add(sector(3), {});
  }
  EXPECT_FALSE(rivals.confirmed(2)) << "nobody knows which is right";
}

}  // namespace
}  // namespace opifex
