// The fast variants against the reference, and both against known answers.
#include "opifex/core/cd/parity.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex::cd {
namespace {

class EveryVariant : public testing::TestWithParam<ParityVariant> {
 protected:
  void SetUp() override {
    if (!GetParam().supported) GTEST_SKIP() << "this processor lacks it";
  }
  testkit::Random random{7};
  Sector random_sector() {
    Sector s;
    const Bytes bytes = random.bytes(kRawBytes);
    std::copy(bytes.begin(), bytes.end(), s.begin());
    return s;
  }
};

TEST_P(EveryVariant, EdcAgreesAtAllLengthsAndAlignments) {
  const Bytes bytes = random.bytes(2600);
  for (std::size_t n = 0; n < 2400; n += n < 300 ? 1 : 7)
    for (std::size_t at = 0; at < 17; at += n < 300 ? 1 : 5) {
      const ByteView part = ByteView(bytes).subspan(at, n);
      ASSERT_EQ(GetParam().edc(part, 0), edc_reference(part)) << n << " at " << at;
      ASSERT_EQ(GetParam().edc(part, 0x12345678), edc_reference(part, 0x12345678)) << n << " at " << at;
    }
}

TEST_P(EveryVariant, EccAgreesOnRandomSectors) {
  for (int i = 0; i < 300; ++i)
    for (const EccHeader header : {EccHeader::counts, EccHeader::zero}) {
      Sector fast = random_sector(), plain = fast;
      GetParam().compute_ecc(fast, header);
      compute_ecc_reference(plain, header);
      ASSERT_EQ(fast, plain);
      ASSERT_TRUE(GetParam().ecc_is_right(fast, header));
    }
}

TEST_P(EveryVariant, CheckingSeesEverySingleWrongByte) {
  for (const EccHeader header : {EccHeader::counts, EccHeader::zero}) {
    Sector s = random_sector();
    compute_ecc_reference(s, header);
    for (std::size_t at = 0; at < kRawBytes; ++at) {
      s[at] ^= std::byte{0x10};
      const bool covered = at >= (header == EccHeader::zero ? 16u : 12u);
      ASSERT_EQ(GetParam().ecc_is_right(s, header), !covered) << at;
      s[at] ^= std::byte{0x10};
    }
  }
}

TEST_P(EveryVariant, NeverReadsOrWritesOutsideTheSector) {
  // On the heap to the byte: the address sanitizer sees a step outside.
  const auto tight = std::make_unique<std::byte[]>(kRawBytes);
  const SectorSpan s(tight.get(), kRawBytes);
  std::fill(s.begin(), s.end(), std::byte{0x5A});
  GetParam().compute_ecc(s, EccHeader::counts);
  EXPECT_TRUE(GetParam().ecc_is_right(s, EccHeader::counts));
  for (std::size_t i = 0; i < kEccAt; ++i) ASSERT_EQ(s[i], std::byte{0x5A}) << i;
}

INSTANTIATE_TEST_SUITE_P(Parity, EveryVariant, testing::ValuesIn(parity_variants()),
                         [](const testing::TestParamInfo<ParityVariant>& i) { return std::string(i.param.name); });

TEST(Parity, KnownAnswers) {
  EXPECT_EQ(edc(as_view("123456789")), 0x6EC2EDC4u);
  EXPECT_EQ(edc_reference(as_view("123456789")), 0x6EC2EDC4u);
  EXPECT_EQ(edc(Bytes(2064)), 0u);
}

TEST(Parity, TheFieldIsTheStandards) {
  EXPECT_EQ(gf_multiply(0x80, 2), 0x1D);
  EXPECT_EQ(gf_multiply(3, 0xF4), 1) << "1 / (alpha + 1)";
  for (int i = 0; i < 255; ++i) EXPECT_EQ(gf_log(gf_power(i)), i);
}

TEST(Parity, PlacesCoverEveryByteOnceInEachCode) {
  std::vector<int> p(kRawBytes), q(kRawBytes);
  for (int w = 0; w < kPWords; ++w)
    for (int m = 0; m < kPLength; ++m) ++p[static_cast<std::size_t>(p_place(w, m))];
  for (int w = 0; w < kQWords; ++w)
    for (int m = 0; m < kQLength; ++m) ++q[static_cast<std::size_t>(q_place(w, m))];
  for (std::size_t i = 0; i < kRawBytes; ++i) {
    EXPECT_EQ(p[i], i >= 12 && i < 2248 ? 1 : 0) << i;
    EXPECT_EQ(q[i], i >= 12 ? 1 : 0) << i;
  }
}

}  // namespace
}  // namespace opifex::cd
