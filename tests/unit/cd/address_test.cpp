#include "opifex/core/cd/address.hpp"

#include <gtest/gtest.h>

namespace opifex::cd {
namespace {

TEST(Address, BordersOfTheDisc) {
  EXPECT_EQ(to_string(msf_of_lba(0)), "00:02:00");
  EXPECT_EQ(to_string(msf_of_lba(-1)), "00:01:74");
  EXPECT_EQ(to_string(msf_of_lba(-150)), "00:00:00");
  EXPECT_EQ(to_string(msf_of_lba(-151)), "99:59:74") << "the lead-in wraps";
  EXPECT_EQ(to_string(msf_of_lba(449'849)), "99:59:74");
}

TEST(Address, EveryLbaSurvivesTheRoundTrip) {
  for (Lba lba = -150; lba < 449'850; lba += 37) ASSERT_EQ(lba_of(msf_of_lba(lba)), lba);
}

TEST(Address, ParsesTimesAndNothingElse) {
  EXPECT_EQ(parse_msf("0:0:0"), (Msf{0, 0, 0}));
  EXPECT_EQ(parse_msf("100:59:74"), (Msf{100, 59, 74}));
  for (const char* bad : {"", "1:2", "1:2:3:4", "00:60:00", "00:00:75", "1000:00:00", "00:000:00", "a:b:c", "-1:00:00",
                          " 0:0:0", "0:0:0 ", ":0:0"})
    EXPECT_FALSE(parse_msf(bad)) << bad;
}

TEST(Address, Bcd) {
  for (int i = 0; i < 100; ++i) EXPECT_EQ(from_bcd(to_bcd(i)), i);
  EXPECT_FALSE(from_bcd(std::byte{0x1A}));
  EXPECT_FALSE(from_bcd(std::byte{0xA1}));
  EXPECT_FALSE(msf_from_bcd(std::byte{0}, std::byte{0x60}, std::byte{0}));
  EXPECT_FALSE(msf_from_bcd(std::byte{0}, std::byte{0}, std::byte{0x75}));
}

}  // namespace
}  // namespace opifex::cd
