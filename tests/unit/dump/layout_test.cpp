// What becomes of a disc's layout while it is dumped: what is read, where it ends after all, which indexes are found.
#include <gtest/gtest.h>

#include "opifex/core/dump/disc_layout.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;
using Kind = cd::TrackMode::Kind;

struct Part {
  Kind kind;
  Lba pregap, start, end;
  int session = 1;
};

cd::Layout layout_of(const std::vector<Part>& parts) {
  cd::Layout layout;
  int number = 0;
  for (const Part& p : parts) {
    cd::Track t;
    t.number = ++number;
    t.session = p.session;
    t.mode = {p.kind, cd::kRawBytes};
    t.pregap_lba = p.pregap;
    t.start_lba = p.start;
    t.end_lba = p.end;
    t.indexes[1] = p.start;
    if (layout.sessions.empty() || layout.sessions.back().number != p.session)
      layout.sessions.push_back({.number = p.session, .first_track = number, .last_track = number});
    layout.sessions.back().last_track = number;
    layout.sessions.back().lead_out = p.end;
    layout.tracks.push_back(t);
  }
  layout.lead_out = parts.back().end;
  return layout;
}

TEST(DumpRegions, MusicRunsOnOverTracksDataDoesNot) {
  const auto regions = regions_of(layout_of({{Kind::mode2, 0, 0, 100},
                                             {Kind::audio, 100, 250, 400},
                                             {Kind::audio, 400, 400, 500},
                                             {Kind::mode1, 500, 650, 800},
                                             {Kind::audio, 800, 800, 900}}));
  ASSERT_EQ(regions.size(), 4u);
  EXPECT_EQ(regions[0].kind, RegionKind::data);
  EXPECT_EQ(regions[1].kind, RegionKind::audio);
  EXPECT_EQ(regions[1].first, 100);
  EXPECT_EQ(regions[1].end, 500);
  EXPECT_EQ(regions[2].index1, 650) << "before it other sectors may lie";
  EXPECT_EQ(regions[3].first, 800);
}

TEST(DumpRegions, MusicOfTwoSessionsIsTwoRuns) {
  const auto regions = regions_of(layout_of({{Kind::audio, 0, 0, 100}, {Kind::audio, 11'400, 11'400, 11'500, 2}}));
  ASSERT_EQ(regions.size(), 2u);
  EXPECT_EQ(regions[0].end, 100);
  EXPECT_EQ(regions[1].first, 11'400);
}

TEST(CutLayout, EndsInATrackOrWithoutTheLastOnes) {
  const std::vector<Part> parts = {
      {Kind::mode1, 0, 0, 100}, {Kind::audio, 100, 100, 200}, {Kind::audio, 11'600, 11'600, 11'700, 2}};
  cd::Layout inside = layout_of(parts);
  cut_layout(inside, 11'650);
  EXPECT_EQ(inside.tracks.size(), 3u);
  EXPECT_EQ(inside.tracks.back().end_lba, 11'650);
  EXPECT_EQ(inside.lead_out, 11'650);

  cd::Layout before = layout_of(parts);
  cut_layout(before, 150);
  ASSERT_EQ(before.tracks.size(), 2u);
  ASSERT_EQ(before.sessions.size(), 1u) << "the second session went with its only track";
  EXPECT_EQ(before.sessions[0].last_track, 2);
  EXPECT_EQ(before.sessions[0].lead_out, 150);

  cd::Layout first = layout_of(parts);
  cut_layout(first, 0);
  EXPECT_EQ(first.tracks.size(), 1u) << "a disc has a track";
  EXPECT_EQ(first.lead_out, 0);

  cd::Layout beyond = layout_of(parts);
  cut_layout(beyond, 20'000);
  EXPECT_EQ(beyond.lead_out, 11'700) << "it never grows";
}

class Indexes : public testing::Test {
 protected:
  cd::Subchannel at(Lba lba) const {
    cd::Subchannel block{};
    const cd::Track* t = layout.track_at(lba);
    const auto said = places.upper_bound(lba);
    const int index = said == places.begin() ? 1 : std::prev(said)->second;
    cd::QBytes q = cd::make_q({0, t->number, index, lba + lag, lba - t->start_lba});
    if (broken.contains(lba)) q[11] ^= std::byte{1};
    std::copy(q.begin(), q.end(), block.begin() + 12);
    return block;
  }
  void find() {
    add_indexes(layout, [&](Lba lba) { return at(lba); });
  }
  cd::Layout layout = layout_of({{Kind::audio, 0, 0, 100}, {Kind::audio, 100, 100, 200}});
  std::map<Lba, int> places = {{0, 1}, {40, 2}, {70, 3}, {100, 1}, {150, 2}};
  std::set<Lba> broken;
  Lba lag = 0;
};

TEST_F(Indexes, BeginWhereTheChannelFirstNamesThem) {
  find();
  EXPECT_EQ(layout.tracks[0].indexes, (std::map<int, Lba>{{1, 0}, {2, 40}, {3, 70}}));
  EXPECT_EQ(layout.tracks[1].indexes, (std::map<int, Lba>{{1, 100}, {2, 150}}));
}

TEST_F(Indexes, ABlockThatIsDamagedTellsNothing) {
  broken = {40, 41, 150};
  find();
  EXPECT_EQ(layout.tracks[0].indexes.at(2), 42) << "the first that can be read; never a guess";
  EXPECT_EQ(layout.tracks[1].indexes.at(2), 151);
}

TEST_F(Indexes, DrivesThatAnswerLateNameThePlaceThemselves) {
  lag = 1;
  find();
  EXPECT_EQ(layout.tracks[0].indexes.at(2), 41);
  lag = 30;  // of another place altogether
  layout.tracks[0].indexes = {{1, 0}};
  find();
  EXPECT_FALSE(layout.tracks[0].indexes.contains(2));
}

}  // namespace
}  // namespace opifex::dump
