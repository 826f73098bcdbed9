// Every file system of the vectors: names, sizes, extents, dates and contents, and what is said of broken ones.
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/volumes/iso9660/volume.hpp"
#include "opifex/core/volumes/iso9660/writer.hpp"
#include "opifex/core/volumes/opera/volume.hpp"
#include "opifex/core/volumes/udf/volume.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& expected() {
  static const json all = vector_json("iso/expected.json");
  return all;
}

SourcePtr open_vector(const std::string& name) {
  if (name.ends_with(".gz")) return memory_source(to_bytes(gunzip(vector_path("iso/" + name))), name);
  return open_file(vector_path("iso/" + name));
}

Bytes whole(const SourcePtr& source) {
  Bytes bytes(source->size());
  source->read_at(0, bytes);
  return bytes;
}

std::string date_text(const VolumeEntry& e) {
  if (!e.modified) return "";
  const std::time_t t = *e.modified;
  std::tm tm{};
  gmtime_r(&t, &tm);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", tm.tm_year + 1900, tm.tm_mon + 1, tm.tm_mday, tm.tm_hour,
                     tm.tm_min, tm.tm_sec);
}

void expect_files(const Volume& volume, const json& files) {
  ASSERT_EQ(volume.entries.size(), files.size());
  for (const json& f : files) {
    const std::string path = f["path"];
    SCOPED_TRACE(path);
    const auto at = std::find_if(volume.entries.begin(), volume.entries.end(),
                                 [&](const VolumeEntry& e) { return e.path == path; });
    ASSERT_NE(at, volume.entries.end());
    EXPECT_EQ(at->size_bytes, f["size"].get<std::uint64_t>());
    EXPECT_EQ(at->kind == EntryKind::folder, f["type"] == "dir");
    if (f.contains("extents")) {
      json extents = json::array();
      for (const VolumeExtent& e : at->extents) extents.push_back({e.sector, e.size_bytes});
      EXPECT_EQ(extents, f["extents"]);
    }
    if (f.contains("date")) {
      EXPECT_EQ(date_text(*at), f["date"].get<std::string>());
    }
    if (f.contains("rock_ridge") && f["rock_ridge"].contains("symlink")) {
      EXPECT_EQ(at->link, f["rock_ridge"]["symlink"].get<std::string>());
    }
    if (f.contains("xa")) {
      EXPECT_EQ(at->kind == EntryKind::audio, f["xa"]["cdda"].get<bool>());
      EXPECT_EQ(at->attributes.find("form2") != std::string::npos, f["xa"]["form2"].get<bool>());
      EXPECT_EQ(at->attributes.find("interleaved") != std::string::npos, f["xa"]["interleaved"].get<bool>());
    }
    if (f.contains("sha256") && at->kind != EntryKind::audio && f["sha256"].is_string()) {
      EXPECT_EQ(digest_of("sha256", whole(volume.open(*at))), f["sha256"].get<std::string>());
    }
  }
}

TEST(VolumeVectors, EveryImageHasItsFiles) {
  int seen = 0;
  for (const auto& [name, image] : expected()["images"].items()) {
    SCOPED_TRACE(name);
    const auto volume = read_iso9660(open_vector(name), 0, IsoTree::primary);
    ASSERT_TRUE(volume);
    EXPECT_EQ(volume->label, image["volume"].value("volume_id", ""));
    EXPECT_EQ(volume->blocks, image["volume"]["volume_blocks"].get<std::uint64_t>());
    EXPECT_EQ(-volume->shift, image["base_lba"].get<std::int64_t>());
    EXPECT_FALSE(volume->damaged()) << volume->problems.front().message;
    expect_files(*volume, image["files"]);
    if (image.contains("joliet")) {
      const auto best = read_iso9660(open_vector(name), 0);
      EXPECT_EQ(best->system, "iso9660+joliet");
      expect_files(*best, image["joliet"]["files"]);
    }
    if (image.contains("udf")) {
      const auto udf = read_udf(open_vector(name));
      ASSERT_TRUE(udf);
      EXPECT_EQ(udf->label, image["udf"]["label"].get<std::string>());
      EXPECT_EQ(udf->system, "udf-" + image["udf"]["revision"].get<std::string>());
      EXPECT_FALSE(udf->damaged()) << udf->problems.front().message;
      expect_files(*udf, image["udf"]["files"]);
    }
    ++seen;
  }
  EXPECT_GT(seen, 15);
}

/// An image by its recipe: a base, patches, another length.
Bytes derived(const json& recipe) {
  Bytes bytes;
  if (recipe["base"].is_null())
    bytes.resize(recipe["size"].get<std::size_t>());
  else
    bytes = whole(open_vector(recipe["base"]));
  for (const json& patch : recipe["patches"]) {
    const std::string hex = patch[1];
    bytes.resize(std::max(bytes.size(), patch[0].get<std::size_t>() + hex.size() / 2));
    for (std::size_t i = 0; i < hex.size() / 2; ++i)
      bytes.at(patch[0].get<std::size_t>() + i) = static_cast<std::byte>(std::stoi(hex.substr(2 * i, 2), nullptr, 16));
  }
  if (recipe.contains("size")) bytes.resize(recipe["size"].get<std::size_t>());
  return bytes;
}

void expect_weights(const Volume& volume, const std::string& expect) {
  const auto has = [&](Weight w) {
    return std::any_of(volume.problems.begin(), volume.problems.end(),
                       [&](const VolumeProblem& p) { return p.weight == w; });
  };
  EXPECT_EQ(volume.damaged(), expect == "damaged" || expect == "unsafe");
  if (expect == "warn") {
    EXPECT_TRUE(has(Weight::warning) || has(Weight::doubt));
  }
}

TEST(VolumeVectors, BrokenImagesGiveWhatIsSoundAndSayTheRest) {
  int seen = 0;
  for (const json& recipe : expected()["derived"]) {
    const std::string name = recipe["name"], expect = recipe["expect"];
    if (expect == "identify") continue;
    SCOPED_TRACE(name);
    const Bytes bytes = derived(recipe);
    ASSERT_EQ(digest_of("sha256", bytes), recipe["sha256"].get<std::string>());
    ++seen;
    std::optional<Volume> volume;
    try {
      volume = read_iso9660(memory_source(bytes, name), 0, IsoTree::primary);
    } catch (const Error& e) {
      EXPECT_EQ(expect, "refuse") << e.what();
      continue;
    }
    if (expect == "refuse") {
      EXPECT_FALSE(volume);
      continue;
    }
    ASSERT_TRUE(volume);
    expect_weights(*volume, expect);
    std::size_t files = 0;
    for (const VolumeEntry& e : volume->entries) files += e.kind != EntryKind::folder ? 1 : 0;
    if (!recipe.contains("files")) continue;
    EXPECT_EQ(files, recipe["files"].size());
    for (const json& f : recipe["files"]) {
      SCOPED_TRACE(f[0].get<std::string>());
      const auto at = std::find_if(volume->entries.begin(), volume->entries.end(),
                                   [&](const VolumeEntry& e) { return e.path == f[0].get<std::string>(); });
      ASSERT_NE(at, volume->entries.end());
      EXPECT_EQ(at->size_bytes, f[1].get<std::uint64_t>());
      EXPECT_EQ(at->sound, f[2].is_string());
      if (f[2].is_string()) {
        EXPECT_EQ(digest_of("sha256", whole(volume->open(*at))), f[2].get<std::string>());
      } else {
        EXPECT_THROW(volume->open(*at), Error);
      }
    }
  }
  EXPECT_GT(seen, 30);
}

TEST(VolumeVectors, NamesThatWalkOutAreMarked) {
  for (const json& recipe : expected()["derived"]) {
    if (recipe["expect"] != "unsafe") continue;
    const auto volume = read_iso9660(memory_source(derived(recipe), recipe["name"]), 0, IsoTree::primary);
    EXPECT_EQ(
        std::count_if(volume->entries.begin(), volume->entries.end(), [](const VolumeEntry& e) { return !e.safe; }), 1)
        << recipe["name"];
  }
}

TEST(VolumeVectors, ASecondLayerIsAVolumeOfItsOwn) {
  for (const json& recipe : expected()["derived"]) {
    if (recipe["name"] != "dual-layer") continue;
    Image image;
    image.path = "dual.iso";
    image.content = BlockContent{.bytes = memory_source(derived(recipe), "dual.iso")};
    const std::vector<Volume> volumes = read_volumes(image);
    ASSERT_EQ(volumes.size(), 2u);
    EXPECT_EQ(volumes[1].label, recipe["second_volume"]["volume"]["volume_id"].get<std::string>());
    expect_files(volumes[1], recipe["second_volume"]["files"]);
  }
}

TEST(VolumeVectors, TheOperaDiscListsItsFiles) {
  const auto volume = read_opera(open_vector("3do.iso"));
  ASSERT_TRUE(volume);
  EXPECT_FALSE(volume->label.empty());
  EXPECT_FALSE(volume->damaged()) << volume->problems.front().message;
}

/// The layout two writers agree on, to the last byte.
TEST(VolumeVectors, ImagesOfTheFolderAreByteForByteTheExpectedOnes) {
  int seen = 0;
  for (const auto& [name, expect] : expected()["write"].items()) {
    SCOPED_TRACE(name);
    const json& o = expect["options"];
    IsoOptions options;
    options.volume_id = o["volume_id"];
    options.names = o["level"] == 1 ? IsoNames::level1 : o["level"] == 2 ? IsoNames::level2 : IsoNames::relaxed;
    options.joliet = o.value("joliet", false);
    options.fixed_time = o["time"].get<std::int64_t>();
    options.padding_sectors = o.value("pad", 0u);
    if (o.contains("max_extent")) options.largest_section = o["max_extent"];
    TempFolder folder;
    const IsoBuild build = plan_iso(vector_path("iso/tree"), folder / "out.iso", options);
    Image none;
    none.path = "tree";
    QuietContext context;
    write_outputs(none, build.plan, {}, context);
    const SourcePtr made = open_file(folder / "out.iso");
    EXPECT_EQ(made->size(), expect["bytes"].get<std::uint64_t>());
    EXPECT_EQ(digest_of("sha256", whole(made)), expect["sha256"].get<std::string>());
    const auto volume = read_iso9660(made, 0, IsoTree::primary);
    ASSERT_TRUE(volume);
    EXPECT_TRUE(volume->problems.empty()) << volume->problems.front().message;
    ++seen;
  }
  EXPECT_EQ(seen, 6);
}

}  // namespace
}  // namespace opifex
