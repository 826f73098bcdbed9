#include "opifex/core/cd/subchannel.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex::cd {
namespace {

TEST(Subchannel, KnownAnswers) {
  EXPECT_EQ(q_crc(as_view("123456789")), 0x31C3);
  EXPECT_EQ(hex(make_q({4, 1, 1, 0, 0})), "410101000000000002002832");
}

TEST(Subchannel, BothFormsHoldTheSame) {
  testkit::Random random(4);
  for (int i = 0; i < 50; ++i) {
    Subchannel packed;
    const Bytes noise = random.bytes(kSubchannelBytes);
    std::copy(noise.begin(), noise.end(), packed.begin());
    const Subchannel interleaved = to_interleaved(packed);
    ASSERT_EQ(to_packed(interleaved), packed);
    ASSERT_EQ(q_of(packed, SubchannelForm::packed), q_of(interleaved, SubchannelForm::interleaved));
  }
}

TEST(Subchannel, SilenceDecidesNoForm) { EXPECT_FALSE(detect_form(std::vector<Subchannel>(10))); }

TEST(Subchannel, ReadsWhatItMakes) {
  const Q q = parse_q(make_q({1, 12, 0, 1000, 149}));
  EXPECT_TRUE(q.crc_fits);
  EXPECT_EQ(q.control, 1);
  EXPECT_EQ(q.track, 12);
  EXPECT_EQ(q.index, 0);
  EXPECT_EQ(lba_of(*q.absolute), 1000);
  EXPECT_EQ(frames_of(*q.relative), 149);
}

}  // namespace
}  // namespace opifex::cd
