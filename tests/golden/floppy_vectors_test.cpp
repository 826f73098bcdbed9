// Every floppy of the vectors: what it is, its files with their facts and bytes, and what is wrong with it.
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/volumes/amiga/disk.hpp"
#include "opifex/core/volumes/file_system.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& expected_floppies() {
  static const json all = [] {
    json floppies = json::object();
    const json files = vector_json("floppycart/expected.json")["files"];
    for (const auto& [name, facts] : files.items())
      if (facts.contains("kind") && facts["kind"].is_string() && facts["kind"].get<std::string>().starts_with("adf"))
        floppies[name] = facts;
    return floppies;
  }();
  return all;
}

std::vector<std::string> floppy_names() {
  std::vector<std::string> names;
  for (const auto& [name, facts] : expected_floppies().items()) names.push_back(name);
  return names;
}

std::string iso_date(const std::optional<std::int64_t>& seconds, std::uint32_t hundredths) {
  if (!seconds) return "";
  const CivilTime t = civil_time(*seconds);
  std::string text =
      fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}", t.year, t.month, t.day, t.hour, t.minute, t.second);
  return hundredths == 0 ? text : text + fmt::format(".{:02}", hundredths);
}

std::string underscored(std::string code) {
  std::replace(code.begin(), code.end(), '-', '_');
  return code;
}

const FileSystem& floppy_system() {
  for (const FileSystem* system : file_systems())
    if (system->host == VolumeHost::floppy) return *system;
  throw std::runtime_error("no file system of floppies");
}

std::string case_name_of(std::string name) {
  for (char& c : name)
    if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
  return name;
}

class EveryFloppy : public testing::TestWithParam<std::string> {
 protected:
  const json& facts() const { return expected_floppies()[GetParam()]; }
  Bytes image = to_bytes(gunzip(vector_path("floppycart/" + GetParam())));
};

TEST_P(EveryFloppy, IsWhatItIsSaidToBe) {
  const amiga::ImageFacts is = amiga::examine_image(image);
  const std::string status = facts()["status"];
  if (status == "extended") {
    EXPECT_EQ(is.kind, amiga::ImageKind::extended);
    EXPECT_EQ(is.tracks, facts()["tracks"].get<std::uint32_t>());
    EXPECT_EQ(is.variant, facts()["variant"]);
  } else if (status == "custom") {
    EXPECT_EQ(is.kind, amiga::ImageKind::custom);
    EXPECT_EQ(is.bootable, facts()["boot"]["bootable"].get<bool>());
  } else if (facts().contains("label")) {
    EXPECT_EQ(is.kind, amiga::ImageKind::volume);
    EXPECT_EQ(is.bootable, facts()["boot"]["bootable"].get<bool>());
  } else {
    EXPECT_EQ(is.kind, amiga::ImageKind::other_size) << "the only one that is cut";
  }
}

TEST_P(EveryFloppy, HasTheseFindingsAndNoOthers) {
  if (amiga::examine_image(image).kind != amiga::ImageKind::volume) return;
  const amiga::Disk disk = amiga::read_disk(image);
  std::set<std::tuple<std::string, std::uint32_t, bool>> found, wanted;
  // What a broken file leaves unused in the bitmap depends on how far its lists are believed.
  const bool broken = !facts()["findings"].empty();
  const auto matters = [&](const std::string& code) { return !broken || code != "bitmap_free_marked_used"; };
  for (const amiga::Finding& f : disk.findings)
    if (matters(f.code)) found.emplace(f.code, f.block.value_or(0), f.error);
  for (const json& f : facts()["findings"])
    if (matters(underscored(f["code"])))
      wanted.emplace(underscored(f["code"]), f["block"].get<std::uint32_t>(), f["severity"] == "error");
  for (const json& must : facts().value("must_report", json::array()))
    EXPECT_TRUE(std::any_of(disk.findings.begin(), disk.findings.end(), [&](const amiga::Finding& f) {
      return f.code == underscored(must["code"]) && f.block == must["block"].get<std::uint32_t>();
    })) << must;
  EXPECT_EQ(found, wanted);
  EXPECT_EQ(disk.damaged(), facts()["status"] == "damaged");
  EXPECT_EQ(disk.free_blocks, facts()["blocks_free"].get<std::uint32_t>());
  EXPECT_EQ(disk.blocks, facts()["blocks_total"].get<std::uint32_t>());
  EXPECT_EQ(disk.root, facts()["root_block"].get<std::uint32_t>());
  EXPECT_EQ(disk.kind.flags, facts()["dos_flags"].get<unsigned>());
}

TEST_P(EveryFloppy, ListsTheseFiles) {
  if (!facts().contains("entries")) return;
  const auto volume = floppy_system().read({memory_source(image, GetParam()), 0, nullptr});
  ASSERT_TRUE(volume);
  EXPECT_EQ(volume->label, facts()["label"]);
  EXPECT_EQ(volume->space->free_bytes, facts()["bytes_free"].get<std::uint64_t>());
  ASSERT_EQ(volume->entries.size(), facts()["entries"].size());
  for (const json& e : facts()["entries"]) {
    const std::string path = e["path"];
    SCOPED_TRACE(path);
    const VolumeEntry* entry = nullptr;
    for (const VolumeEntry& one : volume->entries)
      if (one.path == path) entry = &one;
    ASSERT_TRUE(entry);
    EXPECT_EQ(entry->facts->comment, e["comment"]);
    EXPECT_EQ(entry->facts->protection_text, e["protection"]);
    EXPECT_EQ(*entry->facts->protection, e["protection_raw"].get<std::uint32_t>());
    EXPECT_EQ(entry->facts->place, e["header_block"].get<std::uint64_t>());
    EXPECT_EQ(iso_date(entry->modified, entry->facts->hundredths), e["modified"]);
    const std::string type = e["type"];
    EXPECT_EQ(entry->kind, type == "file" ? EntryKind::file : type == "dir" ? EntryKind::folder : EntryKind::link);
    if (e.contains("target")) {
      EXPECT_EQ(entry->link, e["target"]);
    }
    if (type != "file") continue;
    EXPECT_EQ(entry->size_bytes, e["size"].get<std::uint64_t>());
    EXPECT_EQ(entry->sound, e["readable"].get<bool>());
    const SourcePtr file = volume->open(*entry);
    EXPECT_EQ(digest_of("sha1", read_up_to(*file, 0, file->size())), e["sha1"]);
  }
}

INSTANTIATE_TEST_SUITE_P(Vectors, EveryFloppy, testing::ValuesIn(floppy_names()),
                         [](const auto& i) { return case_name_of(i.param); });

}  // namespace
}  // namespace opifex
