// Sectors as they come out of containers: in places larger than they are, music in the other byte order, parity that
// was made a moment ago.
#include "../../../src/core/check/sector_judge.hpp"

#include <gtest/gtest.h>

#include "opifex/core/cd/parity.hpp"
#include "opifex/core/cd/subchannel.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using cd::Lba;
using testkit::Random;

constexpr std::uint32_t kData = 4, kMusic = 6;
constexpr std::size_t kPlace = 2448;

/// A disc of a data track and a music track; what its sources hold is never asked: the runs bring their own bytes.
CdImage disc(StoredForm form = StoredForm::raw) {
  cd::Layout layout;
  const auto add = [&](int number, Lba start, Lba end, cd::TrackMode::Kind kind) {
    cd::Track t;
    t.number = number;
    t.mode = {kind, cd::kRawBytes};
    t.pregap_lba = t.start_lba = start;
    t.end_lba = end;
    t.indexes[1] = start;
    layout.tracks.push_back(t);
  };
  add(1, 0, kData, cd::TrackMode::Kind::mode1);
  add(2, kData, kData + kMusic, cd::TrackMode::Kind::audio);
  layout.lead_out = kData + kMusic;
  layout.sessions.push_back({.number = 1, .first_track = 1, .last_track = 2});
  const auto bytes_of = [&](std::uint32_t n) { return memory_source(Bytes(n * stored_bytes(form)), "disc"); };
  std::vector<Extent> extents = {
      {.track = 1, .lba = 0, .sectors = kData, .form = form, .source = bytes_of(kData)},
      {.track = 2, .lba = kData, .sectors = kMusic, .form = form, .source = bytes_of(kMusic)}};
  return CdImage(std::move(layout), std::move(extents), cd::SubchannelForm::interleaved);
}

cd::Sector data_sector(Lba lba) {
  const Bytes user = Random(static_cast<std::uint64_t>(lba) + 40).bytes(cd::kUserBytes);
  cd::Sector s{};
  cd::make_mode1(s, lba, std::span<const std::byte, cd::kUserBytes>(user));
  return s;
}

/// Sectors in places of `place` bytes, rubbish between them: nothing of it may be looked at.
Bytes in_places(const std::vector<cd::Sector>& sectors, std::size_t place) {
  Bytes bytes = Random(77).bytes(sectors.size() * place);
  for (std::size_t i = 0; i < sectors.size(); ++i)
    std::copy(sectors[i].begin(), sectors[i].end(), bytes.begin() + static_cast<std::ptrdiff_t>(i * place));
  return bytes;
}

SectorFindings judge(const CdImage& image, std::size_t extent, const Bytes& places, std::size_t place,
                     bool swapped = false, ByteView parity_made = {}) {
  SectorJudge judge(image);
  const Extent& e = image.extents()[extent];
  judge.judge({&e, e.lba, places, place, swapped, parity_made});
  return judge.tallies()[e.track];
}

std::vector<cd::Sector> sound_data() {
  std::vector<cd::Sector> sectors;
  for (Lba lba = 0; lba < static_cast<Lba>(kData); ++lba) sectors.push_back(data_sector(lba));
  return sectors;
}

TEST(SectorJudge, PlacesMayBeLargerThanTheirSectors) {
  const CdImage image = disc();
  std::vector<cd::Sector> sectors = sound_data();
  for (const std::size_t place : {cd::kRawBytes, kPlace, std::size_t{3000}}) {
    const SectorFindings t = judge(image, 0, in_places(sectors, place), place);
    EXPECT_EQ(t.kinds.at(cd::to_string(cd::SectorKind::mode1)), kData) << place;
    EXPECT_TRUE(t.bad.empty()) << place;
  }
  sectors[2][700] ^= std::byte{1};
  const SectorFindings t = judge(image, 0, in_places(sectors, kPlace), kPlace);
  ASSERT_EQ(t.bad.size(), 1u);
  EXPECT_EQ(t.bad[0].lba, 2);
  EXPECT_TRUE(t.bad[0].repairable);
}

TEST(SectorJudge, ParityThatWasMadeIsBelievedTheRestIsNot) {
  const CdImage image = disc();
  std::vector<cd::Sector> sectors = sound_data();
  sectors[1][500] ^= std::byte{1};  // damaged: EDC and parity are wrong
  sectors[3][500] ^= std::byte{1};  // mastered so: the parity is that of the wrong data
  cd::compute_ecc(sectors[3], cd::EccHeader::counts);
  const Bytes places = in_places(sectors, kPlace);
  const Bytes none(kData), only_made = {std::byte{1}, std::byte{0}, std::byte{1}, std::byte{1}};
  for (const ByteView made : {ByteView{}, ByteView(none), ByteView(only_made)}) {
    const SectorFindings t = judge(image, 0, places, kPlace, false, made);
    ASSERT_EQ(t.bad.size(), 1u);
    EXPECT_EQ(t.bad[0].lba, 1);
    EXPECT_EQ(t.bad[0].damage, cd::Damage::damaged);
    EXPECT_EQ(t.authored, 1u);
  }
}

TEST(SectorJudge, MusicIsKnownInEitherByteOrder) {
  const CdImage image = disc();
  std::vector<cd::Sector> music;
  for (std::uint32_t i = 0; i < kMusic; ++i) {
    const Bytes noise = Random(i).bytes(cd::kRawBytes);
    music.emplace_back();
    std::copy(noise.begin(), noise.end(), music.back().begin());
  }
  music[1] = data_sector(kData + 1);  // a data sector of the right address among the music
  music[2] = data_sector(999);        // one of another: music may begin so
  music[3].fill(std::byte{0xFF});     // many ones, no sync
  music[4].fill(std::byte{0});
  const SectorFindings plain = judge(image, 1, in_places(music, kPlace), kPlace);
  for (cd::Sector& s : music) cd::swap_words(s);
  const SectorFindings swapped = judge(image, 1, in_places(music, kPlace), kPlace, true);
  EXPECT_EQ(plain.data_in_audio, 1u);
  EXPECT_EQ(swapped.data_in_audio, 1u);
  EXPECT_EQ(swapped.kinds, plain.kinds);
  EXPECT_EQ(swapped.kinds.at(cd::to_string(cd::SectorKind::audio)), kMusic - 2);
}

TEST(SectorJudge, ADamagedSyncInTheMusicIsSeenInEitherByteOrder) {
  const CdImage image = disc();
  for (const int wrong : {1, 2, 3, 4, 5}) {
    cd::Sector s = data_sector(kData);
    for (int i = 0; i < wrong; ++i) s[static_cast<std::size_t>(1 + 2 * i)] = std::byte{0x12};
    const SectorFindings plain = judge(image, 1, in_places({s}, kPlace), kPlace);
    cd::swap_words(s);
    const SectorFindings swapped = judge(image, 1, in_places({s}, kPlace), kPlace, true);
    EXPECT_EQ(swapped.data_in_audio, plain.data_in_audio) << wrong;
    EXPECT_EQ(swapped.kinds, plain.kinds) << wrong;
    EXPECT_EQ(plain.data_in_audio, wrong <= 3 ? 1u : 0u) << wrong;
  }
}

TEST(SectorJudge, SubchannelBehindMusicOfTheOtherByteOrderStaysAsItIs) {
  const CdImage image = disc(StoredForm::raw_with_pw);
  Bytes places(kMusic * kPlace);
  for (std::uint32_t i = 0; i < kMusic; ++i) {
    const auto lba = static_cast<Lba>(kData + i);
    cd::Subchannel block{};
    const cd::QBytes q = cd::make_q({0, 2, 1, i == 4 ? 999 : lba, static_cast<std::int32_t>(i)});
    std::copy(q.begin(), q.end(), block.begin() + 12);
    const cd::Subchannel stored = cd::to_interleaved(block);
    std::copy(stored.begin(), stored.end(), places.begin() + static_cast<std::ptrdiff_t>(i * kPlace + cd::kRawBytes));
  }
  for (const bool swapped : {false, true}) {
    const SectorFindings t = judge(image, 1, places, kPlace, swapped);
    EXPECT_EQ(t.q_blocks, kMusic);
    EXPECT_EQ(t.q_bad, 0u);
    EXPECT_EQ(t.q_elsewhere, 1u);
  }
}

}  // namespace
}  // namespace opifex
