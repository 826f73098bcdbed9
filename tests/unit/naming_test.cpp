#include "opifex/core/stage/naming.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

TEST(Naming, FaultsOfNames) {
  EXPECT_EQ(name_fault("Moth & Lantern (Track 1).bin"), "");
  EXPECT_EQ(name_fault("灯.bin"), "");
  for (const char* bad : {"a:b", "a/b", "a\\b", "a?", "a*", "a|b", "a\"b", "<a>", "", "a.", "a ", "con", "CON.bin",
                          "Lpt1.txt", "a\x01", "a\xFF"})
    EXPECT_NE(name_fault(bad), "") << bad;
  EXPECT_EQ(name_fault("CONSOLE.bin"), "");
  EXPECT_NE(name_fault(std::string(256, 'x')), "");
}

TEST(Naming, ShorteningKeepsTheTail) {
  EXPECT_EQ(shorten_stem("Moth & Lantern", " (Track 1).bin", 100), "Moth & Lantern");
  EXPECT_EQ(shorten_stem("Moth & Lantern", " (Track 1).bin", 20), "Moth") << "no separator is left at the end";
  EXPECT_THROW(shorten_stem("Moth", " (Track 1).bin", 14), Error);
}

TEST(Naming, ShorteningNeverCutsACharacter) {
  for (std::size_t limit = 6; limit < 16; ++limit) {
    const std::string stem = shorten_stem("é灯\xF0\x9F\x8E\xB5é灯\xF0\x9F\x8E\xB5", ".bin", limit);
    EXPECT_TRUE(is_utf8(stem));
    EXPECT_LE(utf16_units(stem) + 4, limit);
  }
}

}  // namespace
}  // namespace opifex
