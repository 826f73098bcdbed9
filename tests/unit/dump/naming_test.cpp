// What a dump is called when only a folder is named: titles out of discs, in characters that every drive can store.
#include "opifex/core/dump/naming.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

using testkit::Random;

DumpName name(const std::string& title, const std::string& serial = "") {
  Medium medium;
  medium.identity.title = title;
  medium.identity.serial = serial;
  medium.fingerprint = "0123456789abcdef";
  return name_of(medium);
}

TEST(DumpNames, DiscsOfOneSetShareAFolder) {
  for (const char* title : {"KESTREL_CIRCUIT_DISC2", "KESTREL_CIRCUIT_2", "KESTREL_CIRCUIT-2", "KESTREL_CIRCUIT DISC 2",
                            "KESTREL_CIRCUIT_CD2"}) {
    EXPECT_EQ(name(title).stem, "KESTREL_CIRCUIT (Disc 2)") << title;
    EXPECT_EQ(name(title).set, "KESTREL_CIRCUIT") << title;
  }
  for (const char* title : {"MOTH", "LANTERN2", "X2", "AREA51", "DISC1"}) {
    EXPECT_EQ(name(title).set, "") << title << " stands alone";
    EXPECT_EQ(name(title).stem, title);
  }
}

TEST(DumpNames, WithoutATitleTheSerialAndThenTheDiscItself) {
  EXPECT_EQ(name("", "PR-50505").stem, "PR-50505");
  EXPECT_EQ(name("\x01\x02", "PR-50505").stem, "PR-50505") << "a title of nothing that can be written is none";
  EXPECT_EQ(name("").stem, "Disc 01234567");
}

TEST(DumpNames, CharactersThatNoDriveHasAreReplaced) {
  EXPECT_EQ(name("MOTH: LANTERN?").stem, "MOTH_ LANTERN_");
  EXPECT_EQ(name("a/b\\c").stem, "a_b_c");
  EXPECT_EQ(name("  MOTH . ").stem, "MOTH");
  EXPECT_EQ(name(".hidden").stem, "_.hidden");
  EXPECT_EQ(name("..").stem, "Disc 01234567");
}

TEST(DumpNames, AnyBytesGiveANameThatCanBeWritten) {
  Random random(131);
  constexpr std::string_view kBytes = "aZ 1_-./\\:*?\"<>|\x01\x1F\x7F\xC3\xA9\xE7\x81\xAF\xFF";
  for (int i = 0; i < 20'000; ++i) {
    std::string title;
    for (std::uint64_t n = random.below(160); n > 0; --n) title += kBytes[random.below(kBytes.size())];
    const DumpName made = name(title);
    ASSERT_FALSE(made.stem.empty());
    ASSERT_TRUE(is_safe_name(made.stem)) << printable(title);
    ASSERT_TRUE(made.set.empty() || is_safe_name(made.set)) << printable(title);
    ASSERT_EQ(name_fault(made.stem + ".cue"), "") << printable(title);
    ASSERT_FALSE(made.stem.starts_with('.'));
  }
}

}  // namespace
}  // namespace opifex::dump
