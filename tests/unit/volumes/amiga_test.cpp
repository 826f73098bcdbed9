// AmigaDOS: known answers of its sums, hashes, dates and bits; links; what mending brings back and what it leaves
// alone.
#include <gtest/gtest.h>

#include "opifex/core/volumes/amiga/disk.hpp"
#include "opifex/core/volumes/amiga/editor.hpp"
#include "opifex/core/volumes/amiga/repair.hpp"

#include "testkit.hpp"

namespace opifex::amiga {
namespace {

using namespace testkit;
using EditKind = VolumeEdit::Kind;

constexpr std::size_t kSumAt = 20, kTableAt = 24, kParentAt = 500;

std::span<std::byte> block_in(Bytes& image, std::uint32_t block) {
  return std::span(image).subspan(std::size_t{block} * kBlockBytes, kBlockBytes);
}
void seal_block(Bytes& image, std::uint32_t block) {
  store_be32(block_in(image, block), kSumAt, block_sum(block_in(image, block), kSumAt));
}
VolumeEdit put_edit(const std::string& path, const std::string& contents) {
  VolumeEdit edit{.kind = EditKind::put, .path = path};
  edit.contents = memory_source(to_bytes(contents), path);
  return edit;
}
Bytes floppy_with(std::span<const VolumeEdit> edits, unsigned flags = 1) {
  Editor editor(make_disk({.kind = {flags}}), 700'000'000);
  editor.apply(edits);
  return editor.image();
}
std::vector<std::string> paths_of(ByteView image) {
  const Disk disk = read_disk(image);
  std::vector<std::string> paths;
  for (std::size_t i = 1; i < disk.entries.size(); ++i) paths.push_back(disk.path_of(i));
  std::sort(paths.begin(), paths.end());
  return paths;
}
const Entry& entry_at(const Disk& disk, const std::string& path) {
  for (std::size_t i = 1; i < disk.entries.size(); ++i)
    if (disk.path_of(i) == path) return disk.entries[i];
  throw std::runtime_error("no " + path);
}
std::string refusal(Editor& editor, const VolumeEdit& edit) {
  try {
    editor.apply(std::span(&edit, 1));
    return "";
  } catch (const Error& e) {
    return e.details.code;
  }
}

TEST(Amiga, SumsOfBootBlocksAndBlankDisksAreKnown) {
  Bytes boot(1024);
  Fields f(boot);
  f.bytes(0, as_view("DOS"));
  f.be(8, 880, 4);
  EXPECT_EQ(boot_sum(boot), 0xBBB0A98Fu);
  f.byte(3, 1);
  EXPECT_EQ(boot_sum(boot), 0xBBB0A98Eu);
  const Bytes dd = make_disk({.kind = {1}}), hd = make_disk({.kind = {1}, .high_density = true});
  EXPECT_EQ(load_be32(dd, 881 * 512), 0xC000C037u);
  EXPECT_EQ(load_be32(dd, 881 * 512 + 0x70), 0xFFFF3FFFu);
  EXPECT_EQ(load_be32(dd, 881 * 512 + 0xDC), 0x3FFFFFFFu);
  EXPECT_EQ(load_be32(hd, 1761 * 512), 0x8000006Eu);
  EXPECT_EQ(read_disk(dd).free_blocks, 1756u);
  EXPECT_EQ(read_disk(hd).free_blocks, 3516u);
  EXPECT_EQ(load_be32(dd, 4), 0u) << "a right checksum would make the machine run an empty boot block";
}

TEST(Amiga, NamesHangWhereTheyShould) {
  struct Case {
    const char* name;
    unsigned plain, international;
  };
  const Case cases[] = {{"Games", 30, 30},
                        {"games", 30, 30},
                        {"readme.txt", 62, 62},
                        {"M\xF6rser", 21, 53},
                        {"M\xD6RSER", 53, 53},
                        {"\xE9"
                         "clair",
                         10, 18},
                        {"\xFF", 52, 52},
                        {"\xF7", 44, 44}};
  for (const Case& c : cases) {
    EXPECT_EQ(slot_of(c.name, {0}), c.plain) << c.name;
    EXPECT_EQ(slot_of(c.name, {2}), c.international) << c.name;
  }
  EXPECT_EQ(slot_of(std::string(30, 'x'), {0}), 62u);
  EXPECT_NE(folded("M\xF6rser", {1}), folded("M\xD6RSER", {1}));
  EXPECT_EQ(folded("M\xF6rser", {3}), folded("M\xD6RSER", {3}));
}

TEST(Amiga, DatesAndBitsAreReadAsTheyAreWritten) {
  const Date date{4820, 909, 1325};
  EXPECT_EQ(Date::of(*date.seconds(), 50), date);
  for (const Date& odd : {Date{4820, 1440, 0}, Date{4820, 0, 3000}, Date{0xFFFFFFFF, 0, 0}})
    EXPECT_FALSE(odd.seconds());
  EXPECT_EQ(protection_text(0), "----rwed");
  EXPECT_EQ(protection_text(0x0F), "--------");
  EXPECT_EQ(protection_text(0x05), "----r-e-");
  EXPECT_EQ(protection_text(0xF0), "hsparwed");
  for (std::uint32_t bits = 0; bits < 256; ++bits) EXPECT_EQ(parse_protection(protection_text(bits), 0), bits);
  EXPECT_EQ(parse_protection("----rwed", 0x80001200), 0x80001200u) << "what has no letter stays";
  EXPECT_EQ(parse_protection("0x1F", 0), 0x1Fu);
  for (const char* wrong : {"", "rwed", "----rwex", "0x", "0xG", "---- rwe"}) EXPECT_FALSE(parse_protection(wrong));
}

TEST(Amiga, AnyLengthOfAFileIsToldForWhatItIs) {
  const Bytes disk = make_disk({.kind = {1}});
  for (const std::size_t size : {0u, 3u, 4u, 512u, 1024u, 901'119u, 901'121u, 912'000u}) {
    Bytes image = disk;
    image.resize(size);
    EXPECT_EQ(examine_image(image).kind, ImageKind::other_size) << size;
  }
  Bytes long_names = disk;
  long_names[3] = std::byte{6};
  EXPECT_EQ(examine_image(long_names).kind, ImageKind::long_names);
}

TEST(Amiga, LinksAreTakenOffBeforeWhatTheyLeadTo) {
  const Bytes image = to_bytes(gunzip(vector_path("floppycart/links-ffs.adf.gz")));
  Editor editor(image, 0);
  EXPECT_EQ(refusal(editor, {.kind = EditKind::drop, .path = "real/file"}), "has_links");
  VolumeEdit all{.kind = EditKind::drop, .path = "real"};
  all.with_all = true;
  Editor again(image, 0);
  EXPECT_EQ(refusal(again, all), "has_links") << "names outside of the folder link into it";
  // One after the other, from the middle of the list of links and from its ends.
  for (const auto& order : {std::vector<const char*>{"hard", "hard2"}, std::vector<const char*>{"hard2", "hard"}}) {
    Editor one(image, 0);
    std::vector<VolumeEdit> edits;
    for (const char* link : order) edits.push_back({.kind = EditKind::drop, .path = link});
    edits.push_back({.kind = EditKind::drop, .path = "harddir"});
    edits.push_back(all);
    one.apply(edits);
    EXPECT_EQ(paths_of(one.image()), (std::vector<std::string>{"soft", "softabs", "softup"}));
    EXPECT_TRUE(read_disk(one.image()).findings.empty());
  }
}

TEST(Amiga, WhatHasNoFolderAnyMoreComesBackIntoOneOfItsOwn) {
  const std::vector<VolumeEdit> edits = {{.kind = EditKind::make_folder, .path = "A"},
                                         put_edit("A/one", "first"),
                                         put_edit("A/two", std::string(60'000, 't')),
                                         put_edit("three", "third")};
  Bytes image = floppy_with(edits);
  const Disk before = read_disk(image);
  const std::uint32_t folder = entry_at(before, "A").block;
  // The folder's header was written over, and the root says nothing of it.
  std::fill_n(block_in(image, folder).begin(), kBlockBytes, std::byte{0x55});
  store_be32(block_in(image, before.root), kTableAt + 4 * slot_of("A", {1}), 0);
  seal_block(image, before.root);
  EXPECT_EQ(paths_of(image), (std::vector<std::string>{"three"}));
  const Repaired repaired = repair_disk(image, 0);
  EXPECT_FALSE(repaired.done.empty());
  EXPECT_EQ(paths_of(repaired.image),
            (std::vector<std::string>{"Lost files", "Lost files/one", "Lost files/two", "three"}));
  EXPECT_FALSE(read_disk(repaired.image).damaged());
}

TEST(Amiga, WhatWasDeletedIsNotBroughtBack) {
  const std::vector<VolumeEdit> edits = {
      put_edit("one", "first"), put_edit("two", "second"), {.kind = EditKind::drop, .path = "one"}};
  Bytes image = floppy_with(edits);
  const Disk disk = read_disk(image);
  store_be32(block_in(image, entry_at(disk, "two").block), kParentAt, 5);
  seal_block(image, entry_at(disk, "two").block);
  const Repaired repaired = repair_disk(image, 0);
  EXPECT_EQ(paths_of(repaired.image), (std::vector<std::string>{"two"}));
  EXPECT_FALSE(read_disk(repaired.image).damaged());
}

TEST(Amiga, NoWrongChecksumIsMadeRight) {
  // Of headers and of data: what was changed nobody knows, and the copy has to say so.
  for (const char* name :
       {"damaged-header-checksum", "damaged-data-checksum", "damaged-data-seq", "damaged-file-size"}) {
    const Bytes image = to_bytes(gunzip(vector_path(std::string("floppycart/") + name + ".adf.gz")));
    const Repaired repaired = repair_disk(image, 0);
    if (repaired.done.empty()) continue;
    EXPECT_TRUE(read_disk(repaired.image).damaged()) << name;
  }
  // And where a neighbouring field is mended, the sum stays as wrong as it was.
  Bytes image = floppy_with(std::vector<VolumeEdit>{put_edit("one", "first")});
  const std::uint32_t header = entry_at(read_disk(image), "one").block;
  store_be32(block_in(image, header), kParentAt, 7);
  const Repaired repaired = repair_disk(image, 0);
  const Disk after = read_disk(repaired.image);
  ASSERT_EQ(after.findings.size(), 1u);
  EXPECT_STREQ(after.findings[0].code, "header_checksum");
}

TEST(Amiga, WithoutABitmapNoDirectoryIsMadeToLookSound) {
  // Two names of one slot, so that one hangs behind the other.
  const std::vector<VolumeEdit> edits = {put_edit("shelf106", "first"), put_edit("shelf160", "second"),
                                         put_edit("shelf241", "third")};
  Bytes image = floppy_with(edits);
  const Disk disk = read_disk(image);
  ASSERT_EQ(slot_of("shelf106", {1}), slot_of("shelf160", {1}));
  store_be32(block_in(image, entry_at(disk, "shelf106").block), 496, 0x7FFF);
  seal_block(image, entry_at(disk, "shelf106").block);
  EXPECT_EQ(paths_of(repair_disk(image, 0).image).size(), 3u) << "with the bitmap all of them come back";
  store_be32(block_in(image, disk.root), 312, 0);
  seal_block(image, disk.root);
  EXPECT_TRUE(repair_disk(image, 0).done.empty()) << "what was behind the break nobody knows";
}

TEST(Amiga, WhatOnlyTheBitmapKnowsStaysInUseWhereAChainBroke) {
  const std::vector<VolumeEdit> edits = {put_edit("one", "first"), put_edit("two", std::string(60'000, 't'))};
  Bytes image = floppy_with(edits);
  const Disk disk = read_disk(image);
  const Entry& two = entry_at(disk, "two");
  std::fill_n(block_in(image, two.block).begin(), kBlockBytes, std::byte{0x33});  // its header was written over
  const Repaired repaired = repair_disk(image, 0);
  ASSERT_FALSE(repaired.done.empty());
  const Disk after = read_disk(repaired.image);
  EXPECT_FALSE(after.damaged());
  EXPECT_EQ(paths_of(repaired.image), (std::vector<std::string>{"one"}));
  EXPECT_EQ(after.free_blocks, disk.free_blocks) << "nothing may be written over what is left of it";
  EXPECT_NE(repaired.done.back().find("rest of a lost file"), std::string::npos);
  ASSERT_EQ(after.findings.size(), 1u);
  EXPECT_STREQ(after.findings[0].code, "bitmap_free_marked_used");
}

TEST(Amiga, FoldersTooDeepAreToldAndKeepWhatIsInThem) {
  std::vector<VolumeEdit> edits;
  std::string one, other;
  for (int i = 0; i < 110; ++i) {
    one += one.empty() ? "a" : "/d";
    other += other.empty() ? "b" : "/d";
    edits.push_back({.kind = EditKind::make_folder, .path = one});
    edits.push_back({.kind = EditKind::make_folder, .path = other});
  }
  edits.push_back(put_edit(one + "/deep", "contents"));
  edits.push_back({.kind = EditKind::move, .path = "a", .text = other + "/a"});
  Bytes image = floppy_with(edits, 5);
  const Disk disk = read_disk(image);
  EXPECT_TRUE(disk.damaged());
  const std::uint32_t deepest = disk.entries.back().block;
  const Bytes before(block_in(image, deepest).begin(), block_in(image, deepest).end());
  Repaired repaired = repair_disk(image, 0);
  if (repaired.done.empty()) return;
  EXPECT_TRUE(read_disk(repaired.image).damaged());
  EXPECT_EQ(Bytes(block_in(repaired.image, deepest).begin(), block_in(repaired.image, deepest).end()), before);
}

TEST(Amiga, RandomDamageOfDirectoriesIsMendedOrToldAndNoFileIsLost) {
  Random random(91);
  std::vector<VolumeEdit> edits;
  for (int i = 0; i < 8; ++i) edits.push_back({.kind = EditKind::make_folder, .path = fmt::format("Drawer {}", i)});
  for (int i = 0; i < 60; ++i)
    edits.push_back(put_edit(fmt::format("Drawer {}/file {}", i % 8, i), std::string(as_text(random.bytes(300)))));
  int whole = 0;
  for (unsigned flags = 0; flags < 6; ++flags) {
    const Bytes sound = floppy_with(edits, flags);
    const Disk disk = read_disk(sound);
    for (int round = 0; round < 60; ++round) {
      Bytes image = sound;
      // A pointer of a directory or of a chain, wrong under a right checksum.
      const std::uint32_t block = disk.entries[random.below(disk.entries.size())].block;
      const bool chain = random.below(2) == 0;
      const std::size_t at = chain ? 496 : kTableAt + 4 * random.below(72);
      if (!chain && load_be32(block_in(image, block), 508) != 2 && block != disk.root) continue;
      store_be32(block_in(image, block), at, static_cast<std::uint32_t>(random.below(1760)));
      seal_block(image, block);
      // Caches, too: what leads to them, and what they say.
      if (flags >= 4 && random.below(3) == 0) {
        const std::uint32_t folder = disk.entries[random.below(9)].block;
        store_be32(block_in(image, folder), 504, static_cast<std::uint32_t>(random.below(1900)));
        seal_block(image, folder);
      }
      const Disk broken = read_disk(image);
      const Repaired repaired = repair_disk(image, 0);
      if (broken.findings.empty()) continue;
      const Bytes& mended = repaired.done.empty() ? image : repaired.image;
      const Disk after = read_disk(mended);
      EXPECT_GE(after.entries.size(), broken.entries.size()) << "flags " << flags << " round " << round;
      if (after.damaged()) continue;
      EXPECT_EQ(paths_of(mended).size(), paths_of(sound).size()) << "flags " << flags << " round " << round;
      ++whole;
    }
  }
  EXPECT_GT(whole, 120);
}

}  // namespace
}  // namespace opifex::amiga
