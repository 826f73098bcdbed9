#include "opifex/core/io/target.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

std::string code_of(const std::vector<PlannedFile>& files, const TargetFacts& facts) {
  try {
    check_fits(files, facts);
    return "";
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::needs_word);
    return e.details.code;
  }
}

TEST(Target, TellsBeforeWritingWhatDoesNotFit) {
  const TargetFacts fat32 = with_file_system({"", 8ull << 30}, "fat32");
  EXPECT_EQ(code_of({{"a.iso", 4294967295}}, fat32), "");
  EXPECT_EQ(code_of({{"a.iso", 4294967296}}, fat32), "file_too_large");
  EXPECT_EQ(code_of({{"a.iso", 4294967296}}, with_file_system(fat32, "exfat")), "");
  EXPECT_EQ(code_of({{"a.bin", 4ull << 30}, {"b.bin", 5ull << 30}}, with_file_system(fat32, "ext4")), "no_space");
  EXPECT_EQ(code_of({{std::string(300, 'n'), 1}}, fat32), "name_too_long");
  EXPECT_EQ(code_of({{"a", UINT64_MAX}, {"b", UINT64_MAX}}, with_file_system({}, "ext4")), "")
      << "nothing known: nothing refused";
}

TEST(Target, ReadOnlyDrivesAreRefused) {
  TargetFacts facts;
  facts.read_only = true;
  EXPECT_EQ(code_of({{"a", 1}}, facts), "read_only");
}

TEST(Target, FactsOfAFolderThatIsStillToBeMade) {
  const testkit::TempFolder folder;
  const TargetFacts facts = target_facts(folder / "not/yet/there");
  EXPECT_GT(facts.free_bytes, 0u);
  EXPECT_LT(facts.free_bytes, UINT64_MAX);
}

TEST(Target, UnknownFileSystemsAreAUsageError) { EXPECT_THROW(with_file_system({}, "zfs9"), Error); }

}  // namespace
}  // namespace opifex
