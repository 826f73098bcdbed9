// WBFS containers: every sample by its recipe, sound and broken.
#include <fstream>
#include <sstream>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/gamecube_volume.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& samples() {
  static const json all = vector_json("wii/expected.json")["samples"];
  return all;
}

/// Makes a sample of its recipe (vectors/wii/expected.json, "recipe_format") and those it is made of.
class Kitchen {
 public:
  fs::path make(const std::string& name) {
    const fs::path path = folder_ / name;
    if (fs::exists(path)) return path;
    const fs::path recipe = vector_path("wii/" + name + ".recipe");
    if (!fs::exists(recipe)) {
      fs::copy_file(vector_path("wii/" + name), path);
      return path;
    }
    write_file(path, "");
    std::ifstream lines(recipe);
    for (std::string line; std::getline(lines, line);) step(path, line);
    return path;
  }
  const fs::path& folder() const { return folder_.path(); }

 private:
  void step(const fs::path& path, const std::string& line) {
    std::istringstream words(line);
    std::string what, source, text;
    std::uint64_t at = 0, from = 0, size = 0;
    words >> what;
    if (what == "size" && words >> size) fs::resize_file(path, size);
    if (what == "hex" && words >> at >> text) {
      std::string bytes;
      for (std::size_t i = 0; i < text.size(); i += 2)
        bytes += static_cast<char>(std::stoi(text.substr(i, 2), nullptr, 16));
      put(path, at, bytes);
    }
    if (what == "fill" && words >> at >> size >> from) put(path, at, std::string(size, static_cast<char>(from)));
    if (what == "base" && words >> source)
      copy(path, 0, source, 0, std::min(fs::file_size(path), fs::file_size(make(source))));
    if (what == "put" && words >> at >> source >> from >> size) copy(path, at, source, from, size);
  }
  /// Holes of the source stay holes.
  void copy(const fs::path& path, std::uint64_t at, const std::string& source, std::uint64_t from, std::uint64_t size) {
    const SourcePtr file = open_file(make(source));
    constexpr std::uint64_t kPiece = 1 << 20;
    for (std::uint64_t done = 0; done < size;) {
      const std::uint64_t next = std::min(file->next_data(from + done) - from, size);
      if (next > done) {
        done = next;
        continue;
      }
      const Bytes piece = read_up_to(*file, from + done, static_cast<std::size_t>(std::min(kPiece, size - done)));
      put(path, at + done, as_text(piece));
      done += piece.size();
    }
  }
  static void put(const fs::path& path, std::uint64_t at, std::string_view bytes) {
    std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(at));
    file.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
  }

  TempFolder folder_;
};

bool is_container(const std::string& name) { return name.ends_with(".wbfs") && name != "wii-drive.wbfs"; }

TEST(WbfsVectors, SoundContainersHoldTheirDiscs) {
  Kitchen kitchen;
  kitchen.make("wii-split.wbf1");
  kitchen.make("wii-split.wbf2");
  int seen = 0;
  for (const auto& [name, sample] : samples().items()) {
    if (!is_container(name) || !sample["valid"]) continue;
    SCOPED_TRACE(name);
    ++seen;
    const Image image = open_image(kitchen.make(name));
    EXPECT_EQ(image.format->id, "wbfs");
    const json& disc = sample["read"]["discs"][0];
    EXPECT_EQ(image.blocks->size(), disc["logical_size"].get<std::uint64_t>());
    EXPECT_EQ(as_text(read_up_to(*image.blocks, 0, 6)), disc["id6"].get<std::string>());
    const json& facts = sample["read"]["wbfs"];
    const std::uint64_t stored = disc["present_blocks"].is_number() ? disc["present_blocks"].get<std::uint64_t>()
                                                                    : disc["present_blocks"].size();
    for (const ContainerFact& f : image.container->facts())
      if (f.key == "block_bytes") {
        EXPECT_NE(f.value.find(fmt::format("{} stored", stored)), std::string::npos) << f.value;
      }
    EXPECT_FALSE(facts.empty());
  }
  EXPECT_GE(seen, 10);
}

TEST(WbfsVectors, BrokenContainersAreRefusedByWhatIsWrong) {
  const std::map<std::string, std::string> codes = {{"wbfs-block-outside", "block_outside"},
                                                    {"wbfs-block-shared", "block_shared"},
                                                    {"wbfs-no-disc", "no_disc"},
                                                    {"wbfs-first-block-absent", "first_block"},
                                                    {"wbfs-block-size", "bad_geometry"},
                                                    {"wbfs-hd-sector", "bad_geometry"},
                                                    {"wbfs-magic", "no_magic"},
                                                    {"wbfs-slot-outside", "bad_slot"},
                                                    {"truncated", "truncated"},
                                                    {"parts-gap", "missing_part"}};
  Kitchen kitchen;
  kitchen.make("wii-gap.wbf2");
  int seen = 0;
  for (const auto& [name, sample] : samples().items()) {
    if (!is_container(name) || sample["valid"]) continue;
    SCOPED_TRACE(name);
    ++seen;
    try {
      find_format("wbfs")->open(kitchen.make(name), {});
      FAIL() << "opened";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, codes.at(sample["problems"][0].get<std::string>())) << e.what();
    }
  }
  EXPECT_GE(seen, 10);
}

TEST(WbfsVectors, ADriveOfManyDiscsAsksWhichOne) {
  Kitchen kitchen;
  const fs::path drive = kitchen.make("wii-drive.wbfs");
  EXPECT_THROW(open_image(drive), Error);
  for (const json& disc : samples()["wii-drive.wbfs"]["read"]["discs"]) {
    OpenOptions options;
    options.pick = disc["id6"];
    EXPECT_EQ(as_text(read_up_to(*open_image(drive, options).blocks, 0, 6)), disc["id6"].get<std::string>());
  }
}

TEST(GameCubeVectors, EveryFileIsReadAndEveryBreakIsTold) {
  const std::map<std::string, std::string> codes = {
      {"fst-loop", "folder_loop"},      {"fst-count", "bad_count"}, {"fst-name", "illegal_name"},
      {"fst-name-offset", "bad_name"},  {"fst-kind", "bad_kind"},   {"fst-file-outside", "outside_image"},
      {"fst-outside", "table_outside"}, {"fst-root", "bad_root"}};
  Kitchen kitchen;
  int sound = 0, broken = 0;
  for (const auto& [name, sample] : samples().items()) {
    if (!name.starts_with("gc-")) continue;
    SCOPED_TRACE(name);
    const auto volume = read_gamecube(open_file(kitchen.make(name)));
    ASSERT_EQ(volume.has_value(), name != "gc-bad-magic.iso");
    if (!volume) continue;
    EXPECT_EQ(volume->damaged(), !sample["valid"].get<bool>());
    if (sample["valid"]) {
      ++sound;
      for (const json& e : sample["read"]["discs"][0]["files"]) {
        const VolumeEntry* entry = volume->find(e["path"].get<std::string>());
        ASSERT_TRUE(entry) << e["path"];
        if (e.contains("dir")) continue;
        const SourcePtr file = volume->open(*entry);
        EXPECT_EQ(file->size(), e["size"].get<std::uint64_t>());
        EXPECT_EQ(digest_of("sha1", read_up_to(*file, 0, static_cast<std::size_t>(file->size()))), e["sha1"])
            << e["path"];
      }
      EXPECT_TRUE(volume->find("system/main.dol"));
      continue;
    }
    ++broken;
    const auto code = codes.find(sample["problems"][0].get<std::string>());
    if (code == codes.end()) continue;
    EXPECT_TRUE(std::any_of(volume->problems.begin(), volume->problems.end(), [&](const VolumeProblem& p) {
      return p.code == code->second;
    })) << code->second;
  }
  EXPECT_EQ(sound, 6);
  EXPECT_GE(broken, 13);
}

}  // namespace
}  // namespace opifex
