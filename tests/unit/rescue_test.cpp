#include "opifex/core/check/rescue.hpp"

#include <gtest/gtest.h>

#include "opifex/core/cd/parity.hpp"
#include "opifex/core/check/combine.hpp"
#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using cd::Lba;
using testkit::Random;

cd::Sector good_sector(Lba lba) {
  const Bytes user = Random(static_cast<std::uint64_t>(lba)).bytes(cd::kUserBytes);
  cd::Sector s;
  cd::make_mode1(s, lba, std::span<const std::byte, cd::kUserBytes>(user));
  return s;
}

Reading reading(cd::Sector s, std::vector<std::size_t> wrong = {}, bool flag = false) {
  Reading r{s, flag, {}};
  for (const std::size_t at : wrong) {
    r.bytes[at] ^= std::byte{0x5A};
    if (flag) r.flagged.push_back({at, at});
  }
  return r;
}

std::vector<std::size_t> run(std::size_t first, std::size_t count, std::size_t step = 1) {
  std::vector<std::size_t> places;
  for (std::size_t i = 0; i < count; ++i) places.push_back(first + i * step);
  return places;
}

TEST(CombineData, TakesWhatProvesItself) {
  const cd::Sector s = good_sector(77);
  const std::vector<Reading> readings = {reading(s, run(100, 600)), reading(s)};
  const CombinedSector c = combine_data(readings, 77);
  EXPECT_EQ(c.how, Combining::as_read);
  EXPECT_EQ(c.bytes, s);
  EXPECT_EQ(c.givers, (std::vector<std::size_t>{1}));
  EXPECT_EQ(combine_data(std::vector{reading(s)}, 78).how, Combining::none) << "it belongs to another place";
}

TEST(CombineData, MendsByTheSectorsOwnCorrection) {
  const cd::Sector s = good_sector(5);
  const CombinedSector c = combine_data(std::vector{reading(s, {100, 900})}, 5);
  EXPECT_EQ(c.how, Combining::repaired);
  EXPECT_EQ(c.bytes, s);
}

TEST(CombineData, VotesWhereC2Counts) {
  const cd::Sector s = good_sector(6);
  // Each reading alone is beyond repair; where one is flagged the other is right.
  const std::vector<Reading> readings = {reading(s, run(16, 700), true), reading(s, run(900, 700), true)};
  const CombinedSector c = combine_data(readings, 6);
  EXPECT_EQ(c.how, Combining::combined);
  EXPECT_EQ(c.bytes, s);
}

TEST(CombineData, MixesTwoReadingsUntilTheChecksumFits) {
  const cd::Sector s = good_sector(8);
  const std::vector<Reading> readings = {reading(s, run(50, 900)), reading(s, run(1200, 800))};
  const CombinedSector c = combine_data(readings, 8);
  EXPECT_EQ(c.how, Combining::combined);
  EXPECT_EQ(c.bytes, s);
  const std::vector<Reading> turned = {readings[1], readings[0]};
  EXPECT_EQ(combine_data(turned, 8).bytes, c.bytes);
}

TEST(CombineData, ZerosDoNotProveTheirModeByte) {
  cd::Sector empty{};
  cd::put_header(empty, 9, 0);
  cd::Sector as_mode2 = empty;
  as_mode2[15] = std::byte{2};
  ASSERT_TRUE(cd::parity_is_right(as_mode2, cd::SectorKind::mode2_form1)) << "a single wrong byte makes it so";
  EXPECT_FALSE(proves_itself(empty, 9));
  EXPECT_FALSE(proves_itself(as_mode2, 9));
  empty[100] = std::byte{1};
  EXPECT_FALSE(proves_itself(empty, 9)) << "no Mode 0 at all";
  empty[100] = std::byte{0};
  // Two readings that are alike count, as of other data without a checksum; one does not, nor does its correction.
  EXPECT_EQ(combine_data(std::vector{reading(empty), reading(empty), reading(as_mode2)}, 9).bytes, empty);
  EXPECT_EQ(combine_data(std::vector{reading(as_mode2, {300, 900})}, 9).how, Combining::none);
}

TEST(CombineData, HopelessStaysHopelessAndConflictsAreSaid) {
  const cd::Sector s = good_sector(9), other = good_sector(10);
  EXPECT_EQ(combine_data(std::vector{reading(s, run(20, 1500)), reading(s, run(400, 1500))}, 9).how, Combining::none);
  EXPECT_EQ(combine_data({}, 9).how, Combining::none);
  cd::Sector rewritten = other;
  cd::put_header(rewritten, 9, 1);
  cd::regenerate_parity(rewritten, cd::SectorKind::mode1);
  const CombinedSector c = combine_data(std::vector{reading(s), reading(rewritten), reading(rewritten)}, 9);
  EXPECT_EQ(c.how, Combining::conflict);
  EXPECT_EQ(c.bytes, rewritten) << "the majority";
}

TEST(CombineAudio, NeedsTwoCleanOrThreeEqualReadings) {
  cd::Sector s;
  const Bytes noise = Random(2).bytes(s.size());
  std::copy(noise.begin(), noise.end(), s.begin());
  EXPECT_EQ(combine_audio(std::vector{reading(s)}).how, Combining::unsure);
  EXPECT_EQ(combine_audio(std::vector{reading(s), reading(s)}).how, Combining::as_read);
  Reading flagged = reading(s);
  flagged.flagged = {{0, 3}};
  EXPECT_EQ(combine_audio(std::vector{flagged, flagged}).how, Combining::unsure);
  EXPECT_EQ(combine_audio(std::vector{flagged, flagged, flagged}).how, Combining::unsure);
  // Flagged bytes are outvoted sample by sample.
  const CombinedSector c = combine_audio(std::vector{reading(s, {40}, true), reading(s, {80}, true)});
  EXPECT_EQ(c.how, Combining::unsure);
  EXPECT_EQ(c.bytes, s);
}

TEST(SectorMap, KeepsRangesShort) {
  SectorMap map(0, 1000);
  EXPECT_EQ(map.ranges(), (std::vector<StateRange>{{0, 1000, SectorState::untried}}));
  map.set(100, 200, SectorState::good);
  map.set(200, 300, SectorState::good);
  map.set(250, 251, SectorState::unreadable);
  map.set(250, 251, SectorState::good);
  map.set(-50, 10, SectorState::good);
  EXPECT_EQ(map.ranges(), (std::vector<StateRange>{{0, 10, SectorState::good},
                                                   {10, 100, SectorState::untried},
                                                   {100, 300, SectorState::good},
                                                   {300, 1000, SectorState::untried}}));
  EXPECT_EQ(map.count(SectorState::good), 210u);
  EXPECT_EQ(map.at(99), SectorState::untried);
  EXPECT_EQ(map.at(1000), SectorState::outside);
  // Against a plain array.
  Random random(6);
  std::vector<SectorState> plain(1000, SectorState::untried);
  SectorMap tested(0, 1000);
  for (int i = 0; i < 3000; ++i) {
    const auto first = static_cast<Lba>(random.below(1000));
    const auto end = std::min<Lba>(1000, first + 1 + static_cast<Lba>(random.below(40)));
    const auto state = static_cast<SectorState>(random.below(12));
    tested.set(first, end, state);
    std::fill(plain.begin() + first, plain.begin() + end, state);
  }
  for (Lba lba = 0; lba < 1000; ++lba) ASSERT_EQ(tested.at(lba), plain[static_cast<std::size_t>(lba)]) << lba;
  const auto ranges = tested.ranges();
  for (std::size_t i = 1; i < ranges.size(); ++i) EXPECT_NE(ranges[i].state, ranges[i - 1].state);
}

TEST(SectorMap, TextComesBackAndDamageIsRefused) {
  SectorMapFile file;
  file.facts = {{"title", "MOTH: LANTERN"}, {"offset", "-30"}};
  file.map = SectorMap(0, 500);
  file.map.set(0, 480, SectorState::good);
  file.map.set(100, 103, SectorState::unreadable);
  file.suspect_bytes[7] = {{0, 10}, {2351, 2351}};
  const std::string text = print(file);
  const SectorMapFile back = parse_sector_map(text, "map");
  EXPECT_EQ(back.fact("title"), "MOTH: LANTERN");
  EXPECT_EQ(back.map.ranges(), file.map.ranges());
  ASSERT_EQ(back.suspect_bytes.at(7).size(), 2u);
  EXPECT_EQ(back.suspect_bytes.at(7)[1].last, 2351u);
  EXPECT_EQ(print(back), text);
  for (std::size_t n = 0; n < text.size() - 1; ++n)
    EXPECT_THROW(parse_sector_map(text.substr(0, n), "cut"), Error) << n;
  for (std::size_t n = 0; n < text.size(); n += 3) {
    std::string changed = text;
    changed[n] = static_cast<char>(changed[n] ^ 1);
    EXPECT_THROW(parse_sector_map(changed, "changed"), Error) << n;
  }
}

/// Two dumps of a pressing that writes its music a little later, and differing damage without maps.
TEST(Rescue, AlignsMusicOfAnotherPressing) {
  testkit::TempFolder folder;
  demo::Recipe recipe = demo::workshop_recipes()[0];
  recipe.stem = "a";
  demo::write_disc(recipe, folder.path(), demo::Files::one_bin);
  recipe.stem = "b";
  demo::write_disc(recipe, folder.path(), demo::Files::one_bin);
  const std::string original = testkit::read_file(folder / "a.bin");
  std::string late = original;
  constexpr std::size_t kMusic = 300 * 2352, kShift = 200 * 4;
  late.replace(kMusic, original.size() - kMusic,
               std::string(kShift, '\0') + original.substr(kMusic, original.size() - kMusic - kShift));
  testkit::write_file(folder / "b.bin", late);
  testkit::QuietContext context;
  const RescueResult r = plan_rescue({{open_image(folder / "a.cue"), {}}, {open_image(folder / "b.cue"), {}}}, context);
  EXPECT_EQ(r.shifts, (std::vector<int>{0, 200}));
  EXPECT_EQ(r.count(RescueHow::lost), 0u);
  EXPECT_GE(r.count(RescueHow::agreed), 1570u) << "all but the last sector, whose end the late dump lacks";
}

TEST(Rescue, OfBlocksFillsWhatOneOfThemLacks) {
  testkit::TempFolder folder;
  std::string whole(as_text(Random(8).bytes(300 * 2048)));
  const std::string original = whole;
  whole.replace(40 * 2048, 3 * 2048, std::string(3 * 2048, '\x55'));
  testkit::write_file(folder / "a.iso", whole);
  whole = original;
  whole.replace(200 * 2048, 2048, std::string(2048, '\x55'));
  testkit::write_file(folder / "b.iso", whole);
  testkit::QuietContext context;
  const RescueResult r = plan_rescue({{open_image(folder / "a.iso"), {}}, {open_image(folder / "b.iso"), {}}}, context);
  EXPECT_TRUE(r.complete());
  EXPECT_EQ(r.only_from, (std::vector<std::uint64_t>{1, 3}));
  Bytes joined(original.size());
  r.image.blocks()->read_at(0, joined);
  EXPECT_EQ(as_text(joined), original);
  testkit::write_file(folder / "short.iso", original.substr(2048));
  EXPECT_THROW(plan_rescue({{open_image(folder / "a.iso"), {}}, {open_image(folder / "short.iso"), {}}}, context),
               Error);
}

}  // namespace
}  // namespace opifex
