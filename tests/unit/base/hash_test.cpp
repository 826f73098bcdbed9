#include "opifex/core/base/hash.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/check/span_hasher.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

TEST(Crc16, KnownAnswers) {
  EXPECT_EQ(crc16(as_view("123456789"), 0xFFFF), 0x29B1);
  EXPECT_EQ(crc16(as_view("123456789"), 0), 0x31C3);
  EXPECT_EQ(crc16({}, 0x1234), 0x1234);
}

TEST(Crc16, TheFastOnesAreTheReferenceAtEveryLengthAlignmentAndStart) {
  testkit::Random random(11);
  const Bytes bytes = random.bytes(330);
  for (const std::uint16_t start : {std::uint16_t{0}, std::uint16_t{0xFFFF}, std::uint16_t{0x8001}})
    for (std::size_t from = 0; from < 9; ++from)
      for (std::size_t n = 0; from + n <= bytes.size(); ++n) {
        const ByteView part = ByteView(bytes).subspan(from, n);
        ASSERT_EQ(crc16(part, start), crc16_reference(part, start)) << from << " " << n;
        ASSERT_EQ(crc16_by_tables(part, start), crc16_reference(part, start)) << from << " " << n;
      }
}

TEST(Digest, KnownAnswers) {
  const ByteView digits = as_view("123456789");
  EXPECT_EQ(digest_of("crc32", digits), "cbf43926");
  EXPECT_EQ(digest_of("md5", digits), "25f9e794323b453885f5181f1b624d0b");
  EXPECT_EQ(digest_of("sha1", digits), "f7c3bc1d808e04732adf679965ccc34ca7ae3441");
  EXPECT_EQ(digest_of("sha256", digits), "15e2b0d3c33891ebb0f1ef609ec419420c20e320ce94c65fbc8c3312448eb225");
}

TEST(Digest, EveryNameWorksAndOthersAreRefused) {
  for (const std::string& name : digest_names()) EXPECT_FALSE(digest_of(name, {}).empty()) << name;
  EXPECT_THROW(Digest("md6"), Error);
}

TEST(Digest, ACopyGoesOnFromTheSameBytes) {
  for (const char* name : {"crc32", "md5"}) {
    Digest whole(name);
    whole.update(as_view("12345"));
    Digest fork(whole);
    EXPECT_EQ(fork.finish(), digest_of(name, as_view("12345")));
    whole.update(as_view("6789"));
    EXPECT_EQ(whole.finish(), digest_of(name, as_view("123456789")));
  }
}

TEST(SpanHasher, GivesEachRangeTheHashOfItsBytesHoweverTheStreamIsCut) {
  testkit::Random random(5);
  const Bytes stream = random.bytes(10'000);
  for (int round = 0; round < 50; ++round) {
    // A file, its tracks, an empty range and one that overlaps all.
    const std::uint64_t a = random.below(9000), b = a + random.below(10'000 - a);
    const std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges = {{0, 10'000}, {0, a}, {a, b},
                                                                         {b, 10'000}, {a, a}, {a / 2, b}};
    std::vector<std::string> results(ranges.size());
    std::vector<HashSpan> spans;
    for (std::size_t i = 0; i < ranges.size(); ++i) spans.push_back({ranges[i].first, ranges[i].second, &results[i]});
    SpanHasher hasher("md5", spans);
    for (std::size_t lane = 0; lane < hasher.lanes(); ++lane)
      for (std::size_t at = 0; at < stream.size();) {
        const std::size_t n = std::min<std::size_t>(1 + random.below(3000), stream.size() - at);
        hasher.update(lane, at, ByteView(stream).subspan(at, n));
        at += n;
      }
    for (std::size_t i = 0; i < ranges.size(); ++i)
      EXPECT_EQ(results[i],
                digest_of("md5", ByteView(stream).subspan(ranges[i].first, ranges[i].second - ranges[i].first)))
          << ranges[i].first << " to " << ranges[i].second;
  }
}

TEST(SpanHasher, AFileAndItsFirstTrackShareOneLane) {
  std::string file, first, second;
  EXPECT_EQ(SpanHasher("md5", {{0, 100, &file}, {0, 60, &first}}).lanes(), 1u);
  EXPECT_EQ(SpanHasher("md5", {{0, 100, &file}, {0, 60, &first}, {60, 100, &second}}).lanes(), 2u);
  EXPECT_EQ(SpanHasher("md5", {{0, 60, &first}, {60, 100, &second}}).lanes(), 1u);
}

}  // namespace
}  // namespace opifex
