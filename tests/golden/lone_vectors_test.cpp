// Images without a sheet: what detection must find, the sheet it must give, and the ISO of the data track.
#include <algorithm>

#include <gtest/gtest.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/formats/bin/detect.hpp"

#include "disc_json.hpp"

namespace opifex {
namespace {

using namespace testkit;

struct Case {
  std::string name;
  nlohmann::json expected;
};

std::vector<Case> cases() {
  std::vector<Case> all;
  const nlohmann::json whole = vector_json("cd/lone/expected.json");
  for (const auto& [name, expected] : whole["images"].items())
    if (expected.is_object()) all.push_back({name, expected});
  return all;
}

std::string case_name(const testing::TestParamInfo<Case>& info) {
  std::string name = info.param.name;
  for (char& c : name)
    if (!std::isalnum(static_cast<unsigned char>(c))) c = '_';
  return name;
}

class LoneImage : public testing::TestWithParam<Case> {
 protected:
  void SetUp() override {
    path = folder / GetParam().name;
    write_file(path, gunzip(vector_path("cd/lone/" + GetParam().name + ".gz")));
  }
  TempFolder folder;
  fs::path path;
};

TEST_P(LoneImage, IsDetectedAsExpected) {
  const nlohmann::json& expected = GetParam().expected;
  if (!expected["ok"].get<bool>()) {
    try {
      open_image(path);
      FAIL() << "should be refused: " << expected["reason"];
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, expected["reason"]) << e.what();
    }
    return;
  }
  const bin::Detected d = bin::detect(*open_file(path));
  EXPECT_EQ(d.sector_bytes, expected["sector_size"]);
  EXPECT_EQ(d.swapped, expected["swapped"]);
  EXPECT_EQ(d.scrambled, expected["scrambled"]);
  EXPECT_EQ(d.first_lba, expected["first_lba"]);
  EXPECT_EQ(d.subchannel ? nlohmann::json(to_string(*d.subchannel)) : nlohmann::json(), expected["subchannel"]);
  const Image image = open_image(path);
  EXPECT_EQ(tracks_json(image), expected["tracks"]);
  EXPECT_EQ(image.cd()->layout().lead_out, expected["leadout_lba"]);
  EXPECT_EQ(warning_codes(image.warnings), expected["warnings"]);
}

TEST_P(LoneImage, HasTheExpectedSectors) {
  const nlohmann::json& expected = GetParam().expected;
  if (!expected["ok"].get<bool>()) return;
  const Image image = open_image(path);
  std::map<std::string, int> counts;
  nlohmann::json bad = nlohmann::json::array();
  for (const Extent& e : image.cd()->extents())
    for (cd::Lba lba = e.lba; lba < e.end(); ++lba) {
      cd::Sector s;
      image.cd()->read_sector(lba, s);
      const auto report = cd::examine(s, {lba, !image.cd()->layout().track(e.track)->mode.is_audio()});
      const std::string kind = report.sync_lost               ? "no_sync"
                               : stored_bytes(e.form) == 2048 ? "cooked"
                                                              : std::string(to_string(report.kind));
      ++counts[kind];
      if (!report.bad()) continue;
      nlohmann::json row = {{"lba", lba}, {"kind", kind}, {"problems", cd::problem_list(report.problems)}};
      if (report.damage != cd::Damage::none) row["damage"] = to_string(report.damage);
      bad.push_back(row);
    }
  EXPECT_EQ(nlohmann::json(counts), expected["sectors"]["counts"]);
  EXPECT_EQ(bad, expected["sectors"]["bad"]);
}

TEST_P(LoneImage, GivesTheExpectedIso) {
  const nlohmann::json& expected = GetParam().expected;
  if (!expected["ok"].get<bool>()) return;
  const Image image = open_image(path);
  QuietContext context;
  ConvertRequest request{find_format("iso"), folder / "out.iso", {}, {"audio", "raw-headers", "form2"}};
  if (expected["iso"].contains("ok")) {
    EXPECT_THROW(plan_conversion(image, request, context), Error);
    return;
  }
  const Conversion conversion = plan_conversion(image, request, context);
  write_outputs(image, conversion.plan, {}, context);
  EXPECT_EQ(sha256_file(folder / "out.iso"), expected["iso"]["sha256"]);
  EXPECT_EQ(warning_codes(conversion.warnings), expected["iso"]["warnings"]);
  std::set<std::string> losses;
  for (const Loss& loss : conversion.losses)
    if (is_content_loss(loss.kind)) losses.insert(loss.kind);
  const bool stored_pregap = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                         [](const Loss& l) { return l.kind == "padding"; });
  EXPECT_EQ(stored_pregap, expected["first_lba"] == -150) << "what is left out is told, even if it is only a pause";
  EXPECT_EQ(nlohmann::json(losses), expected["iso"]["loss"]);
}

TEST_P(LoneImage, GetsARightSheet) {
  const nlohmann::json& expected = GetParam().expected;
  if (!expected["ok"].get<bool>()) return;
  const Image image = open_image(path);
  QuietContext context;
  const Conversion conversion =
      plan_conversion(image, {find_format("cue"), folder / "out.cue", {}, {"subchannel"}}, context);
  write_outputs(image, conversion.plan, {}, context);
  const Image back = open_image(folder / "out.cue");
  // Layouts no sheet can name are written as plain raw sectors; all others keep their tracks and modes.
  ASSERT_EQ(back.cd()->layout().tracks.size(), image.cd()->layout().tracks.size());
  for (std::size_t i = 0; i < back.cd()->layout().tracks.size(); ++i) {
    const cd::Track &a = image.cd()->layout().tracks[i], &b = back.cd()->layout().tracks[i];
    EXPECT_EQ(to_string(a.mode), to_string(b.mode));
    EXPECT_EQ(a.indexes, b.indexes);
  }
  for (cd::Lba lba = image.cd()->extents().front().lba; lba < image.cd()->layout().lead_out; ++lba) {
    cd::Sector a, b;
    image.cd()->read_sector(lba, a);
    back.cd()->read_sector(lba, b);
    ASSERT_EQ(a, b) << lba;
  }
}

INSTANTIATE_TEST_SUITE_P(Vectors, LoneImage, testing::ValuesIn(cases()), case_name);

}  // namespace
}  // namespace opifex
