// Files out of an image: whatever the image calls them, everything lands below the folder, nothing over anything.
#include "opifex/core/convert/extract.hpp"

#include <set>

#include <gtest/gtest.h>

#include "opifex/core/base/text.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

/// A volume whose files are made up; its entries point into a disc of random bytes.
class Extracting : public testing::Test {
 protected:
  static constexpr std::size_t kSectors = 200;
  Extracting() {
    image.path = "disc.iso";
    image.content = BlockContent{.bytes = disc};
    volume.system = "iso9660";
    volume.disc = disc;
  }
  VolumeEntry& add(const std::string& path, EntryKind kind = EntryKind::file, std::uint64_t sector = 0,
                   std::uint64_t size = 0) {
    VolumeEntry e;
    e.path = path;
    e.kind = kind;
    e.size_bytes = size;
    e.modified = 1'000'000'000;
    if (kind == EntryKind::file) e.extents.push_back({sector, size});
    volume.entries.push_back(e);
    return volume.entries.back();
  }
  ExtractPlan plan(std::vector<std::string> paths = {}, const char* drive = "ext4") {
    volumes = {volume};
    return plan_extract(image, volumes, {std::move(paths), folder.path()},
                        with_file_system(target_facts(folder.path()), drive));
  }
  std::vector<Extracted> run(const ExtractPlan& p, ExtractJob job = {}) {
    QuietContext context;
    job.facts = target_facts(folder.path());
    job.into = folder.path();
    return run_extract(p, job, context);
  }
  std::string bytes_at(std::uint64_t sector, std::uint64_t size) const {
    return std::string(as_text(ByteView(bytes).subspan(sector * 2048, size)));
  }

  const TempFolder folder;
  Random random{51};
  const Bytes bytes = random.bytes(kSectors * 2048);
  const SourcePtr disc = memory_source(bytes, "disc.iso");
  Image image;
  Volume volume;
  std::vector<Volume> volumes;
};

TEST_F(Extracting, EveryFileHasItsBytes) {
  std::map<std::string, std::string> expected;
  add("DATA", EntryKind::folder);
  for (int i = 0; i < 40; ++i) {
    const std::uint64_t sector = random.below(kSectors - 20), size = random.below(20 * 2048);
    const std::string path = fmt::format("{}FILE{}.BIN", i % 2 != 0 ? "DATA/" : "", i);
    add(path, EntryKind::file, sector, size);
    expected[path] = bytes_at(sector, size);
  }
  const ExtractPlan p = plan();
  std::uint64_t total = 0;
  for (const auto& [path, content] : expected) total += content.size();
  EXPECT_EQ(p.total_bytes, total);
  run(p);
  for (const auto& [path, content] : expected) EXPECT_TRUE(read_file(folder / path) == content) << path;
  EXPECT_EQ(listing(folder.path()).size(), expected.size() + 1);
  const ExtractPlan again = plan();
  const std::vector<Extracted> outcome = run(again);
  for (std::size_t i = 0; i < outcome.size(); ++i)
    EXPECT_TRUE(again.items[i].is_folder() || outcome[i] == Extracted::was_there) << "nothing is to be done twice";
}

TEST_F(Extracting, ATargetIsNeverOutsideItsFolderAndNeverTwice) {
  constexpr std::string_view kBytes = "aAbB.  /\\:*?\"<>|+\x01\x7F\xC3\xA9\xFF";
  for (const char* drive : {"ext4", "fat32", "fatx"})
    for (int round = 0; round < 60; ++round) {
      volume.entries.clear();
      for (int i = 0; i < 60; ++i) {
        std::string path;
        for (std::uint64_t n = 1 + random.below(8); n > 0; --n) path += kBytes[random.below(kBytes.size())];
        if (random.below(6) == 0) path = "../" + path;
        if (random.below(9) == 0) path = "/" + path;
        add(path, random.below(5) == 0 ? EntryKind::folder : EntryKind::file, 0, 1);
      }
      const ExtractPlan p = plan({}, drive);
      std::set<std::string> files;
      for (const ExtractItem& item : p.items) {
        const fs::path target(item.target);
        const fs::path below = target.lexically_normal().lexically_relative(folder.path());
        ASSERT_FALSE(below.empty() || *below.begin() == "..") << printable(item.entry->path) << " -> " << item.target;
        ASSERT_TRUE(is_utf8(item.target));
        if (item.is_folder()) continue;
        const std::string key = std::string_view(drive) == "ext4" ? item.target : fold_case(item.target);
        ASSERT_TRUE(files.insert(key).second) << "two files with the name " << item.target << " on " << drive;
        if (std::string_view(drive) != "ext4") {
          ASSERT_EQ(fs::path(item.target).filename().string().find_first_of("<>:\"|?*"), std::string::npos);
        }
      }
    }
}

TEST_F(Extracting, WhatCannotBeWrittenIsSaidAndNotWritten) {
  add("good.bin", EntryKind::file, 1, 100);
  add("cut.bin", EntryKind::file, 1, 100).sound = false;
  add("leads.bin", EntryKind::file, 1, 100).refused = "its name leads out of the folder";
  add("link", EntryKind::link).link = "/etc/passwd";
  add("music", EntryKind::audio);
  const ExtractPlan p = plan();
  ASSERT_EQ(p.items.size(), 1u);
  EXPECT_EQ(p.items[0].entry->path, "good.bin");
  ASSERT_EQ(p.skipped.size(), 4u);
  for (const SkippedEntry& s : p.skipped) EXPECT_FALSE(s.why.empty()) << s.path;
  run(p);
  EXPECT_EQ(listing(folder.path()).size(), 1u);
}

TEST_F(Extracting, PathsChooseAndAPathThatFitsNothingIsAMistake) {
  add("DATA", EntryKind::folder);
  add("DATA/A.BIN", EntryKind::file, 0, 1);
  add("DATA/B.TXT", EntryKind::file, 0, 1);
  add("C.BIN", EntryKind::file, 0, 1);
  const auto names = [&](std::vector<std::string> paths) {
    std::set<std::string> chosen;
    for (const ExtractItem& item : plan(std::move(paths)).items)
      if (!item.is_folder()) chosen.insert(item.entry->path);
    return chosen;
  };
  using Names = std::set<std::string>;
  EXPECT_EQ(names({}), (Names{"DATA/A.BIN", "DATA/B.TXT", "C.BIN"}));
  EXPECT_EQ(names({"*.bin"}), (Names{"C.BIN"})) << "without case, one level only";
  EXPECT_EQ(names({"**/*.BIN"}), (Names{"DATA/A.BIN", "C.BIN"}));
  EXPECT_EQ(names({"data"}), (Names{"DATA/A.BIN", "DATA/B.TXT"}));
  EXPECT_EQ(names({"c.bin", "data/b.txt"}), (Names{"DATA/B.TXT", "C.BIN"}));
  EXPECT_THROW(plan({"C.BIN", "nobody"}), Error) << "one of two that fits nothing is one too many";
}

TEST_F(Extracting, AForeignFileInTheWayIsKept) {
  add("A.BIN", EntryKind::file, 3, 500);
  write_file(folder / "A.BIN", std::string(500, 'x'));
  try {
    run(plan(), {.verify = true});
    FAIL() << "it has the same size, and is another file";
  } catch (const Error& e) {
    EXPECT_EQ(e.details.code, "exists");
  }
  EXPECT_EQ(read_file(folder / "A.BIN"), std::string(500, 'x'));
  run(plan(), {.existing = Existing::replace, .verify = true});
  EXPECT_EQ(read_file(folder / "A.BIN"), bytes_at(3, 500));
}

TEST(FirstDifference, IsFoundWhereverItIs) {
  Random random(61);
  const Progress progress;
  const Bytes bytes = random.bytes(5'000'000);
  const SourcePtr a = memory_source(bytes, "a");
  EXPECT_EQ(first_difference(*a, *memory_source(bytes, "b"), progress), std::nullopt);
  for (int i = 0; i < 40; ++i) {
    Bytes other = bytes;
    const std::size_t at = i == 0 ? 0 : i == 1 ? bytes.size() - 1 : random.below(bytes.size());
    other[at] ^= std::byte{1};
    if (const std::size_t later = at + random.below(bytes.size() - at); later != at) other[later] ^= std::byte{2};
    ASSERT_EQ(first_difference(*a, *memory_source(other, "b"), progress), at);
  }
}

}  // namespace
}  // namespace opifex
