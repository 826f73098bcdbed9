// Rounding, and numbers in the byte order a structure has them in.
#include <gtest/gtest.h>

#include "opifex/core/base/bytes.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using testkit::Random;

TEST(Rounding, IsWhatDivisionSays) {
  Random random(3);
  for (int i = 0; i < 20'000; ++i) {
    const std::uint64_t n = random.next() >> (1 + random.below(60)),
                        unit = 1 + (random.next() >> (8 + random.below(50)));
    const std::uint64_t count = ceil_div(n, unit);
    ASSERT_LT(static_cast<__uint128_t>(n), static_cast<__uint128_t>(count) * unit + (n % unit == 0 ? 1 : 0));
    ASSERT_EQ(count, n / unit + (n % unit == 0 ? 0u : 1u));
    ASSERT_EQ(round_down(n, unit), n / unit * unit);
    ASSERT_EQ(round_up(n, unit), count * unit);
  }
}

TEST(Rounding, NeverWrapsAround) {
  EXPECT_EQ(ceil_div(UINT64_MAX, std::uint64_t{2048}), UINT64_MAX / 2048 + 1);
  EXPECT_EQ(round_up(UINT64_MAX, 2048u), UINT64_MAX / 2048 * 2048) << "the last multiple there is";
  EXPECT_EQ(round_up(UINT64_MAX - 2047, 2048u), UINT64_MAX - 2047);
  EXPECT_EQ(round_up(std::uint32_t{0xFFFF'FFF0}, 0x10u), 0xFFFF'FFF0u);
  EXPECT_EQ(round_up(std::uint64_t{0}, 2048u), 0u);
}

TEST(Fields, ComeBackAsTheyWereWritten) {
  Random random(5);
  for (int i = 0; i < 5'000; ++i) {
    Bytes bytes = random.bytes(24);
    const Bytes before = bytes;
    const std::uint64_t value = random.next();
    const std::size_t at = random.below(16);
    Fields fields(bytes);
    switch (random.below(4)) {
      case 0:
        fields.le(at, value, 4);
        ASSERT_EQ(load_le32(bytes, at), static_cast<std::uint32_t>(value));
        break;
      case 1:
        fields.be(at, value, 4);
        ASSERT_EQ(load_be32(bytes, at), static_cast<std::uint32_t>(value));
        break;
      case 2:
        fields.both(at, value, 4);
        ASSERT_EQ(load_le32(bytes, at), static_cast<std::uint32_t>(value));
        ASSERT_EQ(load_be32(bytes, at + 4), static_cast<std::uint32_t>(value));
        break;
      default:
        fields.le(at, value, 8);
        ASSERT_EQ(load_le64(bytes, at), value);
    }
    for (std::size_t k = 0; k < bytes.size(); ++k)
      if (k < at || k >= at + 8) {
        ASSERT_EQ(bytes[k], before[k]) << "nothing beside the field";
      }
  }
}

}  // namespace
}  // namespace opifex
