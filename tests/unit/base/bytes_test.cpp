#include "opifex/core/base/bytes.hpp"

#include <gtest/gtest.h>

namespace opifex {
namespace {

TEST(Bytes, LoadBothByteOrders) {
  const Bytes b = to_bytes("\x01\x02\x03\x04");
  EXPECT_EQ(load_le16(b, 1), 0x0302);
  EXPECT_EQ(load_le32(b, 0), 0x04030201u);
  EXPECT_EQ(load_be16(b, 0), 0x0102);
  EXPECT_EQ(load_be32(b, 0), 0x01020304u);
}

TEST(Bytes, AllZeroSeesOneBitAnywhere) {
  for (std::size_t n : {0u, 1u, 2u, 31u, 64u, 4096u}) {
    Bytes b(n);
    EXPECT_TRUE(all_zero(b)) << n;
    for (std::size_t i = 0; i < n; i += 13) {
      b[i] = std::byte{0x80};
      EXPECT_FALSE(all_zero(b)) << n << " at " << i;
      b[i] = std::byte{0};
    }
  }
}

TEST(CheckedArithmetic, RefusesOverflow) {
  EXPECT_EQ(checked_mul<std::uint32_t>(65536, 65535), 4294901760u);
  EXPECT_FALSE(checked_mul<std::uint32_t>(65536, 65536));
  EXPECT_FALSE(checked_add<std::uint64_t>(UINT64_MAX, 1));
}

TEST(FieldReader, NamesFileOffsetAndFieldOfAnOverrun) {
  const Bytes b(10);
  FieldReader reader{b, "moth.wav", 100};
  reader.take(8, "head");
  try {
    reader.little_endian<std::uint32_t>("sample rate");
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.file, "moth.wav");
    EXPECT_EQ(e.details.offset, 108u);
    EXPECT_EQ(e.details.what, "sample rate is cut short");
    EXPECT_EQ(e.details.found, "2 bytes");
  }
}

}  // namespace
}  // namespace opifex
