#include "opifex/core/dump/sense.hpp"

#include <gtest/gtest.h>

namespace opifex::dump {
namespace {

Bytes fixed(int key, int asc, int ascq) {
  Bytes s(18, std::byte{0});
  s[0] = std::byte{0xF0};
  s[2] = static_cast<std::byte>(key);
  s[5] = std::byte{0x12};
  s[6] = std::byte{0x34};
  s[12] = static_cast<std::byte>(asc);
  s[13] = static_cast<std::byte>(ascq);
  return s;
}

Trouble trouble(int key, int asc, int ascq) {
  CommandReply reply;
  reply.status = kStatusCheckCondition;
  reply.sense = fixed(key, asc, ascq);
  return classify(reply);
}

TEST(Sense, ReadsFixedAndDescriptorFormat) {
  const auto f = parse_sense(fixed(3, 0x11, 5));
  ASSERT_TRUE(f);
  EXPECT_EQ(f->key, 3);
  EXPECT_EQ(f->asc, 0x11);
  EXPECT_EQ(f->ascq, 5);
  EXPECT_EQ(f->lba, 0x1234u);

  Bytes d(20, std::byte{0});
  d[0] = std::byte{0x72};
  d[1] = std::byte{6};
  d[2] = std::byte{0x28};
  d[9] = std::byte{0x0A};
  d[10] = std::byte{0x80};
  d[19] = std::byte{7};
  const auto x = parse_sense(d);
  ASSERT_TRUE(x);
  EXPECT_EQ(x->key, 6);
  EXPECT_EQ(x->asc, 0x28);
  EXPECT_EQ(x->lba, 7u);
  EXPECT_FALSE(parse_sense(Bytes(18, std::byte{0})));
  EXPECT_FALSE(parse_sense(Bytes(2, std::byte{0x70})));
}

TEST(Sense, EveryKindOfTroubleHasItsPath) {
  EXPECT_EQ(trouble(1, 0x17, 1), Trouble::none) << "recovered: the data are valid";
  EXPECT_EQ(trouble(2, 0x04, 1), Trouble::not_ready);
  EXPECT_EQ(trouble(2, 0x04, 2), Trouble::needs_start);
  EXPECT_EQ(trouble(2, 0x3A, 2), Trouble::no_medium);
  EXPECT_EQ(trouble(2, 0x30, 0), Trouble::unsupported_disc);
  EXPECT_EQ(trouble(3, 0x11, 5), Trouble::read_error);
  EXPECT_EQ(trouble(3, 0x02, 0), Trouble::read_error);
  EXPECT_EQ(trouble(4, 0x09, 1), Trouble::read_error);
  EXPECT_EQ(trouble(4, 0x44, 0), Trouble::hardware);
  EXPECT_EQ(trouble(5, 0x20, 0), Trouble::unknown_command);
  EXPECT_EQ(trouble(5, 0x21, 0), Trouble::out_of_range);
  EXPECT_EQ(trouble(5, 0x24, 0), Trouble::bad_field);
  EXPECT_EQ(trouble(5, 0x64, 0), Trouble::wrong_type);
  EXPECT_EQ(trouble(5, 0x6F, 3), Trouble::video_protection);
  EXPECT_EQ(trouble(6, 0x28, 0), Trouble::medium_changed);
  EXPECT_EQ(trouble(6, 0x29, 0), Trouble::reset);
  EXPECT_EQ(trouble(6, 0x5A, 1), Trouble::eject_pressed);
  EXPECT_EQ(trouble(11, 0x08, 0), Trouble::aborted);
  CommandReply reply;
  EXPECT_EQ(classify(reply), Trouble::none);
  reply.host_status = kHostTimeout;
  EXPECT_EQ(classify(reply), Trouble::timeout);
  reply.host_status = kHostNoConnect;
  EXPECT_EQ(classify(reply), Trouble::gone);
}

}  // namespace
}  // namespace opifex::dump
