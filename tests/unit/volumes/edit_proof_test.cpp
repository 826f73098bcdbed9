// Whether a changed volume is what it should be: the proof sees every kind of wrong image. And the list of what files
// have beside their bytes: what it says comes back, whatever it says.
#include <gtest/gtest.h>

#include "opifex/core/volumes/amiga/disk.hpp"
#include "opifex/core/volumes/file_system.hpp"
#include "opifex/core/volumes/kept_facts.hpp"
#include "opifex/core/volumes/nvram/nvram.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using Kind = VolumeEdit::Kind;

const FileSystem& floppies() {
  for (const FileSystem* f : file_systems())
    if (f->host == VolumeHost::floppy) return *f;
  throw std::runtime_error("none");
}

Volume volume_in(const Bytes& image) { return *floppies().read({memory_source(image, "disk"), 0, nullptr}); }

VolumeEdit putting(const std::string& path, const std::string& contents) {
  VolumeEdit edit{.kind = Kind::put, .path = path};
  edit.contents = memory_source(to_bytes(contents), path);
  return edit;
}

struct Changed {
  Bytes before, after;
  std::vector<VolumeEdit> edits;
  std::vector<EditStep> steps;
};

Bytes changed(const Bytes& image, const std::vector<VolumeEdit>& edits, std::vector<EditStep>* steps = nullptr) {
  const EditPlan plan = floppies().edit({memory_source(image, "disk"), 0, nullptr}, edits, 0);
  Bytes after = image;
  apply_ranges(after, plan.ranges);
  if (steps) *steps = plan.steps;
  return after;
}

/// A floppy with some files, and a change of it.
Changed some_change(unsigned flags) {
  Changed c;
  c.before = changed(amiga::make_disk({.kind = {flags}}), {{.kind = Kind::make_folder, .path = "A"},
                                                           putting("A/one", "first"),
                                                           putting("A/two", "second"),
                                                           putting("three", std::string(3000, '3')),
                                                           putting("four", "fourth")});
  VolumeEdit replaced = putting("three", "new");
  replaced.replace = true;
  c.edits = {{.kind = Kind::drop, .path = "four"},
             {.kind = Kind::make_folder, .path = "B"},
             {.kind = Kind::move, .path = "A/one", .text = "B/ONE"},
             putting("B/five", "fifth"),
             replaced,
             {.kind = Kind::comment, .path = "A/two", .text = "a comment"}};
  c.after = changed(c.before, c.edits, &c.steps);
  return c;
}

void expect_seen(const Changed& c, const Bytes& wrong, const char* what) {
  EXPECT_THROW(require_edited(volume_in(c.before), volume_in(wrong), c.edits, c.steps), Error) << what;
}

void flip(Bytes& image, std::size_t at, Random& random) { image[at] ^= static_cast<std::byte>(1U << random.below(8)); }

class EditProofs : public testing::TestWithParam<unsigned> {};

TEST_P(EditProofs, ARightImageIsProvedAndNoOtherOneIs) {
  const Changed c = some_change(GetParam());
  ASSERT_NO_THROW(require_edited(volume_in(c.before), volume_in(c.after), c.edits, c.steps));
  expect_seen(c, c.before, "nothing was done");
  expect_seen(c, changed(c.after, {{.kind = Kind::drop, .path = "A/two"}}), "an untouched file is gone");
  expect_seen(c, changed(c.after, {putting("more", "more")}), "there is one more");
  expect_seen(c, changed(c.after, {{.kind = Kind::make_folder, .path = "C"}}), "there is one more folder");
  expect_seen(c, changed(c.after, {{.kind = Kind::move, .path = "A/two", .text = "two"}}), "one lies elsewhere");
  expect_seen(c, changed(c.after, {{.kind = Kind::drop, .path = "B/five"}}), "what was put is not there");
  for (const char* path : {"A/two", "B/ONE", "B/five", "three"}) {
    VolumeEdit other = putting(path, "other");
    other.replace = true;
    expect_seen(c, changed(c.after, {other}), path);
  }
  VolumeEdit all{.kind = Kind::drop, .path = "B"};
  all.with_all = true;
  expect_seen(c, changed(c.after, {all, putting("B", "a file where a folder was")}), "a folder became a file");
  // Each step left out, one after the other.
  for (std::size_t i = 0; i + 1 < c.edits.size(); ++i) {
    std::vector<VolumeEdit> some = c.edits;
    some.erase(some.begin() + static_cast<std::ptrdiff_t>(i));
    try {
      expect_seen(c, changed(c.before, some), "a change was left out");
    } catch (const Error&) {  // one that others need
    }
  }
}

TEST_P(EditProofs, DamageIsNoRightImage) {
  const Changed c = some_change(GetParam());
  const amiga::Disk disk = amiga::read_disk(c.after);
  Random random(5);
  for (int i = 0; i < 40; ++i) {
    const amiga::Entry& e = disk.entries[random.below(disk.entries.size())];
    Bytes wrong = c.after;
    flip(wrong, std::size_t{e.block} * amiga::kBlockBytes + random.below(amiga::kBlockBytes), random);
    expect_seen(c, wrong, "a bit of a header is wrong");
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, EditProofs, testing::Values(0U, 1U, 3U, 5U));

TEST(EditRanges, NothingBetweenTheRangesIsTouched) {
  const Changed c = some_change(1);
  const EditPlan plan = floppies().edit({memory_source(c.before, "disk"), 0, nullptr}, c.edits, 0);
  std::uint64_t end = 0, bytes = 0;
  for (const ChangedRange& r : plan.ranges) {
    EXPECT_GE(r.offset, end);
    end = r.offset + r.bytes.size();
    bytes += r.bytes.size();
  }
  EXPECT_LE(end, c.before.size());
  std::uint64_t differing = 0;
  for (std::size_t i = 0; i < c.before.size(); ++i) differing += c.before[i] != c.after[i] ? 1U : 0U;
  EXPECT_LE(differing, bytes);
  EXPECT_LE(bytes, differing + plan.ranges.size() * 8 * 64) << "whole blocks are not written for a byte";
}

// ---- the list beside files

KeptFiles some_facts() {
  KeptFiles files;
  files["plain"].facts.comment = "a comment";
  files["Games/%43ON"] = {.name = "CON",
                          .facts = {.modified = 669'049'766, .hundredths = 50, .protection = 0x80000005}};
  files["saves/ä \"quoted\" 'name'\n"].facts = {.comment = "日本 \\ \" '", .id = 0xFFFFFFFF, .type = 7};
  return files;
}

TEST(KeptFactsList, WhatIsWrittenIsRead) {
  const TempFolder folder;
  write_file(folder / std::string(kKeptFactsName), kept_facts_text(some_facts()));
  const KeptFiles back = read_kept_facts(folder.path());
  ASSERT_EQ(back.size(), some_facts().size());
  for (const auto& [path, file] : some_facts()) {
    ASSERT_TRUE(back.contains(path)) << path;
    const KeptFile& there = back.at(path);
    EXPECT_EQ(there.name, file.name);
    EXPECT_EQ(there.facts.comment, file.facts.comment);
    EXPECT_EQ(there.facts.modified, file.facts.modified);
    EXPECT_EQ(there.facts.hundredths, file.facts.hundredths);
    EXPECT_EQ(there.facts.protection, file.facts.protection);
    EXPECT_EQ(there.facts.id, file.facts.id);
    EXPECT_EQ(there.facts.type, file.facts.type);
  }
  EXPECT_TRUE(read_kept_facts(folder / "nowhere").empty());
}

TEST(KeptFactsList, WhatCannotBeUnderstoodIsRefusedWithItsLine) {
  for (const char* wrong :
       {"[[file]\n", "file = 3\n", "x = 1\n", "[[file]]\nname = \"x\"\n", "[[file]]\npath = \"x\"\nprotection = -1\n",
        "[[file]]\npath = \"x\"\nprotection = \"rwed\"\n", "[[file]]\npath = \"x\"\nid = 4294967296\n",
        "[[file]]\npath = \"x\"\nmodified = \"1991-02-30 00:00:00.00\"\n",
        "[[file]]\npath = \"x\"\nmodified = \"yesterday\"\n", "[[file]]\npath = \"x\"\nmodified = 1991-03-14\n"}) {
    const TempFolder folder;
    write_file(folder / std::string(kKeptFactsName), wrong);
    try {
      read_kept_facts(folder.path());
      ADD_FAILURE() << wrong;
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, "bad_list") << wrong;
    }
  }
}

TEST(FolderEdits, AFolderGoesInWithItsListAndWithoutItself) {
  const TempFolder folder;
  write_file(folder / "in/a", "A");
  write_file(folder / "in/sub/b%2E", "B");
  KeptFiles kept;
  kept["sub/b%2E"] = {.name = "b.", .facts = {.comment = "kept"}};
  write_file(folder / ("in/" + std::string(kKeptFactsName)), kept_facts_text(kept));
  std::vector<std::string> notices;
  const auto edits = edits_for({.from = folder / "in", .at = "X"}, {}, notices);
  std::vector<std::string> told;
  for (const VolumeEdit& e : edits) told.push_back(fmt::format("{} {} {}", to_string(e.kind), e.path, e.kept.comment));
  EXPECT_EQ(told,
            (std::vector<std::string>{"folder X/in ", "put X/in/a ", "folder X/in/sub ", "put X/in/sub/b. kept"}));
  const auto inside = edits_for({.from = folder / "in", .contents_only = true}, {}, notices);
  EXPECT_EQ(inside.front().path, "a");
  const auto one = edits_for({.from = folder / "in/sub/b%2E", .name = "named"}, {}, notices);
  ASSERT_EQ(one.size(), 1u);
  EXPECT_EQ(one[0].path, "named");
  EXPECT_TRUE(one[0].named);
}

TEST(FolderEdits, FoldersThatAreThereAreNotMadeAgain) {
  const TempFolder folder;
  write_file(folder / "A/six", "sixth");
  const Changed c = some_change(1);
  const Volume volume = volume_in(c.after);
  std::vector<std::string> notices;
  const auto edits = edits_for({.from = folder / "A"}, {&volume}, notices);
  ASSERT_EQ(edits.size(), 1u);
  EXPECT_EQ(edits[0].path, "A/six");
}

}  // namespace
}  // namespace opifex
