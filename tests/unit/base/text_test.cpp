#include "opifex/core/base/text.hpp"

#include <gtest/gtest.h>

namespace opifex {
namespace {

TEST(Text, TellsUtf8FromWhatIsNot) {
  EXPECT_TRUE(is_utf8("été 灯 \xF0\x9F\x8E\xB5"));
  for (const char* bad : {"\xE9t\xE9", "\xC0\x80", "\xED\xA0\x80", "\xF4\x90\x80\x80", "\xE2\x82", "\x80"})
    EXPECT_FALSE(is_utf8(bad)) << bad;
}

TEST(Text, DecodesOldCodePages) {
  EXPECT_EQ(decode("\xE9t\xE9", "windows-1252"), "été");
  EXPECT_EQ(decode("\x93\x94", "windows-31j"), "灯");
  EXPECT_EQ(decode(std::string_view("\x3F\xD8", 2), "UTF-16LE"), std::nullopt) << "half a surrogate pair";
}

TEST(Text, FoldsCaseOfAllScripts) {
  EXPECT_EQ(fold_case("ÉTÉ Track"), fold_case("été tRACK"));
  EXPECT_NE(fold_case("a"), fold_case("b"));
  EXPECT_EQ(fold_case("A\xFF"), "a\xFF") << "ill-formed: ASCII only";
}

TEST(Text, CountsNamesInUtf16Units) {
  EXPECT_EQ(utf16_units("abc"), 3u);
  EXPECT_EQ(utf16_units("灯"), 1u);
  EXPECT_EQ(utf16_units("\xF0\x9F\x8E\xB5"), 2u);
}

TEST(Text, ReadsSizes) {
  EXPECT_EQ(parse_size("4GiB"), 4ull << 30);
  EXPECT_EQ(parse_size("650MB"), 650'000'000u);
  EXPECT_EQ(parse_size("fat32"), 4294967295u);
  EXPECT_EQ(parse_size("12"), 12u);
  for (const char* bad : {"", "GB", "1.5GB", "-1", "99999999999GiB", "4 parsecs"}) EXPECT_FALSE(parse_size(bad)) << bad;
}

TEST(Text, SuggestsTheNearestWord) {
  const std::vector<std::string> known = {"identify", "convert", "check"};
  EXPECT_EQ(nearest_word("idnetify", known), "identify");
  EXPECT_EQ(nearest_word("chekc", known), "check");
  EXPECT_EQ(nearest_word("frobnicate", known), "");
}

TEST(Text, MakesControlCharactersVisible) {
  EXPECT_EQ(printable("a\x1B[31mb"), "a\\x1B[31mb");
  EXPECT_EQ(printable("\xFFx"), "\\xFFx");
  EXPECT_EQ(printable("\xC2\x9B"
                      "2J"),
            "\\xC2\\x9B2J")
      << "C1 controls steer terminals too";
  EXPECT_EQ(printable("灯"), "灯");
}

TEST(Text, GroupsAndRoundsForPeople) {
  EXPECT_EQ(grouped(0), "0");
  EXPECT_EQ(grouped(1234567), "1 234 567");
  EXPECT_EQ(human_size(999), "999 bytes");
  EXPECT_EQ(human_size(700 << 20), "700.0 MiB");
  EXPECT_EQ(human_size(UINT64_MAX), "16.0 EiB");
}

}  // namespace
}  // namespace opifex
