// Every sheet of the vectors: read, merged, split both ways, made an ISO and a VCD, each compared with what an
// independent implementation gave.
#include <gtest/gtest.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/shared_settings.hpp"

#include "disc_json.hpp"

namespace opifex {
namespace {

using namespace testkit;

struct Case {
  std::string folder, sheet;
  nlohmann::json expected;
};

std::vector<Case> cases(const std::vector<std::string>& folders) {
  std::vector<Case> all;
  for (const std::string& folder : folders) {
    const nlohmann::json whole = vector_json("cd/" + folder + "/expected.json");
    for (const auto& [sheet, expected] : whole["cues"].items()) all.push_back({folder, sheet, expected});
  }
  return all;
}

std::string case_name(const testing::TestParamInfo<Case>& info) {
  std::string name = fs::path(info.param.folder).filename().string() + "_" + fs::path(info.param.sheet).stem().string();
  for (char& c : name)
    if (!std::isalnum(static_cast<unsigned char>(c))) c = '_';
  return name;
}

fs::path sheet_path(const Case& c) { return vector_path("cd/" + c.folder) / c.sheet; }

class GoodSheet : public testing::TestWithParam<Case> {};

TEST_P(GoodSheet, HasTheExpectedLayout) {
  const nlohmann::json& read = GetParam().expected["read"];
  const Image image = open_image(sheet_path(GetParam()));
  const cd::Layout& layout = image.cd()->layout();
  EXPECT_EQ(tracks_json(image), read["tracks"]);
  EXPECT_EQ(sessions_json(layout), read["sessions"]);
  EXPECT_EQ(layout.lead_out, read["leadout_lba"]);
  EXPECT_EQ(warning_codes(image.warnings), read["warnings"]);
  EXPECT_EQ(layout.catalogue, read.value("catalog", ""));
  EXPECT_EQ(cd::find_text(layout.texts, "TITLE").value_or(""), read.value("title", ""));
  EXPECT_EQ(layout.cd_text_file, read.value("cdtextfile", ""));
  for (std::size_t i = 0; i < image.files.size(); ++i) {
    EXPECT_EQ(image.files[i].path.filename(), fs::path(read["files"][i]["path"].get<std::string>()));
    EXPECT_EQ(image.files[i].size_bytes, read["files"][i]["size"]);
    EXPECT_EQ(image.files[i].type, read["files"][i]["type"]);
  }
}

TEST_P(GoodSheet, HasTheExpectedSectors) {
  const Image image = open_image(sheet_path(GetParam()));
  std::map<std::string, int> counts;
  for (const Extent& e : image.cd()->extents())
    for (cd::Lba lba = e.lba; lba < e.end(); ++lba) {
      const bool cooked =
          e.form == StoredForm::mode1_user || e.form == StoredForm::form1_user || e.form == StoredForm::form2_user;
      cd::Sector s;
      image.cd()->read_sector(lba, s);
      const auto report = cd::examine(s, {lba, !image.cd()->layout().track(e.track)->mode.is_audio()});
      EXPECT_FALSE(report.bad()) << lba;
      ++counts[cooked ? "cooked" : std::string(to_string(report.kind))];
    }
  EXPECT_EQ(nlohmann::json(counts), GetParam().expected["verify"]["counts"]);
}

/// [number, mode, {index: [file, frames]}, pregap, postgap] of a written sheet, read back.
nlohmann::json index_json(const Image& image) {
  nlohmann::json all = nlohmann::json::array();
  for (const cd::Track& t : image.cd()->layout().tracks) {
    nlohmann::json indexes = nlohmann::json::object();
    for (const auto& [number, lba] : t.indexes) {
      const Extent& at = *image.cd()->extent_at(lba);
      std::int64_t frames = lba - at.lba;
      for (const Extent& e : image.cd()->extents())
        if (e.file == at.file && e.lba < at.lba) frames += e.sectors;
      indexes[fmt::format("{:02}", number)] = {at.file, frames};
    }
    all.push_back({t.number, to_string(t.mode), indexes, t.pregap_unstored, t.postgap_unstored});
  }
  return all;
}

std::set<std::string> content_losses(const std::vector<Loss>& losses) {
  std::set<std::string> kinds;
  for (const Loss& loss : losses)
    if (is_content_loss(loss.kind)) kinds.insert(loss.kind);
  return kinds;
}

struct Converted {
  std::set<std::string> losses;
  std::vector<WrittenFile> files;
  Conversion conversion;
};

Converted convert(const Image& image, const char* target, const fs::path& out, const Settings& settings = {}) {
  QuietContext context;
  ConvertRequest request{find_format(target), out, settings, {}};
  for (const std::string& kind : content_loss_kinds()) request.accepted.insert(kind);
  Converted done;
  done.conversion = plan_conversion(image, request, context);
  done.losses = content_losses(done.conversion.losses);
  done.files = write_outputs(image, done.conversion.plan, {}, context);
  return done;
}

TEST_P(GoodSheet, MergesToTheExpectedBytes) {
  const nlohmann::json& expected = GetParam().expected["merge"];
  const TempFolder folder;
  const Image image = open_image(sheet_path(GetParam()));
  const Converted done = convert(image, "cue", folder / "out.cue");
  EXPECT_EQ(sha256_file(folder / "out.bin"), expected["sha256"]);
  EXPECT_EQ(nlohmann::json(done.losses), expected["loss"]);
  const Image back = open_image(folder / "out.cue");
  EXPECT_EQ(index_json(back), expected["indexes"]);
  EXPECT_EQ(back.cd()->layout().lead_out, image.cd()->layout().lead_out) << read_file(folder / "out.cue");
}

TEST_P(GoodSheet, SplitsToTheExpectedBytesInBothCustoms) {
  for (const auto& [key, gaps] : {std::pair{"split_own", "own"}, std::pair{"split_previous", "previous"}}) {
    const nlohmann::json& expected = GetParam().expected[key];
    const TempFolder folder;
    const Image image = open_image(sheet_path(GetParam()));
    const std::string stem = fs::path(GetParam().sheet).stem().string();
    convert(image, "cue-tracks", folder / (stem + ".cue"),
            Settings::of(find_format("cue-tracks")->settings, {{"gaps", gaps}}));
    for (const nlohmann::json& file : expected["files"])
      EXPECT_EQ(sha256_file(folder / file["name"].get<std::string>()), file["sha256"]) << key;
    const Image back = open_image(folder / (stem + ".cue"));
    EXPECT_EQ(index_json(back), expected["indexes"]) << key;
    EXPECT_EQ(back.cd()->layout().lead_out, image.cd()->layout().lead_out) << key;
  }
}

void expect_conversion(const Case& c, const char* target, const nlohmann::json& expected) {
  const TempFolder folder;
  const Image image = open_image(sheet_path(c));
  const fs::path out = folder / (std::string("out.") + target);
  if (expected.contains("ok") && expected["reason"] != "loss") {
    try {
      convert(image, target, out);
      FAIL() << "should be refused: " << expected["reason"];
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, expected["reason"]);
    }
    return;
  }
  const Converted done = convert(image, target, out);
  if (expected.contains("ok")) {
    EXPECT_TRUE(done.losses.contains(expected["detail"].get<std::string>()));
    return;
  }
  EXPECT_EQ(sha256_file(out), expected["sha256"]);
  EXPECT_EQ(done.files[0].size_bytes, expected["size"]);
  EXPECT_EQ(nlohmann::json(done.losses), expected["loss"]);
  if (expected.contains("warnings")) {
    EXPECT_EQ(warning_codes(done.conversion.warnings), expected["warnings"]);
  }
}

TEST_P(GoodSheet, GivesTheExpectedIso) { expect_conversion(GetParam(), "iso", GetParam().expected["iso"]); }
TEST_P(GoodSheet, GivesTheExpectedVcd) { expect_conversion(GetParam(), "vcd", GetParam().expected["vcd"]); }

TEST_P(GoodSheet, CountsWhatAnIsoWouldLose) {
  const nlohmann::json& expected = GetParam().expected["iso"];
  if (!expected.contains("form2_sectors")) return;
  const Image image = open_image(sheet_path(GetParam()));
  QuietContext context;
  const UserDataScan scan = scan_user_data(*image.cd(), expected["track"], context);
  EXPECT_EQ(scan.form2, expected["form2_sectors"]);
  EXPECT_EQ(scan.empty_form2, expected["empty_form2_sectors"]);
  EXPECT_EQ(scan.bad, expected["bad_sectors"]);
  EXPECT_EQ(scan.irregular, expected["raw_header_sectors"]);
  EXPECT_EQ(scan.sectors, expected["sectors"]);
  if (expected.contains("first_form2_lba")) {
    EXPECT_EQ(scan.first_form2, expected["first_form2_lba"].get<cd::Lba>());
  }
}

INSTANTIATE_TEST_SUITE_P(
    Vectors, GoodSheet, testing::ValuesIn(cases({"cue/good", "cue/renamed-one", "cue/renamed-many", "disc4", "mode1"})),
    case_name);

class BadSheet : public testing::TestWithParam<Case> {};

TEST_P(BadSheet, IsRefusedForTheExpectedReason) {
  try {
    open_image(sheet_path(GetParam()));
    FAIL() << "should be refused: " << GetParam().expected["reason"];
  } catch (const Error& e) {
    EXPECT_EQ(e.details.code, GetParam().expected["reason"]) << e.what();
    if (GetParam().expected.contains("line")) {
      EXPECT_EQ(e.details.line, GetParam().expected["line"].get<std::uint32_t>()) << e.what();
    }
    EXPECT_EQ(e.details.fault, Fault::refused);
  }
}

INSTANTIATE_TEST_SUITE_P(Vectors, BadSheet, testing::ValuesIn(cases({"cue/bad"})), case_name);

constexpr std::array kAsMode2 = {&kMode};

TEST(IsoVectors, GiveTheExpectedRawImage) {
  const nlohmann::json expected = vector_json("cd/mode1/expected.json");
  const TempFolder folder;
  const Image iso = open_image(vector_path("cd/mode1/Kestrel Circuit.iso"));
  EXPECT_EQ(tracks_json(iso), expected["iso"]["read"]["tracks"]);
  convert(iso, "bin", folder / "raw.bin");
  EXPECT_EQ(sha256_file(folder / "raw.bin"), expected["iso_to_mode1"]["sha256"]);
  const Image told =
      open_image(vector_path("cd/mode1/Kestrel Circuit.iso"), {.settings = Settings::of(kAsMode2, {{"mode", "2"}})});
  convert(told, "bin", folder / "mode2.bin");
  EXPECT_EQ(sha256_file(folder / "mode2.bin"), expected["iso_to_mode2"]["sha256"])
      << "the user's word overrides the guess";
}

}  // namespace
}  // namespace opifex
