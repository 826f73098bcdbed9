// What every registered format says of itself has to hold together; and what the user says where a format would guess.
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/image/format.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

class EachFormat : public testing::TestWithParam<const Format*> {};

TEST_P(EachFormat, HasWhatTheOthersAskFor) {
  const Format& f = *GetParam();
  EXPECT_FALSE(f.id.empty() || f.title.empty() || f.extensions.empty());
  EXPECT_NE(f.probe, nullptr);
  EXPECT_NE(f.open, nullptr);
  for (const char c : f.id) EXPECT_TRUE((c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-') << f.id;
  for (const std::string_view e : f.extensions) {
    EXPECT_TRUE(e.empty() || e.front() == '.') << e;
    EXPECT_EQ(fold_case(e), e);
    EXPECT_EQ(f.owns(e), !e.empty());
  }
  EXPECT_EQ(find_format(f.id), &f) << "its id is its own";
  if (f.unit_setting) {
    EXPECT_NE(find_setting(f.settings, f.unit_setting->name), nullptr) << "it can be chosen where it is written";
  }
  if (f.is_told) {
    EXPECT_FALSE(f.read_settings.empty()) << "by what is it told?";
  }
}

TEST_P(EachFormat, HasSettingsThatHelpCanShow) {
  std::set<std::string_view> names;
  for (const auto list : {GetParam()->settings, GetParam()->read_settings})
    for (const Setting* s : list) {
      EXPECT_FALSE(s->help.empty()) << s->name;
      EXPECT_EQ(s->value.empty(), s->type == SettingType::flag) << s->name << ": a flag has no value, all others have";
      names.insert(s->name);
    }
  const SettingList& offered = jobs::convert_settings();
  for (const std::string_view name : names)
    EXPECT_TRUE(!GetParam()->plan_write || find_setting(offered, name)) << name << " cannot be given to convert";
}

TEST_P(EachFormat, NamesPartsThatAreFoundAgain) {
  const PartNaming* naming = GetParam()->part_names;
  if (naming == nullptr) return SUCCEED() << "as files of no format are named: tested there";
  const std::string_view extension = GetParam()->extensions.front();
  std::vector<std::string> names;
  for (std::size_t n = 0; n < naming->most; ++n) names.push_back(naming->name("Game", extension, n));
  EXPECT_EQ(std::set<std::string>(names.begin(), names.end()).size(), naming->most) << "no name twice";
  for (const std::size_t count : {std::size_t{2}, std::size_t{3}, std::min<std::size_t>(naming->most, 12)}) {
    const std::vector<std::string> some(names.begin(), names.begin() + static_cast<std::ptrdiff_t>(count));
    const std::vector<PartSet> sets = find_part_sets(some);
    ASSERT_EQ(sets.size(), 1u) << some.back();
    EXPECT_EQ(sets[0].parts, some);
    EXPECT_EQ(sets[0].whole(), "Game" + std::string(extension));
  }
}

INSTANTIATE_TEST_SUITE_P(All, EachFormat, testing::ValuesIn(formats().begin(), formats().end()), [](const auto& each) {
  std::string name(each.param->id);
  std::replace(name.begin(), name.end(), '-', '_');
  return name;
});

TEST(ToldFormats, OneAtMostForAnySize) {
  for (int bytes = 1; bytes <= 4096; ++bytes) {
    const Settings told = Settings::of(jobs::format_read_settings(), {{"sector-size", std::to_string(bytes)}});
    const auto claims = std::count_if(formats().begin(), formats().end(),
                                      [&](const Format* f) { return f->is_told && f->is_told(told); });
    ASSERT_EQ(claims, 1) << bytes;
  }
  for (const Format* f : formats()) EXPECT_FALSE(f->is_told && f->is_told({})) << f->id << ": nobody said so";
}

/// The image of this file that the user says something of.
Image open_as(const fs::path& path, std::vector<std::pair<std::string, std::string>> words) {
  OpenOptions options;
  options.settings = Settings::of(jobs::format_read_settings(), words);
  return open_image(path, options);
}

TEST(ToldFormats, TheUsersSizeCountsWhateverTheFileLooksLike) {
  const TempFolder folder;
  Random random(151);
  for (const std::size_t bytes : {2048u, 2336u, 2352u, 2448u}) {
    const Bytes data = random.bytes(bytes * 2352 / 16);  // whole sectors of several sizes
    write_file(folder / "x.dat", as_text(data));
    const Image image = open_as(folder / "x.dat", {{"sector-size", std::to_string(bytes)}, {"mode", "2"}});
    ASSERT_NE(image.cd(), nullptr) << bytes;
    EXPECT_EQ(image.cd()->stored_sectors(), data.size() / bytes);
    EXPECT_EQ(image.format->stored, bytes == 2048 ? Stored::blocks : Stored::sectors) << bytes;
  }
}

TEST(ToldFormats, AnotherModeGivesOtherSectorsOfTheSameData) {
  const TempFolder folder;
  Random random(153);
  const Bytes data = random.bytes(2048 * 20);
  write_file(folder / "x.iso", as_text(data));
  for (const int mode : {1, 2}) {
    const Image image = open_as(folder / "x.iso", {{"mode", std::to_string(mode)}});
    cd::Sector s;
    image.cd()->read_sector(3, s);
    EXPECT_EQ(cd::header_mode(s), mode);
    Bytes user(2048);
    image.user_data()->read_at(3 * 2048, user);
    EXPECT_TRUE(std::equal(user.begin(), user.end(), data.begin() + 3 * 2048));
  }
}

TEST(ToldFormats, ASizeThatNobodyStoresIsRefused) {
  const TempFolder folder;
  write_file(folder / "x.dat", std::string(2352 * 2000, 'x'));
  for (const char* size : {"1", "512", "2000", "65536"})
    EXPECT_THROW(open_as(folder / "x.dat", {{"sector-size", size}}), Error) << size;
  for (const char* wrong : {"0", "65537", "-1", "2048x", ""})
    EXPECT_THROW(open_as(folder / "x.dat", {{"sector-size", wrong}}), Error) << wrong;
}

}  // namespace
}  // namespace opifex
