#include "opifex/core/io/byte_source.hpp"

#include <gtest/gtest.h>
#include <sys/stat.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

TEST(ByteSource, AFileGivesItsBytesAndRefusesMore) {
  const TempFolder folder;
  write_file(folder / "a", "0123456789");
  const SourcePtr source = open_file(folder / "a");
  EXPECT_EQ(source->size(), 10u);
  EXPECT_EQ(as_text(read_up_to(*source, 8, 100)), "89");
  EXPECT_TRUE(read_up_to(*source, 10, 5).empty());
  Bytes out(4);
  EXPECT_THROW(source->read_at(7, out), Error);
  EXPECT_THROW(source->read_at(UINT64_MAX - 1, out), Error);
}

TEST(ByteSource, FoldersAndPipesAreNoFiles) {
  const TempFolder folder;
  EXPECT_THROW(open_file(folder.path()), Error);
  ASSERT_EQ(::mkfifo((folder / "pipe").c_str(), 0600), 0);
  EXPECT_THROW(open_file(folder / "pipe"), Error) << "and does not wait for a writer";
  EXPECT_THROW(open_file("/dev/zero"), Error);
  EXPECT_THROW(open_file(folder / "absent"), Error);
}

TEST(ByteSource, PartsReadAsOneAtEveryPlace) {
  Random random(3);
  const Bytes whole = random.bytes(1000);
  std::vector<SourcePtr> parts;
  for (std::size_t at = 0; at < whole.size();) {
    const std::size_t n = std::min<std::size_t>(random.below(90), whole.size() - at);  // empty parts too
    parts.push_back(memory_source(
        {whole.begin() + static_cast<std::ptrdiff_t>(at), whole.begin() + static_cast<std::ptrdiff_t>(at + n)},
        "part"));
    at += n;
  }
  const SourcePtr joined = concat_source(parts, "whole");
  ASSERT_EQ(joined->size(), whole.size());
  for (int i = 0; i < 500; ++i) {
    const std::uint64_t at = random.below(1001);
    const Bytes got = read_up_to(*joined, at, random.below(300));
    EXPECT_TRUE(std::equal(got.begin(), got.end(), whole.begin() + static_cast<std::ptrdiff_t>(at)));
  }
}

TEST(ByteSource, ASliceStaysInside) {
  const SourcePtr whole = memory_source(to_bytes("0123456789"), "m");
  const SourcePtr slice = slice_source(whole, 3, 4);
  EXPECT_EQ(as_text(read_up_to(*slice, 0, 100)), "3456");
  Bytes out(2);
  EXPECT_THROW(slice->read_at(3, out), Error);
  EXPECT_THROW(slice_source(whole, 8, 3), Error);
  EXPECT_THROW(slice_source(whole, 2, UINT64_MAX), Error);
}

}  // namespace
}  // namespace opifex
