// The parts of CHD on their own: prefix codes, codecs both ways, track texts from cue sheets.
#include <gtest/gtest.h>

#include "opifex/core/cd/sector.hpp"
#include "opifex/core/image/format.hpp"

#include "../../../src/core/formats/chd/bit_writer.hpp"
#include "../../../src/core/formats/chd/bits.hpp"
#include "../../../src/core/formats/chd/decoder.hpp"
#include "../../../src/core/formats/chd/encoder.hpp"
#include "../../../src/core/formats/chd/frames.hpp"
#include "testkit.hpp"

namespace opifex::chd {
namespace {

using testkit::Random;

TEST(ChdPrefixCode, EveryCodeIsReadBackAndItsTreeToo) {
  Random random(3);
  for (int round = 0; round < 200; ++round) {
    std::vector<std::uint64_t> counts(16, 0);
    const std::size_t used = 1 + random.below(16);
    // From even to very skewed: some need their lengths limited to 8 bits.
    for (std::size_t i = 0; i < used; ++i) counts[random.below(16)] = 1 + (random.next() >> random.below(63));
    const CodeBook book = make_code(counts, 8);
    BitWriter out;
    write_rle_tree(book, out);
    std::vector<int> symbols;
    for (int i = 0; i < 100; ++i) {
      const auto s = static_cast<int>(random.below(16));
      if (book.lengths[static_cast<std::size_t>(s)] == 0) continue;
      symbols.push_back(s);
      out.put(book.codes[static_cast<std::size_t>(s)], book.lengths[static_cast<std::size_t>(s)]);
    }
    BitReader in(out.bytes());
    const auto tree = read_rle_tree(in, 16, 8);
    ASSERT_TRUE(tree) << round;
    for (const int s : symbols) ASSERT_EQ(tree->next(in), s) << round;
    EXPECT_FALSE(in.overran());
  }
}

TEST(ChdPrefixCode, RefusesWhatIsNoCode) {
  EXPECT_FALSE(PrefixCode::make({1, 1, 1}, 8)) << "three codes of one bit";
  EXPECT_FALSE(PrefixCode::make({2, 2, 2}, 8)) << "an odd number of the longest";
  EXPECT_FALSE(PrefixCode::make({9, 9}, 8)) << "longer than allowed";
  const auto single = PrefixCode::make({0, 0, 1}, 8);
  ASSERT_TRUE(single);
  const Bytes zero(1), one = {std::byte{0x80}};
  BitReader a(zero), b(one);
  EXPECT_EQ(single->next(a), 2);
  EXPECT_EQ(single->next(b), -1) << "an undefined code";
}

/// Kinds of hunks that the codecs treat differently.
std::vector<std::pair<std::string, Bytes>> hunks() {
  constexpr std::size_t kSize = 4 * kFrameBytes;
  Random random(7);
  Bytes zero(kSize), text(kSize), music(kSize), sectors(kSize);
  for (std::size_t i = 0; i < kSize; ++i) text[i] = static_cast<std::byte>("the lantern keeper "[i % 19]);
  for (std::size_t i = 0; i + 1 < kSize; i += 2) {
    const auto v = static_cast<unsigned>((i * i / 700) % 4000);
    music[i] = static_cast<std::byte>(v >> 8);
    music[i + 1] = static_cast<std::byte>(v & 255);
  }
  for (std::size_t f = 0; f < 4; ++f) {
    const auto frame = std::span(sectors).subspan(f * kFrameBytes, kFrameBytes);
    const Bytes user = random.bytes(cd::kUserBytes);
    const std::span<const std::byte, cd::kUserBytes> view(user);
    const auto lba = static_cast<cd::Lba>(100 + f);
    if (f % 2 == 0)
      cd::make_mode1(cd::SectorSpan(frame.first(kFrameData)), lba, view);
    else
      cd::make_form1(cd::SectorSpan(frame.first(kFrameData)), lba, cd::kForm1Data, view);
    if (f == 3) frame[2200] ^= std::byte{1};  // wrong parity must survive
    frame[2400] = std::byte{0x5A};            // and so must subcode
  }
  return {{"zeros", zero}, {"text", text}, {"music", music}, {"sectors", sectors}, {"noise", random.bytes(kSize)}};
}

TEST(ChdCodecs, WhatIsCodedComesBackExactly) {
  Encoder encoder;
  Decoder decoder;
  for (const auto& [name, hunk] : hunks())
    for (const std::string& codec : encodable_codecs()) {
      SCOPED_TRACE(name + " by " + codec);
      const Bytes coded = encoder.encode(codec, hunk);
      if (coded.empty()) {
        EXPECT_TRUE(name == "noise" || name == "sectors" || codec == "flac" || codec == "cdfl")
            << "it should have paid";
        continue;
      }
      EXPECT_LT(coded.size(), hunk.size());
      Bytes back(hunk.size());
      ASSERT_TRUE(decoder.decode(codec, coded, back));
      EXPECT_EQ(back, hunk);
      EXPECT_EQ(encoder.encode(codec, hunk), coded) << "the same bytes each time";
      // Cut anywhere it is refused, or gives other bytes, but never writes outside.
      for (std::size_t n = 0; n < coded.size(); n += 1 + coded.size() / 40)
        decoder.decode(codec, ByteView(coded).first(n), back);
      Bytes small(hunk.size() / 2);
      // What is left over behind the codes of huff and the frames of FLAC is allowed.
      if (codec != "flac" && codec != "huff") {
        EXPECT_FALSE(decoder.decode(codec, coded, small)) << "a hunk of another size";
      }
    }
}

TEST(ChdCodecs, SyncAndParityOfSoundSectorsAreNotStored) {
  const auto all = hunks();
  Encoder encoder;
  const Bytes coded = encoder.encode("cdlz", all[3].second);
  ASSERT_FALSE(coded.empty());
  EXPECT_EQ(coded[0], std::byte{0b0111}) << "the fourth sector's parity is its own";
}

/// expected.json, cue_cases: what a sheet's tracks are called in a CHD.
TEST(ChdTracks, CueSheetsGiveTheCustomaryMetadata) {
  const auto expected = testkit::vector_json("chd/expected.json");
  int seen = 0;
  for (const auto& c : expected["cue_cases"]) {
    SCOPED_TRACE(c["about"].get<std::string>());
    testkit::TempFolder folder;
    testkit::write_file(folder / "disc.cue", c["cue"].get<std::string>());
    bool first = true;
    for (const auto& [name, size] : c["file_bytes"].items()) {
      // Data sectors with their headers, so that the sheet's modes are believed.
      std::string bytes(size.get<std::size_t>(), '\0');
      if (first && bytes.size() % cd::kRawBytes == 0 &&
          c["cue"].get<std::string>().find("/2352") != std::string::npos) {
        const bool mode1 = c["cue"].get<std::string>().find("MODE1/2352") != std::string::npos;
        cd::Sector s{};
        const Bytes user(cd::kUserBytes);
        const std::span<const std::byte, cd::kUserBytes> view(user);
        if (mode1)
          cd::make_mode1(s, 0, view);
        else
          cd::make_form1(s, 0, cd::kForm1Data, view);
        bytes.replace(0, s.size(), as_text(s));
      }
      first = false;
      testkit::write_file(folder / name, bytes);
    }
    Image image;
    try {
      image = open_image(folder / "disc.cue");
    } catch (const Error& e) {
      ADD_FAILURE() << e.what();
      continue;
    }
    const CdFrames frames = make_frames(image.cd());
    EXPECT_EQ(frames.logical->size(), c["logical_bytes"].get<std::uint64_t>());
    ASSERT_EQ(frames.tags.size(), c["metadata"].size());
    for (std::size_t i = 0; i < frames.tags.size(); ++i)
      EXPECT_EQ(frames.tags[i].text(), c["metadata"][i].get<std::string>());
    ++seen;
  }
  EXPECT_EQ(seen, static_cast<int>(expected["cue_cases"].size()));
}

}  // namespace
}  // namespace opifex::chd
