#include "opifex/core/formats/bin/detect.hpp"

#include <gtest/gtest.h>

#include "opifex/core/image/format.hpp"

#include "testkit.hpp"

namespace opifex::bin {
namespace {

using namespace testkit;

Bytes data_sectors(int count, int first_lba = 0) {
  Bytes all;
  const Bytes user(cd::kUserBytes, std::byte{0x42});
  for (int i = 0; i < count; ++i) {
    cd::Sector s;
    cd::make_mode1(s, first_lba + i, std::span<const std::byte, cd::kUserBytes>(user));
    all.insert(all.end(), s.begin(), s.end());
  }
  return all;
}

Bytes music(std::size_t sectors) {
  Bytes b(sectors * cd::kRawBytes);
  for (std::size_t i = 0; i + 3 < b.size(); i += 4) {
    const auto v = static_cast<int>(8000 * ((i / 4 % 200) < 100 ? (i / 4 % 100) : 100 - (i / 4 % 100)) / 100);
    b[i] = b[i + 2] = static_cast<std::byte>(v);
    b[i + 1] = b[i + 3] = static_cast<std::byte>(v >> 8);
  }
  return b;
}

CdImagePtr build(Bytes bytes, std::vector<Warning>& warnings) {
  const SourcePtr source = memory_source(std::move(bytes), "lone.bin");
  return build_disc(source, detect(*source), warnings);
}

std::vector<std::string> modes(const CdImagePtr& disc) {
  std::vector<std::string> all;
  for (const cd::Track& t : disc->layout().tracks) all.push_back(cd::to_string(t.mode));
  return all;
}

TEST(Detect, AudioThenData) {
  Bytes bytes = music(20);
  const Bytes data = data_sectors(10, 20);
  bytes.insert(bytes.end(), data.begin(), data.end());
  std::vector<Warning> warnings;
  EXPECT_EQ(modes(build(bytes, warnings)), (std::vector<std::string>{"AUDIO", "MODE1/2352"}));
}

TEST(Detect, AHoleInDataIsDamageNotMusic) {
  Bytes bytes = data_sectors(30);
  std::fill_n(bytes.begin() + 10 * 2352, 5 * 2352, std::byte{0});
  std::vector<Warning> warnings;
  EXPECT_EQ(modes(build(bytes, warnings)), std::vector<std::string>{"MODE1/2352"});
}

TEST(Detect, MusicBetweenDataWhoseAddressesDoNotGoOn) {
  Bytes bytes = data_sectors(10);
  const Bytes audio = music(5), more = data_sectors(10, 500);
  bytes.insert(bytes.end(), audio.begin(), audio.end());
  bytes.insert(bytes.end(), more.begin(), more.end());
  std::vector<Warning> warnings;
  EXPECT_EQ(modes(build(bytes, warnings)).size(), 3u);
}

TEST(Detect, SilenceOfBothSizesIsAskedAbout) {
  const SourcePtr source = memory_source(Bytes(2352 * 2048), "zero.bin");
  try {
    detect(*source);
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.code, "ambiguous_layout");
  }
}

TEST(Detect, TheUsersWordOverridesTheGuess) {
  const SourcePtr source = memory_source(Bytes(2352 * 2048), "zero.bin");
  EXPECT_EQ(detect_with_size(*source, 2352).arrangement, Arrangement::raw);
  EXPECT_EQ(detect_with_size(*source, 2048).arrangement, Arrangement::cooked);
  EXPECT_EQ(detect_with_size(*source, 2336).sector_bytes, 2336u);
  EXPECT_THROW(detect_with_size(*source, 2000), Error);
  std::vector<Warning> warnings;
  EXPECT_EQ(modes(build_disc(source, detect_with_size(*source, 2352), warnings)), std::vector<std::string>{"AUDIO"});
}

TEST(Detect, TheByteOrderOfMusic) {
  Bytes little = music(20), big = little;
  cd::swap_words(big);
  EXPECT_EQ(audio_is_big_endian(little), false);
  EXPECT_EQ(audio_is_big_endian(big), true);
  EXPECT_FALSE(audio_is_big_endian(Bytes(5000))) << "silence decides nothing";
  Random random(2);
  EXPECT_FALSE(audio_is_big_endian(random.bytes(50'000))) << "nor does noise";
}

TEST(Detect, QWithoutTheOtherChannels) {
  const Bytes plain = data_sectors(40);
  Bytes bytes;
  for (int i = 0; i < 40; ++i) {
    bytes.insert(bytes.end(), plain.begin() + i * 2352, plain.begin() + (i + 1) * 2352);
    const cd::QBytes q = cd::make_q({4, 1, 1, i, i});
    bytes.insert(bytes.end(), q.begin(), q.end());
    bytes.resize(bytes.size() + 4);
  }
  const Detected d = detect(*memory_source(bytes, "q.bin"));
  EXPECT_EQ(d.sector_bytes, 2368u);
}

TEST(Detect, ModesThatChangeBecomeTracks) {
  Bytes bytes = data_sectors(10);
  const Bytes user(cd::kUserBytes, std::byte{1});
  for (int i = 10; i < 20; ++i) {
    cd::Sector s;
    cd::make_form1(s, i, cd::kForm1Data, std::span<const std::byte, cd::kUserBytes>(user));
    bytes.insert(bytes.end(), s.begin(), s.end());
  }
  std::vector<Warning> warnings;
  EXPECT_EQ(modes(build(bytes, warnings)), (std::vector<std::string>{"MODE1/2352", "MODE2/2352"}));
}

TEST(Detect, AlternatingKindsAreNoDisc) {
  Bytes bytes;
  for (int i = 0; i < 120; ++i) {
    const Bytes d = data_sectors(1, i * 10), a = music(1);
    bytes.insert(bytes.end(), d.begin(), d.end());
    bytes.insert(bytes.end(), a.begin(), a.end());
  }
  std::vector<Warning> warnings;
  EXPECT_THROW(build(bytes, warnings), Error);
}

}  // namespace
}  // namespace opifex::bin
