// What a format cannot hold of a disc: random discs and random capabilities against what the words mean.
#include <gtest/gtest.h>

#include "opifex/core/convert/plan.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using testkit::Random;
using Kind = cd::TrackMode::Kind;

cd::Layout random_layout(Random& random) {
  cd::Layout layout;
  const auto tracks = 1 + random.below(8);
  const auto second =
      random.below(3) == 0 && tracks > 1 ? 1 + random.below(tracks - 1) : tracks;  // session 2 from here
  const bool areas = second == tracks && tracks > 2 && random.below(4) == 0;
  for (std::uint64_t i = 0; i < tracks; ++i) {
    cd::Track t;
    t.number = static_cast<int>(i) + 1;
    t.mode.kind = random.below(2) == 0 ? Kind::audio : random.below(2) == 0 ? Kind::mode1 : Kind::mode2;
    t.session = i < second ? 1 : 2;
    if (areas) t.area = i < 2 ? cd::Area::single_density : cd::Area::high_density;
    t.pregap_lba = t.start_lba = layout.lead_out;
    t.end_lba = layout.lead_out = t.start_lba + static_cast<cd::Lba>(1 + random.below(20'000));
    layout.tracks.push_back(t);
  }
  layout.sessions.resize(second < tracks ? 2 : 1);
  return layout;
}

Capabilities random_capabilities(Random& random) {
  Capabilities c;
  c.audio = random.below(2) != 0;
  c.track_list = c.audio && random.below(2) != 0;
  c.sessions = c.track_list && random.below(2) != 0;
  c.areas = c.sessions && random.below(2) != 0;
  return c;
}

const Loss* find(const std::vector<Loss>& losses, std::string_view kind, std::string_view detail = "") {
  for (const Loss& l : losses)
    if (l.kind == kind && l.detail.find(detail) != std::string::npos) return &l;
  return nullptr;
}

TEST(LayoutLosses, AreWhatTheCapabilitiesLack) {
  Random random(21);
  for (int i = 0; i < 5'000; ++i) {
    const cd::Layout layout = random_layout(random);
    const Capabilities holds = random_capabilities(random);
    const cd::Track* kept = layout.first_data_track();
    const int chosen = kept ? kept->number : 0;
    const std::vector<Loss> losses = layout_losses(layout, holds, chosen);
    const bool single = !holds.track_list && !holds.audio;
    std::size_t audio = 0, other_data = 0;
    for (const cd::Track& t : layout.tracks)
      if (t.number != chosen) ++(t.mode.is_audio() ? audio : other_data);
    ASSERT_EQ(find(losses, "audio") != nullptr, single && audio > 0);
    const bool borders = holds.audio && !holds.track_list && layout.tracks.size() > 1;
    ASSERT_EQ(find(losses, "tracks") != nullptr, borders || (single && other_data > 0));
    bool areas = false;
    for (const cd::Track& t : layout.tracks) areas = areas || t.area == cd::Area::high_density;
    const bool parted = layout.sessions.size() > 1 || (areas && !holds.areas);
    ASSERT_EQ(find(losses, "sessions") != nullptr, !holds.sessions && !single && parted);
    for (const Loss& l : losses) {
      ASSERT_FALSE(l.where.empty() || l.detail.empty()) << l.kind << ": a loss says where and what";
      ASSERT_FALSE(l.accepted) << "nobody was asked yet";
      ASSERT_TRUE(is_content_loss(l.kind));
    }
  }
}

TEST(LayoutLosses, NameTheTracksAndHowMuchMusic) {
  cd::Layout layout;
  for (int n = 1; n <= 5; ++n) {
    const cd::Lba at = (n - 1) * 75 * 60;
    const Kind kind = n == 1 || n == 4 ? Kind::mode1 : Kind::audio;
    layout.tracks.push_back(
        {.number = n, .mode = {kind, 2352}, .pregap_lba = at, .start_lba = at, .end_lba = at + 75 * 60});
  }
  layout.sessions.resize(1);
  const std::vector<Loss> losses = layout_losses(layout, {}, 1);
  ASSERT_NE(find(losses, "audio"), nullptr);
  EXPECT_EQ(find(losses, "audio")->where, "tracks 2, 3, 5");
  EXPECT_NE(find(losses, "audio")->detail.find("3"), std::string::npos) << "minutes: " << find(losses, "audio")->detail;
  ASSERT_NE(find(losses, "tracks"), nullptr);
  EXPECT_EQ(find(losses, "tracks")->where, "track 4");
}

const Format& any_format() { return *formats().front(); }

TEST(RefuseLosses, OnlyThoseThatNobodyAcceptedAreRefused) {
  const std::vector<Loss> none, accepted = {{"audio", "track 2", "music", true}, {"filler", "x", "y", true}};
  EXPECT_NO_THROW(refuse_losses(none, "x.cue", any_format(), "chd"));
  EXPECT_NO_THROW(refuse_losses(accepted, "x.cue", any_format(), "chd"));
  std::vector<Loss> losses = accepted;
  losses.push_back({"sessions", "all but the first session", "gone", false});
  losses.push_back({"tracks", "track 4", "gone", false});
  try {
    refuse_losses(losses, "x.cue", any_format(), "chd");
    FAIL() << "a loss was let through";
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::needs_word);
    EXPECT_EQ(e.details.code, "loss");
    EXPECT_EQ(e.details.found, "sessions (all but the first session), tracks (track 4)");
    EXPECT_NE(e.details.hint.find("<accept> sessions,tracks"), std::string::npos) << e.details.hint;
    EXPECT_NE(e.details.hint.find("<to> chd loses nothing"), std::string::npos);
  }
}

TEST(RefuseLosses, NoAdviceLeadsToTheSameRefusal) {
  const std::vector<Loss> losses = {{"audio", "track 2", "music", false}};
  try {
    refuse_losses(losses, "x.cue", any_format(), any_format().id);
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.hint.find("loses nothing"), std::string::npos) << e.details.hint;
  }
}

}  // namespace
}  // namespace opifex
