// A disc in a CHD is judged like the same disc in a bin: every finding, every hash of a track, with one thread or many.
#include <gtest/gtest.h>

#include "opifex/core/cd/parity.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

class ContainerCheck : public testing::Test {
 protected:
  void SetUp() override {
    const demo::Recipe recipe{
        .stem = "game", .data_sectors = 120, .audio_sectors = {45, 61}, .pregap_sectors = 10, .seed = 8};
    sheet = demo::write_disc(recipe, folder.path(), demo::Files::one_bin);
    bytes = read_file(bin);
  }

  std::span<std::byte> sector(std::size_t lba) {
    return std::as_writable_bytes(std::span(bytes)).subspan(lba * cd::kRawBytes, cd::kRawBytes);
  }
  /// Mastered with a wrong EDC: the parity is that of what is there.
  void author(std::size_t lba) {
    sector(lba)[900] ^= std::byte{1};
    cd::compute_ecc(cd::SectorSpan(sector(lba)), cd::EccHeader::zero);
  }
  /// Hunks of eight sectors.
  fs::path to_chd(const std::string& codecs = {}) {
    write_file(bin, bytes);
    QuietContext context;
    ConvertRequest request{find_format("chd"), folder / "game.chd"};
    if (!codecs.empty()) request.settings = Settings::of(request.target->settings, {{"codecs", codecs}});
    const Image image = open_image(sheet);
    write_outputs(image, plan_conversion(image, request, context).plan, {.existing = Existing::replace}, context);
    return folder / "game.chd";
  }
  static CheckResult check(const fs::path& path, std::vector<std::string> hashes, unsigned threads = 0) {
    Progress progress;
    JobContext context{progress, threads};
    CheckOptions options;
    options.hashes = std::move(hashes);
    return check_image(open_image(path), options, context);
  }
  /// What is told of the disc, whatever file holds it.
  static std::vector<std::string> told(const CheckResult& result) {
    std::vector<std::string> lines = {std::string(to_string(result.verdict))};
    for (const TrackCheck& t : result.tracks) {
      lines.push_back(fmt::format("track {} {} {}", t.number, t.sectors, to_string(t.verdict)));
      for (const NamedHash& h : t.hashes) lines.push_back(h.name + " " + h.value);
    }
    for (const Finding& f : result.findings)
      lines.push_back(fmt::format("{} {} {} {}", f.code, f.lba.value_or(-1), f.count, f.message));
    return lines;
  }
  void expect_same(const std::string& codecs = {}) {
    const fs::path chd = to_chd(codecs);
    const auto wanted = told(check(sheet, {"crc32", "sha1"}));
    for (const unsigned threads : {1u, 2u, 0u}) EXPECT_EQ(told(check(chd, {"crc32", "sha1"}, threads)), wanted);
    EXPECT_EQ(told(check(chd, {})), told(check(sheet, {})));
  }

  const TempFolder folder;
  const fs::path bin = folder / "game.bin";
  fs::path sheet;
  std::string bytes;
};

TEST_F(ContainerCheck, ASoundDisc) {
  expect_same();
  EXPECT_EQ(check(folder / "game.chd", {}).verdict, Verdict::intact);
}

TEST_F(ContainerCheck, DamagedAuthoredAndOddSectors) {
  author(31);
  author(47);
  sector(32)[1000] ^= std::byte{4};                                       // damaged: hunk of 31 and 32 has both
  sector(60)[5] ^= std::byte{4};                                          // its sync
  for (std::byte& b : sector(70)) b = {};                                 // never read
  sector(80)[2100] ^= std::byte{1};                                       // parity alone
  for (std::byte& b : sector(90).subspan(24, 2048)) b = std::byte{0x55};  // a placeholder
  std::copy_n(sector(3).begin(), cd::kRawBytes, sector(145).begin());     // data in the music
  cd::put_header(cd::SectorSpan(sector(145)), 145, 2);
  expect_same();
  expect_same("cdzl");
  expect_same("cdzs,cdfl");
  const CheckResult result = check(folder / "game.chd", {});
  EXPECT_EQ(result.verdict, Verdict::damaged);
  EXPECT_TRUE(std::any_of(result.findings.begin(), result.findings.end(), [](const Finding& f) {
    return f.code == "authored" && f.count == 2;
  })) << fmt::format("{}", fmt::join(told(result), "\n"));
}

TEST_F(ContainerCheck, AHunkThatIsDamagedHidesNoOther) {
  const fs::path chd = to_chd();
  const std::uint64_t size = fs::file_size(chd);
  // Somewhere in the hunks, far from the header and the map.
  flip_byte(chd, size / 2);
  for (const unsigned threads : {1u, 2u})
    for (const auto& hashes : {std::vector<std::string>{}, {"md5"}}) {
      const CheckResult result = check(chd, hashes, threads);
      EXPECT_EQ(result.verdict, Verdict::damaged);
      ASSERT_EQ(result.findings.size(), 1u);
      EXPECT_TRUE(result.findings[0].code == "hunk_data" || result.findings[0].code == "hunk_crc");
      EXPECT_GE(result.findings[0].count, 1u);
      EXPECT_LE(result.findings[0].count, 8u);
      EXPECT_NE(result.findings[0].message.find("track"), std::string::npos) << result.findings[0].message;
    }
}

}  // namespace
}  // namespace opifex
