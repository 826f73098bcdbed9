// How the coded bytes of hunks are fetched: some at once where they are wanted in order, and never at the price of a
// hunk that could have been read.
#include <gtest/gtest.h>

#include "opifex/core/base/error.hpp"

#include "../../../src/core/formats/chd/decoder.hpp"
#include "testkit.hpp"

namespace opifex::chd {
namespace {

/// Counts what is read, and fails from a place on, as a damaged drive does.
class WatchedFile final : public ByteSource {
 public:
  explicit WatchedFile(std::size_t size) : bytes(testkit::Random(3).bytes(size)), unreadable_from(size) {}
  std::uint64_t size() const override { return bytes.size(); }
  std::string name() const override { return "watched"; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    ++reads;
    if (offset + out.size() > unreadable_from)
      throw Error({.fault = Fault::device, .code = "read_failed", .what = "cannot read", .offset = offset});
    std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }
  ByteView at(std::uint64_t offset, std::size_t n) const {
    return ByteView(bytes).subspan(static_cast<std::size_t>(offset), n);
  }

  Bytes bytes;
  std::uint64_t unreadable_from;
  mutable int reads = 0;
};

bool same(ByteView a, ByteView b) { return std::equal(a.begin(), a.end(), b.begin(), b.end()); }

TEST(ChdReading, NeighboursAreFetchedTogetherWhateverTheirLengths) {
  const WatchedFile file(1'000'000);
  Decoder decoder;
  testkit::Random random(9);
  int hunks = 0;
  for (std::uint64_t at = 124; at < file.size(); ++hunks) {
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(1 + random.below(12'000), file.size() - at));
    ASSERT_TRUE(same(decoder.read(file, at, n), file.at(at, n))) << at;
    at += n;
  }
  EXPECT_LT(file.reads, hunks / 5);
}

TEST(ChdReading, HunksFarApartAreFetchedAlone) {
  const WatchedFile file(4'000'000);
  Decoder decoder;
  testkit::Random random(10);
  for (int i = 0; i < 200; ++i) {
    const std::uint64_t at = random.below(file.size() - 20'000);
    const auto n = static_cast<std::size_t>(1 + random.below(20'000));
    ASSERT_TRUE(same(decoder.read(file, at, n), file.at(at, n))) << at << " " << n;
  }
}

TEST(ChdReading, BackwardsAndAgain) {
  const WatchedFile file(300'000);
  Decoder decoder;
  for (std::uint64_t at = 290'000; at >= 10'000; at -= 10'000)
    for (int twice = 0; twice < 2; ++twice) ASSERT_TRUE(same(decoder.read(file, at, 9'000), file.at(at, 9'000)));
}

TEST(ChdReading, WhatCannotBeReadBehindAHunkIsNoneOfItsBusiness) {
  WatchedFile file(200'000);
  file.unreadable_from = 50'000;
  Decoder decoder;
  for (std::uint64_t at = 0; at < 50'000; at += 5'000)
    ASSERT_TRUE(same(decoder.read(file, at, 5'000), file.at(at, 5'000))) << at;
  for (int twice = 0; twice < 2; ++twice) EXPECT_THROW(decoder.read(file, 48'000, 5'000), Error);
  EXPECT_THROW(decoder.read(file, 60'000, 10), Error);
  // What stood in the window before is not taken for what was asked.
  ASSERT_TRUE(same(decoder.read(file, 45'000, 5'000), file.at(45'000, 5'000)));
  file.unreadable_from = file.size();
  ASSERT_TRUE(same(decoder.read(file, 48'000, 5'000), file.at(48'000, 5'000)));
}

}  // namespace
}  // namespace opifex::chd
