// The file system of Xbox discs: sound images of many builders, full dumps, and every way a table can be broken.
#include <fstream>
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/volumes/xdvdfs_volume.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& expected() {
  static const json all = vector_json("xbox/expected.json");
  return all;
}

std::string image_bytes(const std::string& name) {
  const fs::path plain = vector_path("xbox/" + name);
  return fs::exists(plain) ? read_file(plain) : gunzip(vector_path("xbox/" + name + ".gz"));
}

bool is_image(const std::string& name) { return name.ends_with(".iso"); }

std::string sha1_of(const Volume& volume, const VolumeEntry& e) {
  const SourcePtr file = volume.open(e);
  return digest_of("sha1", read_up_to(*file, 0, static_cast<std::size_t>(file->size())));
}

void expect_entries(const Volume& volume, const json& entries) {
  ASSERT_EQ(volume.entries.size(), entries.size());
  for (const json& e : entries) {
    const std::string path = e["path"];
    SCOPED_TRACE(path);
    const auto at = std::find_if(volume.entries.begin(), volume.entries.end(),
                                 [&](const VolumeEntry& v) { return v.path == path; });
    ASSERT_NE(at, volume.entries.end());
    EXPECT_EQ(at->kind == EntryKind::folder, e["kind"] == "folder");
    if (e["kind"] != "file") continue;
    EXPECT_EQ(at->size_bytes, e["size"].get<std::uint64_t>());
    if (e.contains("sector")) {
      EXPECT_EQ(at->extents.at(0).sector, e["sector"].get<std::uint64_t>());
    }
    EXPECT_EQ(sha1_of(volume, *at), e["sha1"].get<std::string>());
  }
}

TEST(XboxVectors, EveryImageIsListedAndRead) {
  int seen = 0;
  for (const json& sample : expected()["samples"]) {
    const std::string name = sample["open"];
    if (!is_image(name)) continue;
    SCOPED_TRACE(name);
    const json& e = sample["expected"];
    const auto volume = read_xdvdfs(memory_source(to_bytes(image_bytes(name)), name));
    ASSERT_TRUE(volume);
    EXPECT_EQ(volume->damaged(), e["verdict"] != "good");
    EXPECT_EQ(volume->blocks, e["volume"]["end_sector"].get<std::uint64_t>());
    expect_entries(*volume, e["volume"]["entries"]);
    ++seen;
  }
  EXPECT_EQ(seen, 7);
}

Bytes damaged(const json& recipe) {
  Bytes bytes = to_bytes(image_bytes(recipe["base"]));
  for (const json& edit : recipe["edits"]) {
    if (edit.contains("truncate")) bytes.resize(edit["truncate"].get<std::size_t>());
    if (!edit.contains("hex")) continue;
    const std::string hex = edit["hex"];
    for (std::size_t i = 0; i < hex.size() / 2; ++i)
      bytes.at(edit["offset"].get<std::size_t>() + i) =
          static_cast<std::byte>(std::stoi(hex.substr(2 * i, 2), nullptr, 16));
  }
  return bytes;
}

TEST(XboxVectors, BrokenTablesAreToldAndTheRestIsRead) {
  const std::map<std::string, std::string> codes = {{"tree-loop", "tree_loop"},
                                                    {"entry-outside-table", "entry_outside"},
                                                    {"into-padding", "into_padding"},
                                                    {"extent-outside", "outside_image"},
                                                    {"overlap", "overlap"},
                                                    {"empty-name", "no_name"},
                                                    {"illegal-name", "illegal_name"},
                                                    {"directory-loop", "folder_loop"},
                                                    {"table-outside", "outside_image"},
                                                    {"second-magic", "second_mark"},
                                                    {"order", "name_order"},
                                                    {"straddle", "straddles"}};
  int seen = 0;
  for (const json& recipe : expected()["recipes"]) {
    if (!is_image(recipe["base"])) continue;
    SCOPED_TRACE(recipe["id"].get<std::string>());
    ++seen;
    const json& e = recipe["expected"];
    const auto volume = read_xdvdfs(memory_source(damaged(recipe), "image"));
    ASSERT_EQ(volume.has_value(), e["verdict"] != "refused");
    if (!volume) continue;
    const auto found = std::any_of(volume->problems.begin(), volume->problems.end(), [&](const VolumeProblem& p) {
      return p.code == codes.at(e["must_report"].get<std::string>());
    });
    EXPECT_TRUE(found) << e["must_report"];
    std::set<std::string> unsound, refused;
    std::size_t files = 0;
    for (const VolumeEntry& v : volume->entries) {
      files += v.kind == EntryKind::file ? 1 : 0;
      if (!v.sound) unsound.insert(v.path);
      if (!v.refused.empty()) refused.insert(v.path);
    }
    EXPECT_EQ(files, e["listed_files"].get<std::size_t>());
    EXPECT_EQ(unsound, e["damaged_files"].get<std::set<std::string>>());
    EXPECT_EQ(refused, e["refused_entries"].get<std::set<std::string>>());
  }
  EXPECT_GE(seen, 20);
}

TEST(XboxVectors, FullDumpsAreSearchedForTheirGamePartition) {
  TempFolder folder;
  for (const json& sparse : expected()["sparse"]) {
    SCOPED_TRACE(sparse["id"].get<std::string>());
    const fs::path path = folder / "full.iso";
    const json& piece = sparse["pieces"][0];
    if (!sparse["expected"].contains("same_files_as")) continue;
    write_file(path, "");
    fs::resize_file(path, sparse["size"].get<std::uint64_t>());
    {
      std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
      file.seekp(piece["at"].get<std::streamoff>());
      file << image_bytes(piece["from"]);
    }
    const auto volume = read_xdvdfs(open_file(path));
    ASSERT_TRUE(volume);
    EXPECT_EQ(volume->shift * 2048, sparse["expected"]["partition"]["offset"].get<std::int64_t>());
    const std::string same = sparse["expected"]["same_files_as"];
    for (const json& sample : expected()["samples"])
      if (sample["open"] == same) expect_entries(*volume, sample["expected"]["volume"]["entries"]);
  }
}

}  // namespace
}  // namespace opifex
