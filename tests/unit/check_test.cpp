#include "opifex/core/check/check.hpp"

#include <gtest/gtest.h>

#include "opifex/core/cd/parity.hpp"
#include "opifex/core/cd/subchannel.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

class CheckTest : public testing::Test {
 protected:
  void SetUp() override {
    const demo::Recipe recipe{
        .stem = "game", .data_sectors = 60, .audio_sectors = {20, 30}, .pregap_sectors = 10, .seed = 3};
    sheet = demo::write_disc(recipe, folder.path(), demo::Files::one_bin);
  }
  CheckResult check(const fs::path& path, unsigned threads = 0) {
    Progress progress;
    JobContext context{progress, threads};
    return check_image(open_image(path, {.allow_missing = true}), {}, context);
  }
  const TempFolder folder;
  fs::path sheet;
  const fs::path bin = folder / "game.bin";
};

const Finding* find(const CheckResult& result, const std::string& code) {
  for (const Finding& f : result.findings)
    if (f.code == code) return &f;
  return nullptr;
}

TEST_F(CheckTest, ASoundDiscIsIntactAndItsHashesAreRight) {
  const CheckResult result = check(sheet);
  EXPECT_EQ(result.verdict, Verdict::intact);
  EXPECT_TRUE(result.findings.empty());
  const std::string bytes = read_file(bin);
  for (const NamedHash& h : result.files.at(0).hashes) EXPECT_EQ(h.value, digest_of(h.name, as_view(bytes)));
  const std::string track2 = bytes.substr(60 * 2352, 30 * 2352);
  ASSERT_EQ(result.tracks.size(), 3u);
  for (const NamedHash& h : result.tracks[1].hashes) EXPECT_EQ(h.value, digest_of(h.name, as_view(track2))) << h.name;
}

TEST_F(CheckTest, OneThreadAndManyFindTheSame) {
  flip_byte(bin, 20 * 2352 + 500);
  const CheckResult one = check(sheet, 1), many = check(sheet, 2);
  ASSERT_EQ(one.findings.size(), many.findings.size());
  EXPECT_EQ(one.findings[0].message, many.findings[0].message);
  EXPECT_EQ(one.tracks[0].hashes[1].value, many.tracks[0].hashes[1].value);
}

TEST_F(CheckTest, DamageIsToldAsRangesWithTheirPlaceInTheFile) {
  for (const int sector : {20, 21, 22, 40}) flip_byte(bin, static_cast<std::uint64_t>(sector) * 2352 + 700);
  const CheckResult result = check(sheet);
  EXPECT_EQ(result.verdict, Verdict::repairable);
  const auto& ranges = result.tracks[0].ranges;
  ASSERT_EQ(ranges.size(), 2u);
  EXPECT_EQ(ranges[0].first, 20);
  EXPECT_EQ(ranges[0].sectors, 3u);
  EXPECT_EQ(ranges[1].first, 40);
  EXPECT_EQ(result.findings[0].offset, 20u * 2352u);
  EXPECT_EQ(result.tracks[0].bad, 4u);
}

TEST_F(CheckTest, WhatCannotBeRepairedIsDamaged) {
  std::string bytes = read_file(bin);
  for (std::size_t i = 0; i < 900; ++i) bytes[30 * 2352 + 100 + i] = static_cast<char>(i * 37);
  write_file(bin, bytes);
  EXPECT_EQ(check(sheet).verdict, Verdict::damaged);
  std::fill_n(bytes.begin() + 30 * 2352, 2352, '\0');
  write_file(bin, bytes);
  const CheckResult result = check(sheet);
  EXPECT_EQ(result.verdict, Verdict::damaged);
  EXPECT_NE(find(result, "missing"), nullptr);
}

TEST_F(CheckTest, AuthoredSectorsAreNoDamage) {
  // A wrong EDC under which P and Q were computed: a protection.
  std::string bytes = read_file(bin);
  cd::Sector s;
  std::copy_n(as_view(bytes).begin() + 25 * 2352, 2352, s.begin());
  s[2072] ^= std::byte{0xFF};
  cd::compute_ecc(s, cd::EccHeader::zero);
  bytes.replace(25 * 2352, 2352, as_text(s));
  write_file(bin, bytes);
  const CheckResult result = check(sheet);
  EXPECT_EQ(result.verdict, Verdict::intact);
  ASSERT_NE(find(result, "authored"), nullptr);
  EXPECT_EQ(find(result, "authored")->severity, Severity::note);
}

TEST_F(CheckTest, ACutFileIsIncomplete) {
  fs::resize_file(bin, fs::file_size(bin) - 1000);
  const CheckResult result = check(sheet);
  EXPECT_EQ(result.verdict, Verdict::incomplete);
  EXPECT_NE(find(result, "partial_sector"), nullptr);
}

TEST_F(CheckTest, RepairGivesBackTheOriginalBytes) {
  const std::string whole = read_file(bin);
  for (const int sector : {20, 33}) flip_byte(bin, static_cast<std::uint64_t>(sector) * 2352 + 700);
  QuietContext context;
  const Image image = open_image(sheet);
  const CheckResult result = check_image(image, {}, context);
  const Image view = repaired_view(image, result);
  const WritePlan plan = plan_repaired_copy(view, folder / "mended/game.cue");
  write_outputs(view, plan, {}, context);
  EXPECT_TRUE(read_file(folder / "mended/game.bin") == whole);
  EXPECT_FALSE(read_file(bin) == whole) << "the input stays as it is";
}

TEST_F(CheckTest, WhatTellsOfAnImageComesAndGoesWithIt) {
  QuietContext context;
  const Image image = open_image(sheet);
  const fs::path out = folder / "told/game.cue", map = folder / "told/game.opifex-map";
  const WritePlan plan = plan_conversion(image, {find_format("cue"), out}, context).plan;
  WriteJob job;
  job.texts[map] = "states of all sectors\n";
  // Never the image without it: both are there when the set is looked at, and none if that fails.
  job.inspect = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    EXPECT_EQ(as_text(read_up_to(*staged->open(map), 0, 100)), "states of all sectors\n");
    EXPECT_EQ(written.size(), 2u) << "it is no part of the image";
    throw Error({.code = "stopped", .what = "looked at"});
  };
  EXPECT_THROW(write_outputs(image, plan, job, context), Error);
  EXPECT_FALSE(fs::exists(map));
  EXPECT_FALSE(fs::exists(out));
  job.inspect = {};
  write_outputs(image, plan, job, context);
  EXPECT_EQ(read_file(map), "states of all sectors\n");
  EXPECT_TRUE(fs::exists(out));
  // And nothing that stands there is replaced unasked.
  fs::remove(out);
  fs::remove(folder / "told/game.bin");
  EXPECT_THROW(write_outputs(image, plan, job, context), Error);
  EXPECT_FALSE(fs::exists(out));
}

TEST_F(CheckTest, RepairWithNothingToDoIsRefused) {
  QuietContext context;
  const Image image = open_image(sheet);
  EXPECT_THROW(repaired_view(image, check_image(image, {}, context)), Error);
}

TEST_F(CheckTest, AudioOfTheOtherByteOrderHasTheHashesOfItsSamples) {
  std::string bytes = read_file(bin).substr(60 * 2352 + 10 * 2352, 20 * 2352);
  std::string swapped = bytes;
  for (std::size_t i = 0; i + 1 < swapped.size(); i += 2) std::swap(swapped[i], swapped[i + 1]);
  write_file(folder / "be.bin", swapped);
  write_file(folder / "be.cue", "FILE \"be.bin\" MOTOROLA\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n");
  const CheckResult result = check(folder / "be.cue");
  EXPECT_EQ(result.files[0].hashes[1].value, digest_of("md5", as_view(swapped)));
  EXPECT_EQ(result.tracks[0].hashes[1].value, digest_of("md5", as_view(bytes)));
}

TEST_F(CheckTest, TheQChannelIsComparedWithTheDisc) {
  const std::string plain = read_file(bin).substr(0, 60 * 2352);
  std::string with_q;
  for (int i = 0; i < 60; ++i) {
    with_q += plain.substr(static_cast<std::size_t>(i) * 2352, 2352);
    cd::Subchannel block{};
    cd::QBytes q = cd::make_q({4, 1, 1, i == 30 ? 999 : i, i});
    if (i == 40) q[11] ^= std::byte{1};
    std::copy(q.begin(), q.end(), block.begin() + 12);
    with_q += as_text(block);
  }
  write_file(folder / "sub.bin", with_q);
  const CheckResult result = check(folder / "sub.bin");
  ASSERT_NE(find(result, "subchannel_crc"), nullptr);
  EXPECT_EQ(find(result, "subchannel_crc")->count, 1u);
  ASSERT_NE(find(result, "subchannel_position"), nullptr);
  EXPECT_EQ(find(result, "subchannel_position")->count, 1u);
}

TEST_F(CheckTest, StopsOnRequest) {
  std::stop_source stop;
  stop.request_stop();
  Progress progress;
  progress.stop = stop.get_token();
  JobContext context{progress, 0};
  EXPECT_THROW(check_image(open_image(sheet), {}, context), Error);
}

}  // namespace
}  // namespace opifex
