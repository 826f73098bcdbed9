// The file system of Xbox discs: sound images of many builders, full dumps, and every way a table can be broken.
#include <fstream>
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/volumes/xdvdfs/executable.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"
#include "opifex/core/volumes/xdvdfs/writer.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& described_xbox() {
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
  for (const json& sample : described_xbox()["samples"]) {
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
  for (const json& recipe : described_xbox()["recipes"]) {
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
  for (const json& sparse : described_xbox()["sparse"]) {
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
    for (const json& sample : described_xbox()["samples"])
      if (sample["open"] == same) expect_entries(*volume, sample["expected"]["volume"]["entries"]);
  }
}

TEST(XboxVectors, ExecutablesTellWhatTheySay) {
  int sound = 0, refused = 0;
  for (const json& sample : described_xbox()["samples"]) {
    const std::string name = sample["open"];
    if (!name.starts_with("exe/")) continue;
    SCOPED_TRACE(name);
    const json& e = sample["expected"];
    const SourcePtr file = open_file(vector_path("xbox/" + name));
    if (e["verdict"] == "refused") {
      EXPECT_THROW(read_xbox_executable(*file), Error);
      ++refused;
      continue;
    }
    ++sound;
    const XboxExecutable x = read_xbox_executable(*file);
    EXPECT_EQ(x.second, e["kind"] == "xex");
    ASSERT_EQ(x.title_id.has_value(), !e["title_id"].is_null());
    if (x.title_id) {
      EXPECT_EQ(title_id_text(*x.title_id), e["title_id"].get<std::string>());
      EXPECT_EQ(short_title_id(*x.title_id, x.second), e["short_id"].is_null() ? "" : e["short_id"].get<std::string>());
    }
    if (e.contains("name")) {
      EXPECT_EQ(x.name, e["name"].get<std::string>());
    }
    if (e.contains("execution_info")) {
      EXPECT_EQ(hex(x.execution), e["execution_info"].get<std::string>());
      EXPECT_EQ(x.version, e["version"].get<std::string>());
      EXPECT_EQ(x.base_version, e["base_version"].get<std::string>());
      EXPECT_EQ(x.discs, e["discs"].get<unsigned>());
      EXPECT_EQ(x.disc, e["disc"].get<unsigned>());
    }
  }
  EXPECT_EQ(sound, 6);
  EXPECT_EQ(refused, 3);
}

/// The containers among the vectors, unpacked.
class Packages {
 public:
  Packages() {
    for (const char* name : {"god-plain", "god-enhanced", "god-far", "god-big-endian", "god-original", "god-two-groups",
                             "stfs", "stfs-large"}) {
      copy_folder(vector_path(std::string("xbox/") + name), folder_ / name);
      std::vector<fs::path> packed;
      for (const auto& entry : fs::recursive_directory_iterator(folder_ / name))
        if (entry.path().extension() == ".gz") packed.push_back(entry.path());
      for (const fs::path& gz : packed) write_file(fs::path(gz).replace_extension(), gunzip(gz));
    }
  }
  fs::path operator/(const std::string& name) const { return folder_ / name; }

 private:
  TempFolder folder_;
};

bool is_package(const std::string& name) { return name.starts_with("god-") || name.starts_with("stfs"); }

std::map<std::string, std::string> facts_of(const Image& image) {
  std::map<std::string, std::string> facts;
  for (const ContainerFact& f : image.container->facts()) facts[f.key] = f.value;
  return facts;
}

TEST(XboxVectors, ContainersGiveTheirDiscsAndPackagesTheirFiles) {
  const Packages packages;
  QuietContext context;
  int seen = 0;
  for (const json& sample : described_xbox()["samples"]) {
    const std::string name = sample["open"];
    if (!is_package(name)) continue;
    SCOPED_TRACE(name);
    ++seen;
    const json& e = sample["expected"];
    const Image image = open_image(packages / name);
    EXPECT_EQ(image.format->id, e["format"].get<std::string>());
    auto facts = facts_of(image);
    EXPECT_EQ(facts["title_id"], e["header"]["title_id"].get<std::string>());
    EXPECT_EQ(facts["media_id"], e["header"]["media_id"].get<std::string>());
    EXPECT_EQ(facts["content_id"], e["header"]["content_id"].get<std::string>());
    EXPECT_EQ(facts["name"], e["header"]["name"].get<std::string>());
    if (e["format"] == "god") {
      EXPECT_EQ(image.blocks()->size(), e["image_size"].get<std::uint64_t>());
      expect_entries(read_volumes(image).front(), e["volume"]["entries"]);
    } else {
      EXPECT_EQ(facts["blocks"], std::to_string(e["blocks"].get<int>()));
      EXPECT_EQ(facts["table_copies"], std::to_string(e["table_copies"].get<int>()));
      expect_entries(read_volumes(image).front(), e["entries"]);
    }
    EXPECT_EQ(check_image(image, {{}}, context).verdict, Verdict::intact);
  }
  EXPECT_EQ(seen, 9);
}

void apply_edits(const json& edits, const fs::path& folder) {
  for (const json& edit : edits) {
    const fs::path file = folder / edit["file"].get<std::string>();
    if (edit.contains("delete")) {
      fs::remove(file);
      continue;
    }
    std::string bytes = read_file(file);
    if (edit.contains("truncate")) bytes.resize(edit["truncate"].get<std::size_t>());
    if (edit.contains("hex")) {
      const std::string hex = edit["hex"];
      for (std::size_t i = 0; i < hex.size() / 2; ++i)
        bytes.at(edit["offset"].get<std::size_t>() + i) =
            static_cast<char>(std::stoi(hex.substr(2 * i, 2), nullptr, 16));
    }
    write_file(file, bytes);
  }
}

TEST(XboxVectors, AContainerInOneFileHoldsItsDiscBehindTheHeader) {
  const Packages packages;
  TempFolder folder;
  const std::string data = read_file(packages / "god-original/ORIGINAL.data/Data0000");
  write_file(folder / "single", read_file(packages / "god-original/ORIGINAL") + data);
  const Image image = open_image(folder / "single");
  EXPECT_EQ(image.format->id, "god");
  const Image parts = open_image(packages / "god-original/ORIGINAL");
  const auto volume = read_volumes(image).front(), same = read_volumes(parts).front();
  ASSERT_EQ(volume.entries.size(), same.entries.size());
  for (std::size_t i = 0; i < volume.entries.size(); ++i)
    if (volume.entries[i].kind == EntryKind::file) {
      EXPECT_EQ(sha1_of(volume, volume.entries[i]), sha1_of(same, same.entries[i]));
    }
  QuietContext context;
  EXPECT_EQ(check_image(image, {{}}, context).verdict, Verdict::intact);
}

TEST(XboxVectors, DamagedContainersAreToldWithTheFilesTheyHit) {
  const std::map<std::string, std::set<std::string>> codes = {
      {"hash-data", {"hash_data"}},
      {"hash-group", {"hash_group"}},
      {"hash-root", {"hash_root"}},
      {"hash-header", {"hash_header"}},
      {"hash-table", {"hash_table"}},
      {"short-data-file", {"short_data_file"}},
      {"chain-loop", {"chain_loop"}},
      {"missing-data-file", {"missing_data_file"}},
      {"chain-short", {"chain_short"}},
      {"chain-outside", {"chain_outside"}},
      {"parent", {"bad_parent"}},
      {"illegal-name", {"illegal_name"}},
      {"truncated", {"cut_short"}},
      {"field-mismatch",
       {"other_block_count", "other_file_count", "other_size", "other_start", "other_layout", "other_type"}}};
  int seen = 0;
  for (const json& recipe : described_xbox()["recipes"]) {
    const std::string base = recipe["base"];
    if (!is_package(base)) continue;
    SCOPED_TRACE(recipe["id"].get<std::string>());
    ++seen;
    const Packages packages;
    apply_edits(recipe["edits"], packages / base);
    const fs::path path = packages / (base + "/" + recipe["open"].get<std::string>());
    const json& e = recipe["expected"];
    OpenOptions options;
    options.allow_missing = true;
    if (e["verdict"] == "refused") {
      EXPECT_THROW(find_format("god")->open(path, options), Error);
      continue;
    }
    const Image image = open_image(path, options);
    QuietContext context;
    const CheckResult result = check_image(image, {{}}, context);
    const auto& wanted = codes.at(e["must_report"].get<std::string>());
    const auto found = std::find_if(result.findings.begin(), result.findings.end(),
                                    [&](const Finding& f) { return wanted.contains(f.code); });
    ASSERT_NE(found, result.findings.end()) << e["must_report"];
    if (e["must_report"] != "field-mismatch") {
      EXPECT_NE(result.verdict, Verdict::intact);
    }
    if (e["must_report"] == "hash-data" || e["must_report"] == "short-data-file") {
      EXPECT_EQ(std::set(found->files.begin(), found->files.end()), e["damaged_files"].get<std::set<std::string>>());
    }
  }
  EXPECT_GE(seen, 28);
}

std::string sha1_of(ByteView bytes) { return digest_of("sha1", bytes); }
std::string sha1_of(const SourcePtr& source, std::uint64_t bytes) {
  return sha1_of(read_up_to(*source, 0, static_cast<std::size_t>(bytes)));
}

void clear_attributes(XdvdfsNode& node) {
  node.attributes = 0;
  for (XdvdfsNode& child : node.children) clear_attributes(child);
}

TEST(XboxVectors, RebuildingGivesTheVectorsBytes) {
  // Two images of the same files: one odd in every way, one as we make them but for dates and attributes.
  const auto odd = read_xdvdfs(memory_source(to_bytes(image_bytes("orchard-odd.iso")), "odd"));
  const auto even = read_xdvdfs(memory_source(to_bytes(image_bytes("orchard.iso")), "even"));
  ASSERT_TRUE(odd && even);
  XdvdfsNode tree = xdvdfs_tree(*odd);
  clear_attributes(tree);
  const XdvdfsImage made = make_xdvdfs(std::move(tree), {.padded = true, .filetime = even->created});
  EXPECT_EQ(sha1_of(made.image, made.image->size()), sha1_of(as_view(image_bytes("orchard.iso"))));
  const auto modern = read_xdvdfs(memory_source(to_bytes(image_bytes("modern.iso")), "modern"));
  const XdvdfsImage minimal = make_xdvdfs(xdvdfs_tree(*modern), {.padded = false, .filetime = modern->created});
  EXPECT_EQ(sha1_of(minimal.image, minimal.image->size()), sha1_of(as_view(image_bytes("modern.iso"))));
}

TEST(XboxVectors, NamesThatCannotBeAreNotWritten) {
  const auto make = [](std::vector<std::string> names) {
    XdvdfsNode root;
    root.folder = true;
    for (const std::string& name : names) root.children.push_back({.name = name, .path = name});
    return make_xdvdfs(std::move(root), {});
  };
  EXPECT_EQ(make({"a", "b"}).files, 2u);
  EXPECT_THROW(make({"a", "A"}), Error) << "the console would find one of them only";
  EXPECT_THROW(make({std::string(256, 'x')}), Error);
  EXPECT_THROW(make({"\u77f3"}), Error);
  EXPECT_EQ(make({}).image->size(), 65536u * 2) << "an empty root has a table, too";
}

TEST(XboxVectors, AContainerIsWrittenAndReadBack) {
  const Packages packages;
  TempFolder folder;
  write_file(folder / "modern.iso", image_bytes("modern.iso"));
  const Image image = open_image(folder / "modern.iso");
  EXPECT_EQ(image.format->id, "xiso");
  QuietContext context;
  const auto write = [&](unsigned threads, const std::string& where) {
    JobContext own{context.progress, threads};
    const Format& god = *find_format("god");
    const WritePlan plan =
        god.plan_write(image, folder / where / "x", Settings::of(god.settings, {{"title", "Brass Orchard"}}));
    WriteJob job;
    job.target = target_facts(folder.path());
    return write_outputs(image, plan, job, own).back().path;
  };
  const fs::path header = write(1, "one");
  const fs::path again = write(8, "eight");
  EXPECT_EQ(header.filename(), again.filename());
  EXPECT_EQ(sha256_file(header), sha256_file(again)) << "the same for one thread and eight";
  const Image result = open_image(header);
  EXPECT_TRUE(result.warnings.empty());
  EXPECT_EQ(check_image(result, {{}}, context).verdict, Verdict::intact);
  const std::string original = image_bytes("modern.iso");
  EXPECT_EQ(sha1_of(result.blocks(), original.size()), sha1_of(as_view(original)));
  auto facts = facts_of(result);
  EXPECT_EQ(facts["name"], "Brass Orchard");
  EXPECT_EQ(facts["title_id"], "505207D1");
  EXPECT_EQ(facts["media_id"], "1A2B3C4D");
  EXPECT_EQ(result.name, "Brass Orchard");
}

TEST(XboxVectors, ContainersOfTwoDataFiles) {
  // A little more than the first file holds: the hashes go on from file to file.
  TempFolder folder;
  XdvdfsNode root;
  root.folder = true;
  constexpr std::uint64_t kBlocks = 41'413;
  root.children.push_back(
      {.name = "default.xex", .path = "", .source = open_file(vector_path("xbox/exe/orchard.xex"))});
  root.children.push_back({.name = "far.bin", .path = "", .source = zero_source(kBlocks * 4096)});
  Image image;
  image.path = folder / "big.iso";
  image.format = find_format("xiso");
  image.content = BlockContent{.bytes = make_xdvdfs(std::move(root), {.padded = false}).image};
  QuietContext context;
  WriteJob job;
  job.target = target_facts(folder.path());
  const WritePlan plan = find_format("god")->plan_write(image, folder / "x", {});
  ASSERT_EQ(plan.outputs.size(), 3u);
  const auto written = write_outputs(image, plan, job, context);
  EXPECT_EQ(written[0].path.filename(), "Data0001");
  EXPECT_EQ(written[1].size_bytes, 170'459'136u);
  const fs::path header = written.back().path;
  EXPECT_EQ(check_image(open_image(header), {{}}, context).verdict, Verdict::intact);
  flip_byte(written[0].path, 0x2010);
  const CheckResult damaged = check_image(open_image(header), {{}}, context);
  EXPECT_EQ(damaged.verdict, Verdict::damaged);
  ASSERT_EQ(damaged.findings.front().code, "hash_data");
  EXPECT_EQ(damaged.findings.front().files, std::vector<std::string>{"far.bin"});
  fs::remove(written[0].path);
  OpenOptions options;
  options.allow_missing = true;
  const CheckResult missing = check_image(open_image(header, options), {{}}, context);
  EXPECT_NE(missing.verdict, Verdict::intact);
  EXPECT_THROW(open_image(header), Error) << "a conversion has nothing to begin with";
}

}  // namespace
}  // namespace opifex
