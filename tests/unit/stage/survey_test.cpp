// A folder of many things: what is found, what belongs together, and what was not looked at.
#include "opifex/core/stage/survey.hpp"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

Survey look(const fs::path& folder) {
  QuietContext context;
  return survey_folder({folder, target_facts(folder)}, context);
}

std::vector<std::string> paths(const Survey& survey) {
  std::vector<std::string> names;
  for (const SurveyItem& i : survey.items) names.push_back(i.path.lexically_relative(survey.folder).string());
  std::sort(names.begin(), names.end());
  return names;
}

bool says(const std::vector<Warning>& warnings, const std::string& code) {
  return std::any_of(warnings.begin(), warnings.end(), [&](const Warning& w) { return w.code == code; });
}

using Names = std::vector<std::string>;

TEST(SurveyFolder, ASetIsOneItemWithAllItsFiles) {
  const TempFolder folder;
  demo::write_disc({.stem = "Moth", .audio_sectors = {200, 200}}, folder / "a", demo::Files::bin_per_track);
  demo::write_disc({.stem = "Lone", .seed = 2}, folder / "b", demo::Files::lone_bin);
  const Survey survey = look(folder.path());
  ASSERT_EQ(paths(survey), (Names{"a/Moth.cue", "b/Lone.bin"}));
  for (const SurveyItem& item : survey.items) {
    std::uint64_t size = 0;
    for (const fs::path& f : item.files) size += fs::file_size(f);
    EXPECT_EQ(item.size_bytes, size) << item.path;
    EXPECT_TRUE(item.complete) << item.path;
  }
  EXPECT_EQ(survey.total_bytes, survey.items[0].size_bytes + survey.items[1].size_bytes);
  EXPECT_TRUE(survey.unseen.empty());
}

TEST(SurveyFolder, TheTracksOfATrackListAreNoImagesOfTheirOwn) {
  const TempFolder folder;
  copy_folder(vector_path("iso/dreamcast"), folder / "gd");
  const Survey survey = look(folder.path());
  ASSERT_EQ(paths(survey), (Names{"gd/disc.gdi"}));
  EXPECT_EQ(survey.items[0].files.size(), 4u);
  EXPECT_EQ(survey.other_files, 0u);
}

TEST(SurveyFolder, AMissingFileMakesAnItemIncomplete) {
  const TempFolder folder;
  demo::write_disc({.stem = "Moth", .audio_sectors = {200}}, folder.path(), demo::Files::bin_per_track);
  fs::remove(folder / "Moth (Track 2).bin");
  const Survey survey = look(folder.path());
  ASSERT_EQ(survey.items.size(), 1u);
  EXPECT_FALSE(survey.items[0].complete);
  EXPECT_TRUE(says(survey.items[0].warnings, "missing_file"));
}

TEST(SurveyFolder, OtherThingsAreCountedAndLeftAlone) {
  const TempFolder folder;
  demo::write_disc({.stem = "Lone"}, folder.path(), demo::Files::lone_bin);
  write_file(folder / "notes.txt", "hello");
  write_file(folder / "cover.png", "\x89PNG");
  write_file(folder / "empty.iso", "");
  const Survey survey = look(folder.path());
  EXPECT_EQ(paths(survey), (Names{"Lone.bin"}));
  EXPECT_EQ(survey.other_files, 3u);
}

TEST(SurveyFolder, TheSameDiscTwiceIsSaid) {
  const TempFolder folder;
  demo::write_disc({.stem = "Lone"}, folder / "a", demo::Files::lone_bin);
  demo::write_disc({.stem = "Lone"}, folder / "b", demo::Files::lone_bin);
  demo::write_disc({.stem = "Lone", .seed = 9}, folder / "c", demo::Files::lone_bin);
  const Survey survey = look(folder.path());
  EXPECT_EQ(survey.items.size(), 3u);
  const auto twice = std::count_if(survey.problems.begin(), survey.problems.end(), [](const Warning& w) {
    return w.message.find("a/Lone.bin") != std::string::npos && w.message.find("b/Lone.bin") != std::string::npos;
  });
  EXPECT_EQ(twice, 1);
  EXPECT_TRUE(std::none_of(survey.problems.begin(), survey.problems.end(),
                           [](const Warning& w) { return w.message.find("c/Lone.bin") != std::string::npos; }));
}

TEST(SurveyFolder, LinksAndPipesAreNotFollowedAndLinksAreSaid) {
  const TempFolder folder, elsewhere;
  demo::write_disc({.stem = "Lone"}, elsewhere.path(), demo::Files::lone_bin);
  fs::create_directory_symlink(elsewhere.path(), folder / "link");
  fs::create_directory_symlink(folder.path(), folder / "loop");
  ASSERT_EQ(::mkfifo((folder / "pipe.iso").c_str(), 0600), 0);
  const Survey survey = look(folder.path());
  EXPECT_TRUE(survey.items.empty());
  EXPECT_EQ(survey.unseen.size(), 2u) << "what a link leads to may hold images";
  EXPECT_TRUE(says(survey.unseen, "link"));
}

TEST(SurveyFolder, DepthHasAnEndThatIsSaid) {
  const TempFolder folder;
  fs::path deep = folder.path();
  for (int i = 0; i < 40; ++i) deep /= "d";
  demo::write_disc({.stem = "Deep"}, deep, demo::Files::lone_bin);
  demo::write_disc({.stem = "Near"}, folder / "d/d", demo::Files::lone_bin);
  const Survey survey = look(folder.path());
  EXPECT_EQ(paths(survey), (Names{"d/d/Near.bin"}));
  EXPECT_TRUE(says(survey.unseen, "too_deep"));
}

TEST(SurveyFolder, PartsAreOneItemAndAMissingOneIsSaid) {
  const TempFolder folder;
  demo::write_disc({.stem = "Whole"}, folder.path(), demo::Files::lone_bin);
  const std::string bytes = read_file(folder / "Whole.bin");
  fs::remove(folder / "Whole.bin");
  const std::size_t half = bytes.size() / 2;
  write_file(folder / "Cut.bin.001", bytes.substr(0, half));
  write_file(folder / "Cut.bin.002", bytes.substr(half));
  Survey survey = look(folder.path());
  ASSERT_EQ(paths(survey), (Names{"Cut.bin.001"}));
  EXPECT_EQ(survey.items[0].parts, 2u);
  EXPECT_EQ(survey.items[0].size_bytes, bytes.size());
  fs::rename(folder / "Cut.bin.002", folder / "Cut.bin.003");
  survey = look(folder.path());
  ASSERT_EQ(survey.items.size(), 1u);
  EXPECT_FALSE(survey.items[0].complete);
  EXPECT_TRUE(says(survey.items[0].warnings, "missing_part"));
}

TEST(SurveyFolder, NamesTheDriveCannotHaveAreSaid) {
  const TempFolder folder;
  demo::write_disc({.stem = "a b"}, folder.path(), demo::Files::lone_bin);
  fs::rename(folder / "a b.bin", folder / "what?.bin");
  QuietContext context;
  const auto survey_for = [&](const char* drive) {
    return survey_folder({folder.path(), with_file_system(target_facts(folder.path()), drive)}, context);
  };
  const auto told = [](const Survey& survey) {
    return std::any_of(survey.problems.begin(), survey.problems.end(),
                       [](const Warning& w) { return w.message.find("what?.bin") != std::string::npos; });
  };
  EXPECT_TRUE(told(survey_for("fat32")));
}

TEST(SurveyFolder, ManyFoldersOfRandomThingsEndAndCountEachFileOnce) {
  Random random(81);
  for (int round = 0; round < 10; ++round) {
    const TempFolder folder;
    std::size_t discs = 0, others = 0;
    for (int i = 0; i < 12; ++i) {
      const fs::path where = folder.path() / fmt::format("f{}", random.below(4)) / fmt::format("g{}", random.below(3));
      if (random.below(3) == 0) {
        demo::write_disc({.stem = fmt::format("Disc{}", i), .seed = 100 + random.below(1'000'000)}, where,
                         demo::Files::lone_bin);
        ++discs;
      } else {
        write_file(where / fmt::format("x{}.dat", i), as_text(random.bytes(random.below(5'000))));
        ++others;
      }
    }
    const Survey survey = look(folder.path());
    EXPECT_EQ(survey.items.size(), discs);
    EXPECT_EQ(survey.other_files, others);
  }
}

}  // namespace
}  // namespace opifex
