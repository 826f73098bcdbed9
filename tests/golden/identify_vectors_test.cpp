// Whose disc each sample is, and what its headers say.
#include <gtest/gtest.h>

#include "opifex/core/image/format.hpp"
#include "opifex/core/io/archive.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/platforms/sfo.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& described() {
  static const json all = vector_json("iso/expected.json");
  return all;
}

Image as_blocks(SourcePtr blocks) {
  Image image;
  image.path = "sample.iso";
  image.content = BlockContent{.bytes = std::move(blocks)};
  return image;
}

void expect_identity(const Identity& id, const json& e) {
  EXPECT_EQ(id.platform, e["platform"].get<std::string>());
  EXPECT_EQ(id.confidence, e["confidence"].get<std::string>());
  const std::map<std::string, std::string> fields = {
      {"id", id.serial},     {"title", id.title},       {"region", id.region}, {"version", id.version},
      {"volume", id.volume}, {"boot", id.boot_file},    {"video", id.video},   {"maker", id.maker},
      {"date", id.date},     {"category", id.category}, {"state", id.state}};
  for (const auto& [key, value] : fields)
    if (e.contains(key) && !(key == "boot" && value.empty())) {
      EXPECT_EQ(value, e[key].get<std::string>()) << key;
    }
}

TEST(IdentifyVectors, EveryDiscIsKnownByItsContents) {
  int seen = 0;
  for (const auto& [name, e] : described()["identify"].items()) {
    const fs::path path = vector_path("iso/" + name);
    if (e["what"] != "disc" || !fs::exists(path)) continue;
    SCOPED_TRACE(name);
    ++seen;
    if (e["layout"] != "2048") {
      expect_identity(identify_platform(open_image(path)), e);
    } else if (name.ends_with(".gz")) {
      expect_identity(identify_platform(as_blocks(memory_source(to_bytes(gunzip(path)), name))), e);
    } else {
      expect_identity(identify_platform(as_blocks(open_file(path))), e);
    }
  }
  EXPECT_GT(seen, 20);
}

TEST(IdentifyVectors, DiscsByRecipe) {
  int seen = 0;
  for (const json& recipe : described()["derived"]) {
    if (!recipe.contains("identify")) continue;
    SCOPED_TRACE(recipe["name"].get<std::string>());
    Bytes bytes = recipe["base"].is_null()
                      ? Bytes(recipe["size"].get<std::size_t>())
                      : to_bytes(read_file(vector_path("iso/" + recipe["base"].get<std::string>())));
    for (const json& patch : recipe["patches"]) {
      const std::string hex = patch[1];
      bytes.resize(std::max(bytes.size(), patch[0].get<std::size_t>() + hex.size() / 2));
      for (std::size_t i = 0; i < hex.size() / 2; ++i)
        bytes[patch[0].get<std::size_t>() + i] = static_cast<std::byte>(std::stoi(hex.substr(2 * i, 2), nullptr, 16));
    }
    expect_identity(identify_platform(as_blocks(memory_source(bytes, "sample"))), recipe["identify"]);
    ++seen;
  }
  EXPECT_GE(seen, 5);
}

TEST(IdentifyVectors, SfoFilesAreReadAndBrokenOnesRefused) {
  int seen = 0;
  for (const auto& [name, e] : described()["sfo"].items()) {
    if (!e.contains("entries") || !fs::exists(vector_path("iso/" + name))) continue;
    SCOPED_TRACE(name);
    const std::string bytes = read_file(vector_path("iso/" + name));
    const auto sfo = parse_sfo(as_view(bytes));
    ASSERT_TRUE(sfo);
    for (const json& entry : e["entries"]) {
      const std::string key = entry["key"];
      if (entry["value"].is_number()) {
        EXPECT_EQ(sfo->numbers.at(key), entry["value"].get<std::uint32_t>()) << key;
      } else if (entry["value"].is_string()) {
        EXPECT_EQ(sfo->text(key), entry["value"].get<std::string>()) << key;
      }
    }
    for (std::size_t n = 0; n < bytes.size(); n += 7) parse_sfo(as_view(bytes).first(n));
    ++seen;
  }
  EXPECT_EQ(seen, 4);
}

TEST(IdentifyVectors, PackagesDrivesAndMetadataAreNoDiscs) {
  int seen = 0;
  for (const auto& [name, e] : described()["identify"].items()) {
    const std::string what = e["what"];
    if (what != "package" && what != "drive" && what != "metadata" && what != "unknown") continue;
    SCOPED_TRACE(name);
    ++seen;
    const auto other = identify_non_image(*open_file(vector_path("iso/" + name)));
    ASSERT_EQ(other.has_value(), what != "unknown");
    if (!other) continue;
    EXPECT_EQ(other->what, what);
    expect_identity(other->id, e);
    EXPECT_EQ(other->size_check, e.value("size_check", ""));
    EXPECT_EQ(other->content_id, e.value("content_id", ""));
    EXPECT_EQ(other->id.evidence, e["evidence"].get<std::vector<std::string>>());
  }
  EXPECT_EQ(seen, 14);
}

TEST(IdentifyVectors, WhatMayBeMusicIsGuessed) {
  const json& e = described()["identify"]["audio-guess.bin"];
  const auto guess = guess_audio(*open_file(vector_path("iso/audio-guess.bin")));
  ASSERT_TRUE(guess);
  EXPECT_EQ(guess->what, e["what"].get<std::string>());
  expect_identity(guess->id, e);
  EXPECT_EQ(guess->id.evidence, e["evidence"].get<std::vector<std::string>>());
  EXPECT_FALSE(guess_audio(*open_file(vector_path("iso/unknown.bin"))));
  EXPECT_FALSE(guess_audio(*open_file(vector_path("iso/ps1-raw.bin"))));
}

TEST(IdentifyVectors, ArchivesAreKnownByTheirContents) {
  int seen = 0;
  for (const auto& [name, e] : described()["identify"].items()) {
    if (e["what"] != "archive") continue;
    EXPECT_EQ(archive_kind(*open_file(vector_path("iso/" + name))), e["platform"].get<std::string>()) << name;
    ++seen;
  }
  EXPECT_EQ(seen, 11);
}

TEST(IdentifyVectors, FoldersOfOneGame) {
  for (const char* name : {"ps3-folder", "ps4-folder"}) {
    SCOPED_TRACE(name);
    const json& e = described()["identify"][name];
    const auto game = identify_game_folder(vector_path(std::string("iso/") + name));
    ASSERT_TRUE(game);
    EXPECT_EQ(game->what, "folder");
    expect_identity(game->id, e);
    EXPECT_EQ(game->content_id, e.value("content_id", ""));
    EXPECT_EQ(game->id.evidence, e["evidence"].get<std::vector<std::string>>());
    const json splits = e.value("split_files", json::array());
    ASSERT_EQ(game->split_files.size(), splits.size());
    for (std::size_t i = 0; i < splits.size(); ++i) {
      EXPECT_EQ(game->split_files[i].path, splits[i]["path"].get<std::string>());
      EXPECT_EQ(game->split_files[i].parts, splits[i]["parts"].get<std::size_t>());
      EXPECT_EQ(game->split_files[i].size_bytes, splits[i]["size"].get<std::uint64_t>());
      EXPECT_EQ(game->split_files[i].complete, splits[i]["complete"].get<bool>());
    }
  }
  EXPECT_FALSE(identify_game_folder(vector_path("iso/tree")));
}

TEST(IdentifyVectors, ATrackListIsADiscOfItsTracks) {
  const json& e = described()["identify"]["dreamcast/disc.gdi"];
  const Image image = open_image(vector_path("iso/dreamcast/disc.gdi"));
  EXPECT_EQ(image.format->id, "gdi");
  const auto& tracks = image.cd()->layout().tracks;
  ASSERT_EQ(tracks.size(), e["tracks"].size());
  for (std::size_t i = 0; i < tracks.size(); ++i) {
    const json& t = e["tracks"][i];
    EXPECT_EQ(tracks[i].number, t[0].get<int>());
    EXPECT_EQ(tracks[i].start_lba, t[1].get<int>());
    EXPECT_EQ(tracks[i].mode.is_audio(), t[2] == "audio");
    EXPECT_EQ(tracks[i].mode.sector_bytes, t[3].get<int>());
    EXPECT_EQ(image.files[i].path.filename(), t[4].get<std::string>());
  }
  expect_identity(identify_platform(image), e["disc"]);
}

TEST(IdentifyVectors, BrokenSfoFilesAreRefused) {
  const json bad = described()["sfo"]["bad"];
  for (const json& recipe : bad) {
    SCOPED_TRACE(recipe["name"].get<std::string>());
    std::string bytes = read_file(vector_path("iso/" + recipe["base"].get<std::string>()));
    for (const json& patch : recipe["patches"]) {
      const std::string hex = patch[1];
      for (std::size_t i = 0; i < hex.size() / 2; ++i)
        bytes.at(patch[0].get<std::size_t>() + i) = static_cast<char>(std::stoi(hex.substr(2 * i, 2), nullptr, 16));
    }
    bytes.resize(recipe.value("size", bytes.size()));
    EXPECT_FALSE(parse_sfo(as_view(bytes)));
  }
  EXPECT_EQ(bad.size(), 6u);
}

TEST(IdentifyVectors, BrokenMapsOfEncryptedRegionsAreRefused) {
  const json tables = described()["ps3"]["bad_region_tables"];
  for (const json& table : tables) {
    SCOPED_TRACE(table["name"].get<std::string>());
    Bytes disc(table["image_sectors"].get<std::size_t>() * 2048);
    const std::string hex = table["sector0"], name = "PlayStation3";
    for (std::size_t i = 0; i < hex.size() / 2; ++i)
      disc[i] = static_cast<std::byte>(std::stoi(hex.substr(2 * i, 2), nullptr, 16));
    std::copy_n(as_view(name).begin(), name.size(), disc.begin() + 2048);
    const auto read = [&] { return read_ps3_disc(*memory_source(disc, "disc")); };
    if (table["expect"] == "refuse") {
      EXPECT_THROW(read(), Error);
    } else {
      EXPECT_TRUE(read());
    }
  }
  EXPECT_EQ(tables.size(), 6u);
}

}  // namespace
}  // namespace opifex
