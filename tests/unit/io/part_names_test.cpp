// Which names of a folder are parts of one file: made-up folders of known sets, in any order, with gaps and strangers.
#include "opifex/core/io/part_names.hpp"

#include <algorithm>
#include <map>

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using testkit::Random;
using Names = std::vector<std::string>;

/// How programs number parts, and from where they count.
struct Custom {
  const char* what;
  std::string (*name)(const std::string& stem, std::size_t n);
  std::size_t least, most;  ///< parts there have to be, and names there are
  bool first_matters;       ///< without the first one it is seen that it is missing
};
const Custom kCustoms[] = {
    {"rar", [](const std::string& s, std::size_t n) { return fmt::format("{}.part{}.rar", s, n + 1); }, 1, 9, true},
    {"rar wide", [](const std::string& s, std::size_t n) { return fmt::format("{}.part{:02}.rar", s, n + 1); }, 1, 99,
     true},
    {"numbered", [](const std::string& s, std::size_t n) { return fmt::format("{}.bin.{:03}", s, n + 1); }, 2, 99,
     true},
    {"image", [](const std::string& s, std::size_t n) { return fmt::format("{}.iso.{}", s, n); }, 2, 10, false},
    {"part", [](const std::string& s, std::size_t n) { return fmt::format("{}.part{}.iso", s, n); }, 2, 20, false},
    {"game", [](const std::string& s, std::size_t n) { return fmt::format("{}.{}.iso", s, n + 1); }, 2, 9, true},
    {"wbfs", [](const std::string& s, std::size_t n) { return n == 0 ? s + ".wbfs" : fmt::format("{}.wbf{}", s, n); },
     2, 10, true},
    {"fat32", [](const std::string& s, std::size_t n) { return fmt::format("{}.{}", s, 66600 + n); }, 2, 50, true},
};

const PartSet* set_of(const std::vector<PartSet>& sets, const std::string& name) {
  for (const PartSet& s : sets)
    if (std::find(s.parts.begin(), s.parts.end(), name) != s.parts.end()) return &s;
  return nullptr;
}

void shuffle(Names& names, Random& random) {
  for (std::size_t i = names.size(); i > 1; --i) std::swap(names[i - 1], names[random.below(i)]);
}

TEST(PartSets, AreFoundInAFolderOfManyThings) {
  Random random(111);
  for (int round = 0; round < 200; ++round) {
    std::map<std::string, Names> sets;  // by stem
    Names all = {"readme.txt", "cover.png", "alone.iso", "alone.bin", "notes", "x.part", "v1.0"};
    for (std::uint64_t n = 1 + random.below(4); n > 0; --n) {
      const Custom& custom = kCustoms[random.below(std::size(kCustoms))];
      const std::string stem = fmt::format("Game {} {}", n, custom.what);
      const std::size_t count = std::max<std::size_t>(2, custom.least) + random.below(custom.most - 1);
      for (std::size_t i = 0; i < std::min(count, custom.most); ++i) sets[stem].push_back(custom.name(stem, i));
      all.insert(all.end(), sets[stem].begin(), sets[stem].end());
    }
    shuffle(all, random);
    const std::vector<PartSet> found = find_part_sets(all);
    for (const auto& [stem, names] : sets) {
      const PartSet* set = set_of(found, names.front());
      ASSERT_NE(set, nullptr) << stem;
      EXPECT_EQ(set->parts, names) << stem;
      EXPECT_TRUE(set->missing.empty()) << stem;
      EXPECT_EQ(set->open, names.front()) << stem;
    }
    for (const char* stranger : {"readme.txt", "cover.png", "alone.iso", "alone.bin", "notes"})
      EXPECT_EQ(set_of(found, stranger), nullptr) << stranger;
  }
}

TEST(PartSets, AGapIsNamed) {
  Random random(113);
  for (const Custom& custom : kCustoms)
    for (int round = 0; round < 20; ++round) {
      const std::size_t count = std::min<std::size_t>(custom.most, 4 + random.below(5));
      Names names;
      for (std::size_t i = 0; i < count; ++i) names.push_back(custom.name("Game", i));
      const std::size_t gap = (custom.first_matters ? 0 : 1) + random.below(count - (custom.first_matters ? 1 : 2));
      const std::string missing = names[gap];
      names.erase(names.begin() + static_cast<std::ptrdiff_t>(gap));
      const std::vector<PartSet> sets = find_part_sets(names);
      const PartSet* set = set_of(sets, names.back());
      ASSERT_NE(set, nullptr) << custom.what << " without " << missing;
      EXPECT_EQ(set->missing, Names{missing}) << custom.what;
      EXPECT_EQ(set->open.empty(), gap == 0) << custom.what << ": without its first part it is not opened";
    }
}

TEST(PartSets, TheLastOneThatIsMissingCannotBeSeen) {
  const Names names = {"a.bin.001", "a.bin.002"};
  EXPECT_TRUE(find_part_sets(names).at(0).missing.empty()) << "sizes tell, names do not";
}

TEST(PartSets, ASecondFileOfOneNumberIsADouble) {
  const std::vector<PartSet> sets = find_part_sets({"a.part1.rar", "a.part01.rar", "a.part2.rar"});
  ASSERT_EQ(sets.size(), 1u);
  EXPECT_EQ(sets[0].parts, (Names{"a.part1.rar", "a.part2.rar"}));
  EXPECT_EQ(sets[0].duplicates, Names{"a.part01.rar"});
}

TEST(PartSets, WhatNeedsCompanyIsNoPartAlone) {
  for (const char* alone : {"a.rar", "a.zip", "a.wbfs", "a.1.iso", "a.7z.003", "a.iso.5"}) {
    const std::vector<PartSet> sets = find_part_sets({alone});
    EXPECT_TRUE(sets.empty()) << alone;
  }
  EXPECT_TRUE(find_part_sets({"a.7z.001"}).at(0).lonely) << "whole or not, its name does not say";
}

TEST(PartSets, OldArchivesInPartsHaveTheirHeadFirstOrLast) {
  const PartSet rar = find_part_sets({"a.r01", "a.r00", "a.rar"}).at(0);
  EXPECT_EQ(rar.parts, (Names{"a.rar", "a.r00", "a.r01"}));
  EXPECT_EQ(rar.open, "a.rar");
  EXPECT_FALSE(rar.plain_bytes());
  const PartSet zip = find_part_sets({"a.zip", "a.z02", "a.z01"}).at(0);
  EXPECT_EQ(zip.parts, (Names{"a.z01", "a.z02", "a.zip"}));
  EXPECT_EQ(zip.open, "a.zip");
  EXPECT_EQ(find_part_sets({"a.z01", "a.z02"}).at(0).missing, Names{"a.zip"});
}

TEST(PartSets, NoNameMakesTheSearchFail) {
  Random random(117);
  for (int i = 0; i < 3'000; ++i) {
    Names names;
    for (std::uint64_t n = random.below(6); n > 0; --n) {
      std::string name;
      for (std::uint64_t c = random.below(14); c > 0; --c) name += ".0129partisowbfzr"[random.below(17)];
      names.push_back(name);
    }
    std::size_t parts = 0;
    for (const PartSet& set : find_part_sets(names)) {
      parts += set.parts.size() + set.duplicates.size();
      ASSERT_FALSE(set.parts.empty());
      ASSERT_LE(set.missing.size(), 1'000'000u);
      ASSERT_FALSE(set.whole().empty() && !set.stem.empty());
      for (const std::string& p : set.parts) ASSERT_NE(std::find(names.begin(), names.end(), p), names.end());
    }
    ASSERT_LE(parts, 3 * names.size()) << "a name has a few readings at most";
  }
}

}  // namespace
}  // namespace opifex
