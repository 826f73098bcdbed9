// The tables of settings: what they take, what they refuse, and in which words.
#include "opifex/core/jobs/settings.hpp"

#include <set>

#include <gtest/gtest.h>

#include "opifex/core/image/format.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {
namespace {

constexpr Setting kNumber{.name = "passes", .type = SettingType::number, .range = {1, 99}, .unit = "rounds"};
constexpr Setting kSize{.name = "hunk", .type = SettingType::size, .range = {1, 1 << 20}};
constexpr Setting kTime{.name = "after", .type = SettingType::duration};
constexpr Setting kDay{.name = "day", .type = SettingType::date};
constexpr Setting kWord{.name = "effort", .type = SettingType::choice, .preset = "normal", .words = [] {
                          return std::vector<std::string>{"fast", "normal", "best"};
                        }};
constexpr Setting kWords{.name = "lose", .type = SettingType::choices, .words = [] {
                           return std::vector<std::string>{"audio", "tracks"};
                         }};

ErrorDetails refused(const Setting& setting, const std::string& value) {
  Settings settings;
  try {
    settings.set(setting, value);
  } catch (const Error& e) {
    EXPECT_FALSE(settings.has(setting)) << "what is refused is not kept";
    return e.details;
  }
  ADD_FAILURE() << setting.name << " takes " << value;
  return {};
}

TEST(SettingsTest, ReadWhatTheyTake) {
  Settings s;
  s.set(kNumber, "99");
  s.set(kSize, "64KiB");
  s.set(kTime, "1.5min");
  s.set(kDay, "2000-02-29");
  s.set(kWord, "best");
  s.set(kWords, " audio , tracks");
  EXPECT_EQ(s.number(kNumber), 99);
  EXPECT_EQ(s.bytes(kSize), 65536u);
  EXPECT_EQ(s.milliseconds(kTime), 90000u);
  EXPECT_EQ(s.day(kDay), 951782400);
  EXPECT_EQ(s.choice<int>(kWord), 2);
  EXPECT_EQ(s.list(kWords), (std::vector<std::string>{"audio", "tracks"}));
}

TEST(SettingsTest, WithoutAValueGiveThePresetOrNothing) {
  const Settings s;
  EXPECT_EQ(s.number(kNumber), std::nullopt);
  EXPECT_EQ(s.text(kWord), "normal");
  EXPECT_EQ(s.choice<int>(kWord), 1);
  EXPECT_TRUE(s.list(kWords).empty());
  EXPECT_FALSE(s.has(kWord));
}

TEST(SettingsTest, NameTheSettingTheRangeAndTheNearestWord) {
  for (const char* wrong : {"0", "100", "-1", "1x", "", "9999999999999999999999"}) {
    const ErrorDetails e = refused(kNumber, wrong);
    EXPECT_EQ(e.fault, Fault::usage);
    EXPECT_TRUE(e.what.starts_with("passes takes a number of rounds from 1 to 99, not ")) << e.what;
  }
  for (const char* wrong : {"2MiB", "0", "-5", "12 parsecs"})
    EXPECT_TRUE(refused(kSize, wrong).what.find("at most 1.0 MiB") != std::string::npos);
  for (const char* wrong : {"5 years", "-3s", "s", "1e99h", "nan"})
    EXPECT_EQ(refused(kTime, wrong).fault, Fault::usage) << wrong;
  for (const char* wrong : {"2001-02-29", "2000-13-01", "2000-1-1", "1800-01-01", "2000-01-31x"})
    EXPECT_EQ(refused(kDay, wrong).fault, Fault::usage) << wrong;
  EXPECT_EQ(refused(kWord, "bets").hint, "did you mean best?");
  EXPECT_EQ(refused(kWord, "bets").what, "effort takes fast, normal or best, not bets");
  const ErrorDetails two = refused(kWords, "audio,trakcs");
  EXPECT_EQ(two.what, "lose takes audio or tracks, not trakcs");
  EXPECT_EQ(two.hint, "did you mean tracks?");
}

TEST(SettingsTest, AreFoundByName) {
  const SettingList list = {&kNumber, &kWord};
  EXPECT_EQ(Settings::of(list, {{"passes", "3"}}).number(kNumber), 3);
  try {
    Settings::of(list, {{"pases", "3"}});
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.hint, "did you mean passes?");
  }
}

using Lists = std::vector<std::pair<const char*, const SettingList*>>;
Lists all_lists() {
  return {{"identify", &identify_settings()}, {"check", &check_settings()}, {"convert", &convert_settings()},
          {"merge", &merge_settings()},       {"split", &split_settings()}, {"files", &files_settings()},
          {"extract", &extract_settings()},   {"build", &build_settings()}, {"rename", &rename_settings()},
          {"rescue", &rescue_settings()},     {"dump", &dump_settings()}};
}

TEST(SettingsTables, AreWholeAndTakeTheirOwnPresets) {
  for (const auto& [job, list] : all_lists()) {
    std::set<std::string_view> names;
    for (const Setting* s : *list) {
      EXPECT_TRUE(names.insert(s->name).second) << job << " has " << s->name << " twice";
      EXPECT_FALSE(s->help.empty()) << s->name;
      EXPECT_EQ(s->help.find("--"), std::string_view::npos) << s->name << " speaks of options";
      EXPECT_EQ(s->value.empty(), s->type == SettingType::flag) << s->name;
      EXPECT_EQ(s->words != nullptr, s->type == SettingType::choice || s->type == SettingType::choices) << s->name;
      Settings settings;
      for (const std::string_view own : {s->preset, s->implied}) {
        if (own.empty()) continue;
        EXPECT_NO_THROW(settings.set(*s, own)) << s->name;
      }
    }
  }
}

TEST(SettingsTables, HoldThoseOfEveryFormatThatIsWritten) {
  std::size_t seen = 0;
  for (const Format* f : formats())
    for (const Setting* s : f->settings) {
      ++seen;
      EXPECT_TRUE(find_setting(convert_settings(), s->name)) << f->id << " " << s->name;
    }
  EXPECT_GT(seen, 8u);
}

TEST(TitleMark, FollowsFromTheTitleAlone) {
  const std::string cape = "Tidewater Courier - The Long Way Home Around The Cape";
  EXPECT_EQ(title_mark(cape + " A (Disc 1)"), "s7u2");
  EXPECT_EQ(title_mark(cape + " B (Disc 1)"), "1b5p");
}

}  // namespace
}  // namespace opifex::jobs
