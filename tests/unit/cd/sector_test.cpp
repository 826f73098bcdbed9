#include "opifex/core/cd/sector.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"

#include "testkit.hpp"

namespace opifex::cd {
namespace {

const Bytes kZeros(kForm2Bytes);
std::span<const std::byte, kUserBytes> zeros2048() { return std::span(kZeros).first<kUserBytes>(); }
std::span<const std::byte, kForm2Bytes> zeros2324() { return std::span(kZeros).first<kForm2Bytes>(); }

TEST(Sector, KnownAnswers) {
  Sector s;
  make_mode1(s, 0, zeros2048());
  EXPECT_EQ(digest_of("sha256", s), "b4f18ab66709c9b3fdef2721cc323e031b6728f3ca6c57b7c435c96189222250");
  scramble(s);
  EXPECT_EQ(digest_of("sha256", s), "b2c91211b98919e43eb75d5d1eba18821c607badf31e60af4d166883a96cd68f");
  make_mode1(s, 16, zeros2048());
  EXPECT_EQ(digest_of("sha256", s), "835dc0be84939e86244c0573e7d6a7cea535e65917f0a63ff9149610c1d9f674");
  make_form1(s, 0, kForm1Data, zeros2048());
  EXPECT_EQ(digest_of("sha256", s), "019d8734ffd82181a112f3b3c485312e8cfc1e37c1fc85374606669356ee35b8");
  make_form2(s, 0, kForm2Empty, zeros2324());
  EXPECT_EQ(digest_of("sha256", s), "7642dcde6dc9ef4bb2f5071ba19207bb8f0d56da1b530dfc5205fcd7499322af");
}

TEST(Sector, ScramblingIsItsOwnInverse) {
  Sector s;
  make_mode1(s, 1234, zeros2048());
  const Sector before = s;
  scramble(s);
  EXPECT_NE(s, before);
  scramble(s);
  EXPECT_EQ(s, before);
}

TEST(Sector, MusicThatBeginsWithASyncIsStillMusic) {
  Sector s;
  testkit::Random random(9);
  const Bytes noise = random.bytes(kRawBytes);
  std::copy(noise.begin(), noise.end(), s.begin());
  std::copy(kSync.begin(), kSync.end(), s.begin());
  s[12] = std::byte{0xBC};  // no BCD
  EXPECT_FALSE(has_valid_header(s));
}

TEST(Sector, EmptyMode2IsValidForm1) {
  Sector s{};
  put_header(s, 7, 2);
  const SectorReport report = examine(s, {7, true});
  EXPECT_EQ(report.kind, SectorKind::mode2_form1);
  EXPECT_EQ(report.problems, 0u);
}

TEST(Sector, DisagreeingSubheadersAreSettledByTheEdc) {
  Sector s;
  const Bytes data(kForm2Bytes, std::byte{0x77});
  make_form2(s, 7, {1, 2, 0x64, 1}, std::span<const std::byte, kForm2Bytes>(data));
  s[18] = std::byte{0x08};  // first copy now says Form 1; the EDC of Form 2 does not fit any more
  EXPECT_EQ(examine(s, {7, true}).kind, SectorKind::mode2_formless) << "neither EDC fits, nor does the parity";
  make_form1(s, 7, kForm1Data, zeros2048());
  s[22] = std::byte{0x28};
  EXPECT_EQ(examine(s, {7, true}).kind, SectorKind::mode2_form1);
}

TEST(Sector, RegenerableMeansByteForByte) {
  Sector s;
  make_form1(s, 100, kForm1Data, zeros2048());
  EXPECT_TRUE(is_regenerable(s, 100));
  EXPECT_FALSE(is_regenerable(s, 101)) << "address";
  make_form1(s, 100, {1, 0, 0x08, 0}, zeros2048());
  EXPECT_FALSE(is_regenerable(s, 100)) << "file number";
  make_form1(s, 100, {0, 0, 0x48, 0}, zeros2048());
  EXPECT_FALSE(is_regenerable(s, 100)) << "real-time mark";
  make_form1(s, 100, {0, 0, 0x89, 0}, zeros2048());
  EXPECT_TRUE(is_regenerable(s, 100)) << "end-of-file marks are ordinary";
  make_mode1(s, 100, zeros2048());
  s[2070] = std::byte{1};
  EXPECT_FALSE(is_regenerable(s, 100)) << "reserved bytes";
  make_mode1(s, 100, zeros2048());
  s[15] = std::byte{0x21};
  EXPECT_FALSE(is_regenerable(s, 100)) << "block indicator";
}

TEST(Sector, MadeParityIsBelievedOnlyForTheKindItWasMadeFor) {
  Sector mode1{}, form1{};
  const Bytes user(kUserBytes, std::byte{7});
  const std::span<const std::byte, kUserBytes> data(user);
  make_mode1(mode1, 30, data);
  make_form1(form1, 30, kForm1Data, data);
  for (Sector* s : {&mode1, &form1}) {
    EXPECT_EQ(examine(*s, {30, true, true}).problems, 0u);
    // The EDC is never taken on trust, nor are the bytes that Mode 1 reserves.
    Sector wrong = *s;
    wrong[600] ^= std::byte{1};
    const SectorReport report = examine(wrong, {30, true, true});
    EXPECT_EQ(report.problems, kProblemEdc | kProblemEcc) << "what was said to be made is looked at after all";
    EXPECT_EQ(report.damage, Damage::damaged);
  }
  mode1[kReservedAt] = std::byte{1};
  compute_ecc(mode1, EccHeader::counts);
  EXPECT_EQ(examine(mode1, {30, true, true}).problems, unsigned{kProblemReserved});
  // Block indicators of a Mode 2 header: who makes parity by the mode byte takes that for no Mode 2.
  form1[15] = std::byte{0xE2};
  compute_ecc(form1, EccHeader::counts);
  EXPECT_NE(examine(form1, {30, true, true}).problems & kProblemEcc, 0u);
}

}  // namespace
}  // namespace opifex::cd
