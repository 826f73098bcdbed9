// Images from their beginning to their end: how dense, how stored, and which files lie where.
#include <gtest/gtest.h>

#include "opifex/core/check/density.hpp"
#include "opifex/core/check/file_map.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/jobs/convert.hpp"
#include "opifex/core/volumes/volume.hpp"
#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

class Along : public testing::Test {
 protected:
  std::vector<Density> density(const std::string& bytes, std::size_t most) {
    write_file(folder / "x.iso", bytes);
    Image image;
    image.take_blocks(open_file(folder / "x.iso"));
    return density_along(image, most, context);
  }
  TempFolder folder;
  Progress progress;
  JobContext context{progress, 0};
};

TEST_F(Along, EntropyIsThatOfTheBytes) {
  std::string all;
  for (int i = 0; i < 37'632 * 8; ++i) all += static_cast<char>(i % 256);
  for (const Density& d : density(all, 10)) EXPECT_NEAR(d.bits, 8, 1e-9);
  for (const Density& d : density(std::string(37'632 * 8, 'x'), 10)) EXPECT_EQ(d.bits, 0);
  std::string two;
  for (int i = 0; i < 37'632 * 8; ++i) two += i % 2 == 0 ? 'a' : 'b';
  EXPECT_NEAR(density(two, 10).at(0).bits, 1, 1e-9);
}

TEST_F(Along, SamplesLieAtEvenDistancesAndNeverAreTooMany) {
  for (const std::size_t samples : {1u, 2u, 9u, 10u, 11u, 57u}) {
    const std::vector<Density> along = density(std::string(37'632 * samples - 1000, 'x'), 10);
    EXPECT_LE(along.size(), 10u) << samples;
    EXPECT_GE(along.size(), std::min<std::size_t>(samples, 5)) << samples;
    for (std::size_t i = 1; i < along.size(); ++i) EXPECT_EQ(along[i].at - along[i - 1].at, along[1].at - along[0].at);
  }
}

TEST_F(Along, WhatCannotBeReadIsLeftOut) {
  const fs::path sheet = demo::write_disc({.stem = "d", .data_sectors = 60}, folder.path(), demo::Files::one_bin);
  fs::resize_file(folder / "d.bin", 30 * 2352);
  EXPECT_LE(density_along(open_image(sheet, {.allow_missing = true}), 10, context).size(), 2u);
}

TEST_F(Along, StretchesOfAContainerAreItsSharesInOrder) {
  const fs::path sheet = demo::write_disc({.stem = "d", .data_sectors = 400, .audio_sectors = {200}, .seed = 5},
                                          folder.path(), demo::Files::one_bin);
  Image source = open_image(sheet, {});
  const Conversion plan = plan_conversion(source, {find_format("chd"), folder / "d.chd"}, context);
  write_outputs(source, plan.plan, {}, context);
  const Image image = open_image(folder / "d.chd", {});
  std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> whole;
  for (const ContainerShare& s : image.container->shares()) whole[s.codec] = {s.hunks, s.bytes};
  ASSERT_GE(whole.size(), 2u);
  for (const std::size_t most : {1u, 2u, 3u, 7u, 50u, 100'000u}) {
    std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> sums;
    std::uint64_t at = 0;
    const auto stretches = image.container->along(most);
    EXPECT_LE(stretches.size(), most);
    for (const ContainerStretch& s : stretches) {
      EXPECT_EQ(s.first, at);
      EXPECT_GT(s.end, s.first);
      at = s.end;
      for (const ContainerShare& share : s.shares) {
        sums[share.codec].first += share.hunks;
        sums[share.codec].second += share.bytes;
      }
    }
    EXPECT_EQ(sums, whole) << most;
  }
  EXPECT_TRUE(image.container->along(0).empty());
}

TEST_F(Along, FilesSufferWhatAModelSaysTheyDo) {
  const fs::path sheet = demo::write_disc({.stem = "d", .data_sectors = 200}, folder.path(), demo::Files::one_bin);
  const Image image = open_image(sheet, {});
  std::map<std::string, std::set<std::int64_t>> sectors;  // the truth
  for (const Volume& v : read_volumes(image))
    for (const VolumeEntry& e : v.entries)
      for (const VolumeExtent& x : e.extents)
        for (std::uint64_t s = 0; s < x.sectors(); ++s)
          if (x.size_bytes > 0) sectors[e.path].insert(static_cast<std::int64_t>(x.sector + s) + v.shift);
  ASSERT_GE(sectors.size(), 3u);
  const FileMap map(image);
  std::set<std::int64_t> used, told;
  for (const auto& [path, own] : sectors) used.insert(own.begin(), own.end());
  for (const DiscRange& r : map.used())
    for (std::int64_t s = r.first; s < r.end; ++s) told.insert(s);
  EXPECT_EQ(told, used);
  Random random(3);
  for (int round = 0; round < 500; ++round) {
    std::vector<DiscRange> damage;
    for (std::int64_t at = static_cast<std::int64_t>(random.below(30)); at < 80;
         at += 1 + static_cast<std::int64_t>(random.below(12))) {
      const std::int64_t end = at + 1 + static_cast<std::int64_t>(random.below(6));
      damage.push_back({at, end});
      at = end;
    }
    std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> truth, found;
    for (const auto& [path, own] : sectors) {
      std::uint64_t hit = 0;
      for (const std::int64_t s : own)
        hit += std::any_of(damage.begin(), damage.end(), [&](const DiscRange& r) { return r.first <= s && s < r.end; });
      if (hit > 0) truth[path] = {hit, own.size()};
    }
    for (const FileHit& f : map.suffered(damage)) {
      found[f.path] = {f.hit, f.sectors};
      EXPECT_TRUE(sectors[f.path].contains(f.first));
    }
    EXPECT_EQ(found, truth) << round;
  }
}

}  // namespace
}  // namespace opifex
