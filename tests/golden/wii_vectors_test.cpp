// GameCube and Wii discs and WBFS containers: every sample by its recipe, sound and broken.
#include <fstream>
#include <set>
#include <sstream>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/convert/scrub.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/volumes/disc_use.hpp"
#include "opifex/core/volumes/wii/hashes.hpp"

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
    EXPECT_EQ(image.blocks()->size(), disc["logical_size"].get<std::uint64_t>());
    EXPECT_EQ(as_text(read_up_to(*image.blocks(), 0, 6)), disc["id6"].get<std::string>());
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
    EXPECT_EQ(as_text(read_up_to(*open_image(drive, options).blocks(), 0, 6)), disc["id6"].get<std::string>());
  }
}

TEST(GameCubeVectors, EveryFileIsReadAndEveryBreakIsTold) {
  const std::map<std::string, std::string> codes = {
      {"fst-loop", "folder_loop"},      {"fst-count", "bad_count"}, {"fst-name", "illegal_name"},
      {"fst-name-offset", "bad_name"},  {"fst-kind", "bad_kind"},   {"fst-file-outside", "outside_disc"},
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

KeyRingPtr keys_of(const fs::path& folder, const char* which = "common_key_hex") {
  const json all = vector_json("wii/expected.json");
  testkit::write_file(folder / "keys.toml",
                      fmt::format("[common-keys]\nwii = \"{}\"\nwii-korean = \"{}\"\n", all[which].get<std::string>(),
                                  all["second_common_key_index_1_hex"].get<std::string>()));
  return KeyRing::read(folder / "keys.toml");
}

bool is_wii(const std::string& name, const json& sample) {
  return sample.contains("read") && !name.starts_with("gc-") && name != "wii-drive.wbfs" &&
         (!is_container(name) || sample["valid"]);
}

bool has_code(const std::vector<VolumeProblem>& problems, const std::string& code) {
  return std::any_of(problems.begin(), problems.end(), [&](const VolumeProblem& p) { return p.code == code; });
}

Image open_sample(Kitchen& kitchen, const std::string& name, KeyRingPtr keys) {
  OpenOptions options;
  options.keys = std::move(keys);
  return open_image(kitchen.make(name), options);
}

void make_parts(Kitchen& kitchen) {
  for (const char* part : {"wii-split.wbf1", "wii-split.wbf2", "wii-splitiso.part1.iso"}) kitchen.make(part);
}

void expect_partition(const WiiPartition& p, const json& wanted) {
  EXPECT_EQ(p.offset, wanted["offset"].get<std::uint64_t>());
  EXPECT_EQ(p.type, wanted["type"].get<std::uint32_t>());
  EXPECT_EQ(p.group, wanted["group"].get<unsigned>());
  if (p.listed_only) return;
  EXPECT_EQ(p.title_id, wanted["title_id"].get<std::string>());
  EXPECT_EQ(p.key_index, wanted["common_key_index"].get<unsigned>());
  EXPECT_EQ(p.tmd - p.offset, wanted["tmd_offset"].get<std::uint64_t>());
  EXPECT_EQ(p.h3 - p.offset, wanted["h3_offset"].get<std::uint64_t>());
  EXPECT_EQ(p.data - p.offset, wanted["data_offset"].get<std::uint64_t>());
  EXPECT_EQ(p.data_bytes, wanted["data_size"].get<std::uint64_t>());
  EXPECT_EQ(p.title_version, wanted["title_version"].get<unsigned>());
  EXPECT_EQ(p.system_version, wanted["system_version"].get<std::string>());
}

TEST(WiiVectors, PartitionsTheirFilesAndWhatIsUsed) {
  Kitchen kitchen;
  make_parts(kitchen);
  const KeyRingPtr keys = keys_of(kitchen.folder());
  int seen = 0;
  for (const auto& [name, sample] : samples().items()) {
    if (!is_wii(name, sample) || !sample["valid"]) continue;
    SCOPED_TRACE(name);
    ++seen;
    const SourcePtr disc = open_sample(kitchen, name, keys).blocks();
    const auto wii = read_wii_disc(disc, keys.get());
    ASSERT_TRUE(wii);
    EXPECT_TRUE(wii->sound);
    const json& wanted = sample["read"]["discs"][0];
    EXPECT_EQ(wii->id, wanted["id6"].get<std::string>());
    EXPECT_EQ(wii->title, wanted["title"].get<std::string>());
    EXPECT_EQ(wii->region, wanted["region_code"].get<std::uint32_t>());
    ASSERT_EQ(wii->partitions.size(), wanted["partitions"].size());
    for (std::size_t i = 0; i < wii->partitions.size(); ++i) {
      const WiiPartition& p = wii->partitions[i];
      const json& part = wanted["partitions"][i];
      expect_partition(p, part);
      if (p.blank) continue;
      EXPECT_EQ(h3_fits(read_h3(*disc, p), p), part["h4_ok"].get<bool>());
      ASSERT_TRUE(p.readable());
      const ConsoleVolume console = read_wii_partition(disc, p);
      EXPECT_EQ(console.title, part["inner_title"].get<std::string>());
      for (const json& e : part["files"]) {
        const VolumeEntry* entry = console.volume.find(e["path"].get<std::string>());
        ASSERT_TRUE(entry) << e["path"];
        if (e.contains("dir")) continue;
        const SourcePtr file = console.volume.open(*entry);
        EXPECT_EQ(digest_of("sha1", read_up_to(*file, 0, static_cast<std::size_t>(file->size()))), e["sha1"])
            << e["path"];
      }
    }
    const DiscUse use = use_of_wii(disc, *wii);
    EXPECT_TRUE(use.known);
    if (wanted.contains("used_sector_count")) {
      EXPECT_EQ(use.bytes() / kWiiClusterBytes, wanted["used_sector_count"].get<std::uint64_t>());
    }
  }
  EXPECT_GE(seen, 18);
}

TEST(WiiVectors, BrokenDiscsAreToldByWhatIsWrong) {
  const std::map<std::string, std::string> codes = {{"partition-count", "too_many_partitions"},
                                                    {"partition-table-outside", "table_outside"},
                                                    {"partition-overlap", "partition_overlap"},
                                                    {"no-partition", "no_partition"},
                                                    {"data-size", "bad_data_size"},
                                                    {"partition-blank", "partition_blank"}};
  Kitchen kitchen;
  const KeyRingPtr keys = keys_of(kitchen.folder());
  std::set<std::string> seen;
  for (const auto& [name, sample] : samples().items()) {
    if (!is_wii(name, sample) || sample["valid"]) continue;
    const auto code = codes.find(sample["problems"][0].get<std::string>());
    if (code == codes.end()) continue;
    SCOPED_TRACE(name);
    const auto wii = read_wii_disc(open_file(kitchen.make(name)), keys.get());
    ASSERT_TRUE(wii);
    EXPECT_FALSE(wii->sound);
    EXPECT_TRUE(has_code(wii->problems, code->second)) << code->second;
    seen.insert(code->first);
  }
  EXPECT_EQ(seen.size(), codes.size());
}

TEST(WiiVectors, StatesOfImages) {
  Kitchen kitchen;
  make_parts(kitchen);
  const KeyRingPtr keys = keys_of(kitchen.folder());
  int seen = 0;
  for (const auto& [name, sample] : samples().items()) {
    if (!sample.contains("read") || name.ends_with(".wbfs") || name == "gc-bad-magic.iso") continue;
    const json& wanted = sample["read"]["discs"][0];
    SCOPED_TRACE(name);
    ++seen;
    const Identity id = identify_platform(open_sample(kitchen, name, keys));
    const std::string state = wanted["image_state"];
    EXPECT_EQ(id.state, state == "trimmed-inside-partition" ? "trimmed" : state);
    if (wanted.contains("scrubbed") && sample["valid"].get<bool>()) {
      EXPECT_EQ(id.scrubbed, std::optional(wanted["scrubbed"].get<bool>()));
    }
    if (wanted.value("padding", json()) == "blank") {
      EXPECT_EQ(id.padding, "blank");
    }
  }
  EXPECT_GE(seen, 45);
  const Identity cut = identify_platform(open_sample(kitchen, "wii-small-cut.iso", nullptr));
  EXPECT_EQ(cut.state, "unknown") << "without the key nobody can tell";
}

/// Codes of findings that are errors.
std::set<std::string> errors_of(const CheckResult& result) {
  std::set<std::string> codes;
  for (const Finding& f : result.findings)
    if (f.severity == Severity::error) codes.insert(f.code);
  return codes;
}

TEST(WiiVectors, TheWholeTreeIsVerified) {
  Kitchen kitchen;
  make_parts(kitchen);
  const KeyRingPtr keys = keys_of(kitchen.folder());
  testkit::QuietContext context;
  int sound = 0, broken = 0;
  for (const auto& [name, sample] : samples().items()) {
    if (!is_wii(name, sample) || name == "wii-tiny-full.iso") continue;
    SCOPED_TRACE(name);
    const CheckResult result = check_image(open_sample(kitchen, name, keys), {{}}, context);
    const std::set<std::string> errors = errors_of(result);
    if (sample["valid"]) {
      ++sound;
      EXPECT_EQ(result.verdict, Verdict::intact) << (errors.empty() ? "" : *errors.begin());
      continue;
    }
    ++broken;
    EXPECT_NE(result.verdict, Verdict::intact);
    for (const json& p : sample["problem_details"]) {
      const std::string code = p["code"];
      if (code == "used-cluster-blank") {
        EXPECT_TRUE(errors.contains("used_cluster_blank"));
      }
      if (!code.starts_with("hash-h")) continue;
      const std::string level = "(H" + code.substr(6) + ")";
      EXPECT_TRUE(std::any_of(result.findings.begin(), result.findings.end(), [&](const Finding& f) {
        return f.severity == Severity::error && f.message.find(level) != std::string::npos;
      })) << level;
    }
  }
  EXPECT_GE(sound, 18);
  EXPECT_GE(broken, 14);
}

TEST(WiiVectors, DamageNamesTheFilesItHits) {
  Kitchen kitchen;
  testkit::QuietContext context;
  const KeyRingPtr keys = keys_of(kitchen.folder());
  const CheckResult result = check_image(open_sample(kitchen, "wii-bad-h0-two.iso", keys), {{}}, context);
  ASSERT_EQ(errors_of(result), std::set<std::string>{"hash_h0"});
  const auto finding = std::find_if(result.findings.begin(), result.findings.end(),
                                    [](const Finding& f) { return f.code == "hash_h0"; });
  EXPECT_EQ(finding->message.find("cluster 1 ") != std::string::npos, true) << finding->message;
  EXPECT_NE(finding->message.find("2 of 31"), std::string::npos) << finding->message;
  EXPECT_EQ(finding->files, std::vector<std::string>{"data/tree/oak.bin"});
}

TEST(WiiVectors, AWrongKeyIsSaidOnceAndNothingElse) {
  Kitchen kitchen;
  testkit::QuietContext context;
  const KeyRingPtr wrong = keys_of(kitchen.folder(), "wrong_key_hex");
  const Image image = open_sample(kitchen, "wii-tiny-wrong-key-test.iso", wrong);
  EXPECT_EQ(testkit::error_code([&] { check_image(image, {{}}, context); }), "wrong_key");
  EXPECT_EQ(testkit::error_code([&] { read_volumes(image); }), "wrong_key");
  EXPECT_EQ(testkit::error_code([&] { scrub(image, {.unused = true}); }), "wrong_key");
  const Image locked = open_sample(kitchen, "wii-tiny-wrong-key-test.iso", nullptr);
  EXPECT_EQ(testkit::error_code([&] { read_volumes(locked); }), "no_key");
  EXPECT_EQ(check_image(locked, {{}}, context).verdict, Verdict::intact);
}

TEST(WiiVectors, ScrubbingLeavesOutWhatTheVectorsLeaveOut) {
  Kitchen kitchen;
  const KeyRingPtr keys = keys_of(kitchen.folder());
  const auto bytes_of = [](const SourcePtr& s) { return read_up_to(*s, 0, static_cast<std::size_t>(s->size())); };
  const Image image = open_sample(kitchen, "wii-small.iso", keys);
  const Scrubbed unused = scrub(image, {.unused = true});
  EXPECT_EQ(bytes_of(unused.image.blocks()), bytes_of(open_sample(kitchen, "wii-small-scrubbed.iso", keys).blocks()));
  ASSERT_EQ(unused.losses.size(), 1u);
  EXPECT_EQ(unused.losses[0].kind, "scrubbed");
  const Scrubbed game = scrub(image, {.keep = WiiKeep::game});
  EXPECT_EQ(bytes_of(game.image.blocks()), bytes_of(open_sample(kitchen, "wii-small-noupdate.iso", keys).blocks()));
  ASSERT_EQ(game.losses.size(), 1u);
  EXPECT_EQ(game.losses[0].kind, "partitions");
  EXPECT_THROW(scrub(open_sample(kitchen, "gc-bad-fst-loop.iso", keys), {.unused = true}), Error);
}

}  // namespace
}  // namespace opifex
