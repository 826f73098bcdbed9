#include <set>

#include <gtest/gtest.h>

#include "opifex/core/cd/examine.hpp"

#include "testkit.hpp"

namespace opifex::cd {
namespace {

using testkit::Random;

Sector make(SectorKind kind, Random& random) {
  const Bytes user = random.bytes(kUserBytes);
  const std::span<const std::byte, kUserBytes> data(user);
  Sector s;
  if (kind == SectorKind::mode1)
    make_mode1(s, 4242, data);
  else
    make_form1(s, 4242, {0, 0, 0x89, 0}, data);
  return s;
}

/// Damages `count` different covered bytes.
Sector scatter(Sector s, std::size_t count, Random& random) {
  std::set<std::size_t> places;
  while (places.size() < count) places.insert(24 + random.below(kRawBytes - 24));
  for (const std::size_t at : places) s[at] ^= static_cast<std::byte>(1 + random.below(255));
  return s;
}

Sector burst(Sector s, std::size_t at, std::size_t length, Random& random) {
  for (std::size_t i = at; i < at + length; ++i) s[i] ^= static_cast<std::byte>(1 + random.below(255));
  return s;
}

class RepairableKind : public testing::TestWithParam<SectorKind> {};

TEST_P(RepairableKind, MendsSixteenRandomBytesAlwaysAndTwentyFourNearlyAlways) {
  Random random(11);
  int mended_24 = 0;
  constexpr int kRounds = 100;
  for (int i = 0; i < kRounds; ++i) {
    const Sector whole = make(GetParam(), random);
    for (const std::size_t count : {1u, 8u, 16u, 24u}) {
      Sector s = scatter(whole, count, random);
      const bool mended = repair(s, {});
      if (count <= 16) {
        ASSERT_TRUE(mended) << count << " bytes, round " << i;
      }
      if (mended) {
        ASSERT_EQ(s, whole);
      }
      mended_24 += count == 24 && mended ? 1 : 0;
    }
  }
  EXPECT_GE(mended_24, kRounds * 95 / 100);
}

TEST_P(RepairableKind, MendsAnyBurstOf86Bytes) {
  Random random(12);
  const Sector whole = make(GetParam(), random);
  for (std::size_t at = 24; at + 86 <= kRawBytes; at += 31) {
    Sector s = burst(whole, at, 86, random);
    ASSERT_TRUE(repair(s, {4242, true})) << at;
    ASSERT_EQ(s, whole) << at;
  }
}

TEST_P(RepairableKind, MendsBurstsOf172BytesWhenTold) {
  Random random(13);
  const Sector whole = make(GetParam(), random);
  for (std::size_t at = 24; at + 172 <= 2076; at += 97) {
    Sector s = burst(whole, at, 172, random);
    const std::array known = {Erasure{at, at + 171}};
    ASSERT_TRUE(repair(s, {}, known)) << at;
    ASSERT_EQ(s, whole) << at;
  }
}

TEST_P(RepairableKind, NeverClaimsARepairThatIsNone) {
  Random random(14);
  for (int i = 0; i < 20; ++i) {
    const Sector damaged = burst(make(GetParam(), random), 100 + random.below(1500), 600, random);
    Sector s = damaged;
    ASSERT_FALSE(repair(s, {4242, true}));
    ASSERT_EQ(s, damaged) << "the sector must stay as it is";
  }
}

TEST_P(RepairableKind, RestoresSyncAndAddressFromThePlace) {
  Random random(15);
  const Sector whole = make(GetParam(), random);
  Sector s = whole;
  s[3] = s[4] = std::byte{0};
  s[12] = std::byte{0xFF};
  // The address is gone, so the sync alone must say that this is data.
  s[3] = s[4] = std::byte{0xFF};
  ASSERT_TRUE(repair(s, {4242, true}));
  EXPECT_EQ(s, whole);
  s[5] = std::byte{0x11};
  ASSERT_TRUE(repair(s, {4242, true}));
  EXPECT_EQ(s, whole);
}

INSTANTIATE_TEST_SUITE_P(Kinds, RepairableKind, testing::Values(SectorKind::mode1, SectorKind::mode2_form1),
                         [](const testing::TestParamInfo<SectorKind>& i) { return std::string(to_string(i.param)); });

TEST(Repair, LeavesSoundSectorsAndOtherPlacesAlone) {
  Random random(16);
  Sector s = make(SectorKind::mode1, random);
  const Sector whole = s;
  EXPECT_FALSE(repair(s, {4242, true})) << "nothing to do";
  EXPECT_FALSE(repair(s, {4243, true})) << "a sound sector in another's place is not re-addressed";
  EXPECT_EQ(s, whole);
}

}  // namespace
}  // namespace opifex::cd
