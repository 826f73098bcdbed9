#include <gtest/gtest.h>

#include "disc_json.hpp"

namespace opifex {
namespace {

using namespace testkit;

class VcdVector : public testing::Test {
 protected:
  const nlohmann::json expected = vector_json("cd/disc4/expected.json");
  const TempFolder folder;
  const std::string whole = gunzip(vector_path("cd/disc4/moth.vcd.gz"));
};

std::string from_hex(const std::string& text) {
  std::string bytes;
  for (std::size_t i = 0; i < text.size(); i += 2)
    bytes += static_cast<char>(std::stoi(text.substr(i, 2), nullptr, 16));
  return bytes;
}

TEST_F(VcdVector, HasTheExpectedLayout) {
  write_file(folder / "moth.vcd", whole);
  const Image image = open_image(folder / "moth.vcd");
  nlohmann::json tracks = expected["vcd"]["read"]["tracks"];
  // The vectors count offsets from the end of the header, we from the start of the file.
  for (nlohmann::json& t : tracks)
    for (nlohmann::json& s : t["stored"]) s["offset"] = s["offset"].get<std::uint64_t>() + 0x100000;
  EXPECT_EQ(tracks_json(image), tracks);
  EXPECT_EQ(image.cd()->layout().lead_out, 108);
  EXPECT_TRUE(image.warnings.empty());
}

TEST_F(VcdVector, EachMutationIsToldAsExpected) {
  for (const nlohmann::json& m : expected["vcd_mutations"]) {
    std::string bytes = whole;
    for (const nlohmann::json& patch : m["patch"]) {
      const std::string value = from_hex(patch[1]);
      bytes.replace(patch[0].get<std::size_t>(), value.size(), value);
    }
    if (!m["cut_to"].is_null()) bytes.resize(m["cut_to"].get<std::size_t>());
    bytes.append(m["append_zero_bytes"].get<std::size_t>(), '\0');
    write_file(folder / "m.vcd", bytes);
    SCOPED_TRACE(m["name"].get<std::string>());
    try {
      const Image image = open_image(folder / "m.vcd");
      ASSERT_TRUE(m["expect"]["ok"].get<bool>()) << "should be refused";
      EXPECT_EQ(warning_codes(image.warnings), m["expect"]["warnings"]);
    } catch (const Error& e) {
      ASSERT_FALSE(m["expect"]["ok"].get<bool>()) << e.what();
      EXPECT_EQ(e.details.code, m["expect"]["reason"]);
    }
  }
}

}  // namespace
}  // namespace opifex
