// Figures, drawn and looked at: their size, that they are not blank, and colours where they are expected.
#include "opifex/report/figures.hpp"

#include <gtest/gtest.h>

#include "bar_rows.hpp"
#include "gnuplot.hpp"
#include "picture.hpp"
#include "sector_figures.hpp"

namespace opifex::report {
namespace {

using namespace testkit;

class DrawnFigure : public testing::Test {
 protected:
  Picture drawn(Figure figure) {
    figure.name += std::to_string(++number);
    draw(folder.path(), {figure});
    EXPECT_TRUE(read_file(folder / (figure.name + ".svg")).find("<svg") != std::string::npos);
    Picture picture = open_picture(folder / (figure.name + ".png"));
    EXPECT_EQ(picture.width, static_cast<unsigned>(figure.width));
    EXPECT_EQ(picture.height, static_cast<unsigned>(figure.height));
    EXPECT_GT(picture.colours(), 2u) << "it is blank";
    return picture;
  }
  std::size_t pixels(const Picture& picture, Tone tone) { return picture.count(shade(tone).rgb); }

  TempFolder folder;
  int number = 0;
};

TEST_F(DrawnFigure, AMapHasACellForEachSectorInItsColour) {
  const std::vector<ToneRange> ranges = {
      {0, 900, Tone::good, ""}, {300, 400, Tone::lost, ""}, {900, 1000, Tone::music, ""}};
  const Figure figure = map_figure("a disc", {0, 1000}, ranges, {{0, "track 1"}});
  EXPECT_NE(figure.words.find("lost 100"), std::string::npos) << figure.words;
  EXPECT_NE(figure.words.find("good 800"), std::string::npos) << "what is lost is not good, too: " << figure.words;
  const Picture picture = drawn(figure);
  const double good = static_cast<double>(pixels(picture, Tone::good)),
               lost = static_cast<double>(pixels(picture, Tone::lost)),
               music = static_cast<double>(pixels(picture, Tone::music));
  // Each legend entry and each label takes a little.
  EXPECT_NEAR(good / lost, 8, 0.5);
  EXPECT_NEAR(music / lost, 1, 0.1);
  EXPECT_EQ(pixels(picture, Tone::wrong), 0u);
  // Ten rows of a hundred cells: in the middle of the fourth row there is nothing but what is lost and white.
  std::set<std::uint32_t> seen;
  unsigned row = 0;
  for (unsigned y = 0; y < picture.height && row == 0; ++y)
    if (picture.at(picture.width / 2, y) == shade(Tone::lost).rgb) row = y;
  ASSERT_GT(row, 0u);
  for (unsigned x = 200; x < 1200; ++x) seen.insert(picture.at(x, row + 10));
  EXPECT_TRUE(seen.contains(shade(Tone::lost).rgb));
  EXPECT_FALSE(seen.contains(shade(Tone::good).rgb));
  EXPECT_FALSE(seen.contains(shade(Tone::music).rgb));
}

TEST_F(DrawnFigure, OneBadSectorOfMillionsIsSeenInTheMapAndInTheBar) {
  const std::vector<ToneRange> ranges = {{0, 4'000'000, Tone::good, ""}, {1'234'567, 1'234'568, Tone::lost, ""}};
  EXPECT_GT(pixels(drawn(map_figure("a disc", {0, 4'000'000}, ranges, {})), Tone::lost), 100u);
  const Picture bar = drawn(bar_figure("a disc", {0, 4'000'000}, {{"damage", {ranges[1]}}}));
  EXPECT_GT(pixels(bar, Tone::lost), 20u);
}

TEST_F(DrawnFigure, DamageBesideLesserDamageIsSeenInTheBar) {
  const std::vector<ToneRange> damage = {
      {54'400, 54'440, Tone::retried, ""}, {54'440, 54'450, Tone::lost, ""}, {54'450, 54'500, Tone::retried, ""}};
  const Picture bar = drawn(bar_figure("a disc", {0, 400'000}, {{"damage", damage}}));
  // The legend has a square of about 9 by 9.
  EXPECT_GT(pixels(bar, Tone::lost), 150u);
}

TEST_F(DrawnFigure, AHundredThousandPiecesAreAFewAndNoneIsLost) {
  std::vector<ToneRange> files;
  for (std::int64_t at = 0; at < 4'000'000; at += 40) files.push_back({at, at + 20, Tone::files, ""});
  files.push_back({2'000'001, 2'000'002, Tone::lost, ""});
  const Figure figure = bar_figure("a disc", {0, 4'000'000}, {{"files", files}});
  EXPECT_LT(figure.data.size(), 200'000u);
  EXPECT_NE(figure.words.find("files 1 999 999, lost 1"), std::string::npos) << figure.words;
  EXPECT_GT(pixels(drawn(figure), Tone::lost), 20u);
}

TEST_F(DrawnFigure, TheWorstOfACellIsShown) {
  Random random(7);
  for (int round = 0; round < 20; ++round) {
    std::vector<ToneRange> ranges;
    std::vector<Tone> truth(200, Tone::blank);
    for (std::uint64_t n = 1 + random.below(12); n > 0; --n) {
      const auto first = static_cast<std::int64_t>(random.below(220)) - 10;
      const std::int64_t end = first + static_cast<std::int64_t>(random.below(60));
      const Tone tone = static_cast<Tone>(random.below(shades().size()));
      ranges.push_back({first, end, tone, ""});
      for (std::int64_t s = std::max<std::int64_t>(0, first); s < std::min<std::int64_t>(200, end); ++s) {
        Tone& t = truth[static_cast<std::size_t>(s)];
        t = std::max(t, tone);
      }
    }
    const Figure figure = map_figure("x", {0, 200}, ranges, {});
    std::map<Tone, std::uint64_t> counts;
    for (const Tone t : truth) ++counts[t];
    for (const Shade& s : shades()) {
      const std::string words = fmt::format("{} {}", s.name, counts[s.tone]);
      const bool told = figure.words.find(" " + words + ",") != std::string::npos ||
                        figure.words.find(" " + words + ".") != std::string::npos;
      EXPECT_EQ(told, s.tone != Tone::blank && counts[s.tone] > 0) << round << ": " << words << " in " << figure.words;
    }
    for (std::size_t i = 0; i < truth.size(); ++i) {
      const std::string line = fmt::format("\n{} {} {} {} ", i % 100, i / 100, shade(truth[i]).rgb, i);
      EXPECT_EQ(figure.data.find(line) != std::string::npos, truth[i] != Tone::blank) << round << ": " << line;
    }
  }
}

TEST_F(DrawnFigure, BarsAreAsLongAsTheirNumbers) {
  BarChart chart{
      .name = "bars", .title = "t", .unit = "items", .series = {{"here", 0x1B9E77}, {"missing", 0x7A0014}}, .rows = {}};
  chart.rows.push_back({"a", "3 and 1", {{3, 0}, {1, 1}}});
  const Picture picture = drawn(bar_rows(chart));
  // In the middle of the bar's row.
  std::size_t here = 0, missing = 0;
  for (unsigned y = 0; y < picture.height && here < 300; ++y) {
    here = missing = 0;
    for (unsigned x = 0; x < picture.width; ++x) {
      here += picture.at(x, y) == 0x1B9E77;
      missing += picture.at(x, y) == 0x7A0014;
    }
  }
  EXPECT_GT(here, 300u);
  EXPECT_NEAR(static_cast<double>(here) / static_cast<double>(missing), 3, 0.1);
}

TEST_F(DrawnFigure, FilesAreListedWithWhatTheyLost) {
  const Figures figures = suffered_figures("a disc", {{"DATA/WHOLE.BIN", 10, 10, 5}, {"DATA/HALF.BIN", 10, 5, 20}});
  ASSERT_EQ(figures.size(), 1u);
  EXPECT_NE(figures[0].words.find("DATA/WHOLE.BIN: 10 of 10 sectors lost; DATA/HALF.BIN: 5 of 10"), std::string::npos);
  EXPECT_GT(pixels(drawn(figures[0]), Tone::lost), 1000u);
  EXPECT_TRUE(suffered_figures("a disc", {}).empty());
}

TEST_F(DrawnFigure, HostileNamesAreNamesAndRunNothing) {
  const std::string hit = (folder / "hit").string();
  for (const std::string& name :
       {"`touch " + hit + "`", "'; system('touch " + hit + "'); '", "\"; !touch " + hit,
        std::string("@a {/b} \\n %s \xFF\x1B[2J"), std::string(4096, 'x'),
        std::string("\xE7\x81\xAF\xE7\xB1\xA0\xE2\x80\xAE"), std::string("a\nset output '/x'\n")}) {
    BarChart chart{
        .name = "bars", .title = name, .unit = "items", .series = {{name, 0x1B9E77}, {name, 0x7A0014}}, .rows = {}};
    chart.rows.push_back({name, name, {{3, 0}, {1, 1}}});
    drawn(bar_rows(chart));
    drawn(map_figure(name, {0, 10}, std::vector<ToneRange>{{0, 10, Tone::good, name}}, {{0, name}}));
    drawn(bar_figure(name, {0, 10}, {{"tracks", {{0, 10, Tone::data, name}}}}));
    drawn(suffered_figures(name, {{name, 2, 1, 0}}).at(0));
    EXPECT_FALSE(fs::exists(hit)) << name.substr(0, 40);
  }
}

TEST_F(DrawnFigure, NothingToShowIsNoFault) {
  drawn(map_figure("x", {0, 0}, {}, {}));
  drawn(bar_figure("x", {0, 0}, {{"tracks", {}}}));
  drawn(bar_rows({.name = "b", .title = "t", .unit = "u", .series = {{"s", 1}}, .rows = {}}));
}

TEST_F(DrawnFigure, ThePictureCanBeDrawnAgainFromItsScript) {
  draw(folder.path(), {map_figure("again", {0, 100}, std::vector<ToneRange>{{0, 100, Tone::good, ""}}, {})});
  const std::string first = read_file(folder / "sector-map.svg");
  fs::remove(folder / "sector-map.svg");
  fs::remove(folder / "sector-map.png");
  EXPECT_EQ(run_program("gnuplot", {"sector-map.gp"}, folder.path()).exit_code, 0);
  EXPECT_EQ(read_file(folder / "sector-map.svg"), first);
}

TEST_F(DrawnFigure, OneThatCannotBeDrawnDoesNotStopTheOthers) {
  Figure wrong{.name = "wrong", .title = "t", .body = "this is no command\n"};
  Figure right{.name = "right", .title = "t", .body = "plot sin(x)\n"};
  EXPECT_EQ(error_code([&] { draw(folder.path(), {wrong, right}); }), "no_figure");
  EXPECT_GT(open_picture(folder / "right.png").colours(), 2u);
}

}  // namespace
}  // namespace opifex::report
