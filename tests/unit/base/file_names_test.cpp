#include "opifex/core/base/file_names.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/text.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

/// Bytes as an image may call its files by: letters, separators, dots, controls, halves of characters.
std::string random_name(Random& random) {
  constexpr std::string_view kBytes = "aZ9._- /\\:*?\"<>|+,;=\x01\x1F\x7F\xC3\xA9\xE7\x81\xAF\xFF\x80";
  std::string name;
  for (std::uint64_t n = random.below(24); n > 0; --n) name += kBytes[random.below(kBytes.size())];
  return name;
}

TEST(FileNames, WhatMeansSomethingInAPathIsNotSafe) {
  for (const char* bad : {"", ".", "..", "a/b", "a\\b", "/", "\x01", "a\x7F", "\xFF", "\xC3"})
    EXPECT_FALSE(is_safe_name(bad)) << bad;
  for (const char* good : {"a", "...", ".a", "a:b", "CON", "\xE7\x81\xAF", "a b"})
    EXPECT_TRUE(is_safe_name(good)) << good;
}

TEST(FileNames, WhatIsMadeSafeIsSafe) {
  Random random(11);
  for (int i = 0; i < 20'000; ++i) {
    const std::string name = random_name(random);
    for (const NameRules rules : {NameRules::host, NameRules::drive, NameRules::fatx}) {
      const std::string made = made_safe(name, rules);
      ASSERT_TRUE(is_safe_name(made)) << printable(name);
      ASSERT_EQ(made_safe(made, rules), made) << "made once, it stays";
      if (rules == NameRules::host) continue;
      ASSERT_EQ(made.find_first_of("<>:\"|?*"), std::string::npos) << printable(name);
      ASSERT_FALSE(made.ends_with('.') || made.ends_with(' ')) << printable(name);
    }
  }
}

TEST(FileNames, AGoodNameStaysAsItIs) {
  for (const char* name : {"TITLE.BIN", "front cover.png", "\xE7\x81\xAF.txt", ".hidden"}) {
    EXPECT_EQ(made_safe(name, NameRules::host), name);
    EXPECT_EQ(made_safe(name, NameRules::drive), name);
  }
  EXPECT_EQ(made_safe("a+b,c;d=e", NameRules::drive), "a+b,c;d=e");
  EXPECT_EQ(made_safe("a+b,c;d=e", NameRules::fatx), "a_b_c_d_e");
  EXPECT_EQ(made_safe("\xC3\xA9", NameRules::fatx), "__");
  EXPECT_EQ(made_safe("a:b?", NameRules::host), "a:b?");
  EXPECT_EQ(made_safe("a:b?", NameRules::drive), "a_b_");
  EXPECT_EQ(made_safe("..", NameRules::host), "__");
  EXPECT_EQ(made_safe("", NameRules::host), "_");
}

TEST(FileNames, AShortNameFitsAndKeepsItsExtension) {
  Random random(13);
  for (int i = 0; i < 5'000; ++i) {
    std::string name;
    for (std::uint64_t n = 1 + random.below(60); n > 0; --n)
      name += std::array<std::string_view, 4>{"a", "\xC3\xA9", "\xE7\x81\xAF", "\xF0\x9F\x8E\xB5"}[random.below(4)];
    if (random.below(2) != 0) name += ".bin";
    const std::size_t units = 8 + random.below(40), bytes = 16 + random.below(60);
    const std::string made = shortened(name, units, bytes);
    ASSERT_LE(utf16_units(made), units);
    ASSERT_LE(made.size(), bytes);
    ASSERT_TRUE(is_utf8(made));
    if (name.ends_with(".bin")) {
      ASSERT_TRUE(made.ends_with(".bin")) << made;
    }
    if (utf16_units(name) <= units && name.size() <= bytes) {
      ASSERT_EQ(made, name);
    }
  }
}

TEST(FileNames, AFaultOnDrivesAndWhatIsMadeForThemAgree) {
  Random random(17);
  for (int i = 0; i < 20'000; ++i) {
    const std::string name = random_name(random);
    if (!name_fault(name).empty()) continue;
    ASSERT_EQ(made_safe(name, NameRules::drive), name) << "nothing is changed that drives can have";
    ASSERT_TRUE(is_safe_name(name)) << printable(name);
  }
  EXPECT_EQ(name_fault("AUX.txt"), "the reserved name AUX");
  EXPECT_EQ(name_fault("COM0"), "");
}

TEST(FileNames, MembersOfArchivesStayBelowTheirFolder) {
  for (const char* bad : {"", "/etc/x", "C:x", "../x", "a/../../x", "a\\..\\x", "..", "a\x01"})
    EXPECT_NE(member_path_fault(bad), "") << bad;
  EXPECT_NE(member_path_fault(std::string(5'000, 'a')), "");
  for (const char* good : {"a", "a/b/c.bin", "a..b", "...", "ab:c/d"}) EXPECT_EQ(member_path_fault(good), "") << good;
}

}  // namespace
}  // namespace opifex
