#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/subchannel.hpp"

#include "testkit.hpp"

namespace opifex::cd {
namespace {

using namespace testkit;

Sector load(const std::string& file) {
  const std::string bytes = read_file(vector_path("cd/sectors/" + file));
  Sector s;
  std::copy(as_view(bytes).begin(), as_view(bytes).end(), s.begin());
  return s;
}

class SectorVector : public testing::TestWithParam<nlohmann::json> {};

TEST_P(SectorVector, IsFoundToBeWhatItIs) {
  const nlohmann::json& v = GetParam();
  Sector s = load(v["file"]);
  if (v.value("scrambled", false)) scramble(s);
  const SectorReport report = examine(s, {});
  EXPECT_EQ(to_string(report.kind), v["kind"]);
  EXPECT_EQ(report.lba ? nlohmann::json(*report.lba) : nlohmann::json(), v["lba"]);
  EXPECT_EQ(nlohmann::json(problem_list(report.problems)), v["problems"]);
  // The vectors give no name to Form 2 damage; the format notes do.
  const bool damaged_form2 = report.kind == SectorKind::mode2_form2 && (report.problems & kProblemEdc);
  EXPECT_EQ(to_string(report.damage), damaged_form2 ? "damaged" : v.value("damage", "none"));
  EXPECT_EQ(report.edc_absent, v.value("edc_absent", false));
  EXPECT_EQ(report.ecc_over_header, v.value("ecc_over_header", false));
  EXPECT_EQ(report.block_indicator, v.value("block_indicator", 0));
  if (v.contains("subheader") && !v.contains("damage")) {
    EXPECT_EQ(subheader(s).submode, v["subheader"]["submode"]);
    EXPECT_EQ(subheader(s).channel, v["subheader"]["channel"]);
  }
}

TEST_P(SectorVector, IsRepairedOrLeftAlone) {
  const nlohmann::json& v = GetParam();
  const Sector before = load(v["file"]);
  Sector s = before;
  const bool mended = repair(s, {});
  if (v.value("must_repair", false)) {
    EXPECT_TRUE(mended);
  }
  if (v.value("must_refuse", false)) {
    EXPECT_FALSE(mended);
  }
  if (mended) {
    EXPECT_EQ(digest_of("sha256", s), v.value("repaired_sha256", "no repair expected"));
  } else {
    EXPECT_EQ(s, before);
  }
}

TEST_P(SectorVector, IsRepairedWithTheErasuresGiven) {
  const nlohmann::json& v = GetParam();
  if (!v.value("must_repair_with_erasures", false)) return;
  Sector s = load(v["file"]);
  std::vector<Erasure> erased;
  for (const nlohmann::json& e : v["erased"]) erased.push_back({e[0], e[1]});
  EXPECT_TRUE(repair(s, {}, erased));
  EXPECT_EQ(digest_of("sha256", s), v["repaired_sha256"]);
}

std::vector<nlohmann::json> sector_vectors() {
  const nlohmann::json all = vector_json("cd/sectors/expected.json");
  for (const auto& [key, value] : all.items())
    if (value.is_array()) return value;
  return {};
}

INSTANTIATE_TEST_SUITE_P(Vectors, SectorVector, testing::ValuesIn(sector_vectors()),
                         [](const testing::TestParamInfo<nlohmann::json>& vector) {
                           std::string name = vector.param["file"];
                           for (char& c : name)
                             if (!std::isalnum(static_cast<unsigned char>(c))) c = '_';
                           return name;
                         });

TEST(SubchannelVectors, ReadAsExpectedInBothForms) {
  const nlohmann::json files = vector_json("cd/sub/expected.json")["files"];
  for (const auto& [name, expected] : files.items()) {
    SCOPED_TRACE(name);
    const std::string bytes = read_file(vector_path("cd/sub/" + name));
    std::vector<Subchannel> blocks(bytes.size() / kSubchannelBytes);
    for (std::size_t i = 0; i < blocks.size(); ++i)
      std::copy_n(as_view(bytes).begin() + static_cast<std::ptrdiff_t>(i * kSubchannelBytes), kSubchannelBytes,
                  blocks[i].begin());
    const auto form = detect_form(blocks);
    ASSERT_TRUE(form);
    EXPECT_EQ(to_string(*form), expected["form"]);
    EXPECT_EQ(blocks.size(), expected["blocks"]);
    int bad = 0;
    for (std::size_t i = 0; i < blocks.size(); ++i) {
      const Q q = parse_q(q_of(blocks[i], *form));
      bad += q.crc_fits ? 0 : 1;
      const nlohmann::json& want = expected["q"][i];
      EXPECT_EQ(q.crc_fits, want["crc_ok"]);
      EXPECT_EQ(q.adr, want["adr"]);
      if (want.value("area", "") == "program") {
        EXPECT_EQ(q.track, want["track"]);
        EXPECT_EQ(q.index, want["index"]);
        EXPECT_EQ(to_string(q.relative.value()), want["relative"]);
        EXPECT_EQ(to_string(q.absolute.value()), want["absolute"]);
      } else if (want.value("area", "") == "lead-in") {
        EXPECT_EQ(q.area, QArea::lead_in);
        EXPECT_EQ(to_string(q.absolute.value()), want["pmsf"]);
      }
    }
    EXPECT_EQ(bad, expected["bad_q"]);
  }
}

}  // namespace
}  // namespace opifex::cd
