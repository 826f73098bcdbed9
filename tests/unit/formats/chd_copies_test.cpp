// Hunks that are copies of others: chains of them, the cache they come out of, damage that they share.
#include <thread>

#include <gtest/gtest.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/formats/chd/chd.hpp"

#include "../../../src/core/formats/chd/decoder.hpp"
#include "../../../src/core/formats/chd/encoder.hpp"
#include "../../../src/core/formats/chd/hunk_cache.hpp"
#include "testkit.hpp"

namespace opifex::chd {
namespace {

using testkit::Random;

constexpr std::size_t kHunk = 512;
constexpr std::size_t kHeader = 108, kRecord = 16;  // version 4

/// One record of a map of version 4: what the hunk is, and where.
struct Record {
  unsigned type;  // 1 coded, 2 stored, 3 repeated, 4 copy
  std::uint64_t place;
  Bytes coded = {};  // put behind the map; `place` is then the offset among them
  std::uint32_t crc = 0;
};

void put(Bytes& out, std::size_t at, std::uint64_t value, int bytes) {
  for (int i = bytes - 1; i >= 0; --i, value >>= 8) out[at + static_cast<std::size_t>(i)] = std::byte(value & 255);
}

std::uint32_t crc32_of(ByteView bytes) {
  return static_cast<std::uint32_t>(std::stoul(digest_of("crc32", bytes), nullptr, 16));
}

/// A file of version 4 with zlib, no metadata.
Bytes make_file(const std::vector<Record>& records) {
  Bytes file(kHeader + records.size() * kRecord);
  std::copy_n(as_view("MComprHD").begin(), 8, file.begin());
  put(file, 8, kHeader, 4);
  put(file, 12, 4, 4);
  put(file, 20, 1, 4);  // zlib
  put(file, 24, records.size(), 4);
  put(file, 28, records.size() * kHunk, 8);
  put(file, 44, kHunk, 4);
  for (std::size_t n = 0; n < records.size(); ++n) {
    const Record& r = records[n];
    const std::size_t at = kHeader + n * kRecord;
    put(file, at, r.coded.empty() ? r.place : file.size(), 8);
    put(file, at + 8, r.crc, 4);
    put(file, at + 12, r.coded.size() & 0xFFFF, 2);
    put(file, at + 14, r.coded.size() >> 16, 1);
    put(file, at + 15, r.type, 1);
    file.insert(file.end(), r.coded.begin(), r.coded.end());
  }
  return file;
}

Bytes some_text(std::size_t phase) {
  Bytes bytes(kHunk);
  for (std::size_t i = 0; i < kHunk; ++i) bytes[i] = static_cast<std::byte>("the lantern keeper "[(i + phase) % 19]);
  return bytes;
}

Record coded(const Bytes& hunk) {
  Encoder encoder;
  return {1, 0, encoder.encode("zlib", hunk), crc32_of(hunk)};
}

std::shared_ptr<const Chd> open(const std::vector<Record>& records) {
  return Chd::open(memory_source(make_file(records), "copies.chd"), {});
}

Bytes read(const Chd& file, std::uint64_t number) {
  Bytes hunk(kHunk);
  file.read_hunk(number, hunk);
  return hunk;
}

TEST(ChdCopies, OfCopiesAreCopiesOfTheFirst) {
  std::vector<Record> records = {coded(some_text(0)), coded(some_text(5))};
  for (std::uint64_t n = 1; n < 40; ++n) records.push_back({4, n});
  const auto file = open(records);
  for (std::uint64_t n = 2; n < 41; ++n) {
    EXPECT_EQ(file->hunks()[n].place, 1u) << n;
    ASSERT_EQ(read(*file, n), some_text(5)) << n;
  }
  EXPECT_EQ(read(*file, 0), some_text(0));
}

TEST(ChdCopies, ComeInAnyOrderAndFromManyThreads) {
  std::vector<Record> records;
  for (std::size_t n = 0; n < 8; ++n) records.push_back(coded(some_text(n)));
  for (std::uint64_t n = 0; n < 64; ++n) records.push_back({4, n * 5 % 8});
  const auto file = open(records);
  std::vector<std::string> wrong(4);
  {
    std::vector<std::jthread> threads;
    for (std::size_t t = 0; t < wrong.size(); ++t)
      threads.emplace_back([&, t] {
        for (std::uint64_t i = 0; i < records.size(); ++i) {
          const std::uint64_t n = (i * 31 + t * 17) % records.size();
          const std::size_t of = n < 8 ? n : (n - 8) * 5 % 8;
          if (read(*file, n) != some_text(of)) wrong[t] += std::to_string(n) + " ";
        }
      });
  }
  for (const std::string& w : wrong) EXPECT_EQ(w, "");
}

TEST(ChdCopies, OfADamagedHunkAreDamagedToo) {
  Record bad = coded(some_text(3));
  bad.crc ^= 1;
  const auto file = open({bad, {4, 0}, coded(some_text(4)), {4, 2}});
  for (const std::uint64_t n : {0u, 1u, 1u, 0u}) {
    try {
      read(*file, n);
      FAIL() << "hunk " << n << " was believed";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, "hunk_crc");
    }
  }
  EXPECT_EQ(read(*file, 3), some_text(4));
}

TEST(ChdCopies, ForwardAndOfThemselvesAreRefused) {
  for (const std::uint64_t to : {1u, 2u, 3u}) {
    try {
      open({coded(some_text(0)), {4, to}, coded(some_text(1))});
      FAIL() << "a copy of hunk " << to;
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, "self_ref");
    }
  }
}

TEST(ChdHunkCache, ForgetsTheOneUnusedForLongest) {
  constexpr std::size_t kLarge = 4 << 20;  // four of them fill it
  HunkCache cache(kLarge);
  const auto hunk = [](int mark) { return std::make_shared<const Bytes>(1, static_cast<std::byte>(mark)); };
  for (int n = 0; n < 4; ++n) cache.keep(static_cast<std::uint64_t>(n), hunk(n));
  ASSERT_TRUE(cache.find(0)) << "and used again by that";
  cache.keep(4, hunk(4));
  EXPECT_FALSE(cache.contains(1));
  EXPECT_FALSE(cache.find(1));
  for (const int n : {0, 2, 3, 4}) {
    const auto found = cache.find(static_cast<std::uint64_t>(n));
    ASSERT_TRUE(found) << n;
    EXPECT_EQ(found->front(), static_cast<std::byte>(n));
  }
}

TEST(ChdHunkCache, TheFirstToKeepAHunkWins) {
  HunkCache cache(4096);
  const auto first = std::make_shared<const Bytes>(3), second = std::make_shared<const Bytes>(3);
  cache.keep(9, first);
  cache.keep(9, second);
  EXPECT_EQ(cache.find(9), first);
}

/// What a thread's decoder keeps must not show in the hunk after.
class ChdDecoderReuse : public testing::Test {
 protected:
  static Bytes frames(unsigned subcode) {
    Bytes hunk(2 * kFrameBytes);
    for (std::size_t i = 0; i < hunk.size(); ++i) {
      const bool data = i % kFrameBytes < kFrameData;
      const std::size_t slow = i / 4 % 2000;  // music to FLAC, text to the others
      hunk[i] = data ? static_cast<std::byte>(i % 2 == 0 ? slow >> 8 : slow & 255) : static_cast<std::byte>(subcode);
    }
    return hunk;
  }
  void expect_back(const std::string& codec, const Bytes& hunk) {
    Encoder encoder;
    const Bytes coded = encoder.encode(codec, hunk);
    ASSERT_FALSE(coded.empty()) << codec;
    Bytes back(hunk.size());
    ASSERT_TRUE(decoder.decode(codec, coded, back)) << codec;
    EXPECT_EQ(back, hunk) << codec;
  }
  Decoder decoder;
};

TEST_F(ChdDecoderReuse, AHunkAfterADamagedOneIsSound) {
  Random random(5);
  for (const std::string& codec : encodable_codecs()) {
    SCOPED_TRACE(codec);
    const Bytes hunk = frames(0), noise = random.bytes(300);
    Bytes back(hunk.size());
    expect_back(codec, hunk);
    EXPECT_FALSE(decoder.decode(codec, noise, back));
    expect_back(codec, hunk);
    EXPECT_FALSE(decoder.decode(codec, ByteView(noise).first(1), back));
    expect_back(codec, hunk);
  }
}

TEST_F(ChdDecoderReuse, SubcodeIsThatOfItsOwnHunk) {
  for (const char* codec : {"cdzl", "cdlz", "cdfl", "cdzs"})
    for (const unsigned subcode : {0u, 0u, 7u, 0u, 9u, 9u}) expect_back(codec, frames(subcode));
}

TEST_F(ChdDecoderReuse, HunksOfOtherSizesTakeTurns) {
  for (const char* codec : {"cdzl", "cdfl", "cdlz", "cdzs"})
    for (const std::size_t n : {2u, 1u, 2u, 1u}) {
      const Bytes both = frames(0);
      expect_back(codec, Bytes(both.begin(), both.begin() + static_cast<std::ptrdiff_t>(n * kFrameBytes)));
    }
}

}  // namespace
}  // namespace opifex::chd
