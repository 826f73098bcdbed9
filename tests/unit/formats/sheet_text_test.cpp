// A sheet with other names of its files in it: every other byte stays, in whatever encoding it came.
#include <gtest/gtest.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

SheetText read(const fs::path& path) {
  const Format& format = probe_format(path);
  if (!format.read_sheet) throw std::runtime_error("no sheet");
  return format.read_sheet(path);
}

std::string utf16(std::string_view text, const char* code_page, std::string_view mark) {
  return std::string(mark) + encode(text, code_page).value();
}

struct EncodedSheet {
  const char* name;
  std::string (*encoded)(const std::string& utf8);
};
const EncodedSheet kEncodings[] = {
    {"utf8", [](const std::string& s) { return s; }},
    {"utf8 with mark", [](const std::string& s) { return "\xEF\xBB\xBF" + s; }},
    {"utf16 le", [](const std::string& s) { return utf16(s, "UTF-16LE", "\xFF\xFE"); }},
    {"utf16 be", [](const std::string& s) { return utf16(s, "UTF-16BE", "\xFE\xFF"); }},
    {"shift-jis", [](const std::string& s) { return encode(s, "windows-31j").value(); }},
};

TEST(SheetTexts, OnlyTheNamesChangeInWhateverEncoding) {
  const std::string before = "REM COMMENT \"\xE7\x81\xAF\"\r\n\r\n  PERFORMER \"x\"\r\n";
  const std::string after = " BINARY\r\n  TRACK 01 AUDIO\r\n    INDEX 01 00:00:00\r\n";
  for (const EncodedSheet& encoding : kEncodings) {
    const TempFolder folder;
    write_file(folder / "\xE7\x81\xAF.bin", std::string(2352 * 3, 'x'));
    write_file(folder / "a.cue", encoding.encoded(before + "FILE \"\xE7\x81\xAF.bin\"" + after));
    const SheetText sheet = read(folder / "a.cue");
    ASSERT_EQ(sheet.files.size(), 1u) << encoding.name;
    EXPECT_EQ(sheet.files[0].path, folder / "\xE7\x81\xAF.bin") << encoding.name;
    EXPECT_EQ(sheet.files[0].line, 4u) << encoding.name;
    EXPECT_EQ(sheet.with_names({"new.bin"}), before + "FILE \"new.bin\"" + after) << encoding.name;
  }
}

TEST(SheetTexts, EveryLineEndStays) {
  for (const char* end : {"\n", "\r\n", "\r"}) {
    const TempFolder folder;
    write_file(folder / "a.bin", std::string(2352 * 3, 'x'));
    const auto sheet_of = [&](const std::string& name) {
      return fmt::format("FILE \"{}\" BINARY{}  TRACK 01 AUDIO{}    INDEX 01 00:00:00", name, end, end);
    };
    write_file(folder / "a.cue", sheet_of("a.bin"));
    EXPECT_EQ(read(folder / "a.cue").with_names({"b.bin"}), sheet_of("b.bin"));
  }
}

TEST(SheetTexts, AMissingFileIsNamedWithItsLine) {
  const TempFolder folder;
  write_file(folder / "a.bin", std::string(2352 * 3, 'x'));
  write_file(folder / "a.cue",
             "FILE \"a.bin\" BINARY\n  TRACK 01 AUDIO\n    INDEX 01 00:00:00\n"
             "FILE \"gone.bin\" BINARY\n  TRACK 02 AUDIO\n    INDEX 01 00:00:00\n");
  const SheetText sheet = read(folder / "a.cue");
  ASSERT_EQ(sheet.files.size(), 2u);
  EXPECT_TRUE(sheet.files[0].path.has_value());
  EXPECT_FALSE(sheet.files[1].path.has_value());
  EXPECT_EQ(sheet.files[1].line, 4u);
  EXPECT_EQ(sheet.files[1].name, "gone.bin");
}

/// A track list with some of everything: blanks, empty lines, names in quotes.
std::string gdi(const std::vector<std::string>& names, const char* end) {
  std::string text = fmt::format("{}{}{}", names.size(), end, end);
  for (std::size_t i = 0; i < names.size(); ++i) {
    const bool quoted = names[i].find(' ') != std::string::npos;
    text +=
        fmt::format("{} {} 0 2352 {}{}{} 0{}", i + 1, i * 10, quoted ? "\"" : "", names[i], quoted ? "\"" : "", end);
  }
  return text;
}

TEST(SheetTexts, ATrackListKeepsItsFieldsAndLineEnds) {
  Random random(121);
  for (const char* end : {"\n", "\r\n"})
    for (int round = 0; round < 20; ++round) {
      const TempFolder folder;
      std::vector<std::string> old_names, new_names;
      for (std::uint64_t n = 1 + random.below(12); n > 0; --n) {
        old_names.push_back(fmt::format("track{}{}.raw", random.below(2) != 0 ? " " : "", n));
        new_names.push_back(fmt::format("New{}{}.raw", random.below(2) != 0 ? " name " : "", n));
        write_file(folder / old_names.back(), std::string(2352 * 10, 'x'));
      }
      write_file(folder / "disc.gdi", gdi(old_names, end));
      const SheetText sheet = read(folder / "disc.gdi");
      ASSERT_EQ(sheet.files.size(), old_names.size());
      EXPECT_EQ(sheet.with_names(new_names), gdi(new_names, end));
      EXPECT_EQ(sheet.with_names(old_names), gdi(old_names, end)) << "the same names give the same text";
    }
}

TEST(SheetTexts, NamesOfATrackListAreFoundWithoutCase) {
  const TempFolder folder;
  write_file(folder / "TRACK01.RAW", std::string(2352 * 3, 'x'));
  write_file(folder / "disc.gdi", "1\n1 0 0 2352 track01.raw 0\n");
  EXPECT_EQ(read(folder / "disc.gdi").files.at(0).path, folder / "TRACK01.RAW");
}

TEST(SheetTexts, AnUnreadableListIsRefusedNotRewritten) {
  const TempFolder folder;
  for (const char* bad : {"2\n1 0 0 2352 a.raw 0\n", "1\n1 0 0 2352 \"a.raw 0\n", "x\n", ""}) {
    write_file(folder / "disc.gdi", bad);
    EXPECT_THROW(read(folder / "disc.gdi"), Error) << bad;
  }
}

}  // namespace
}  // namespace opifex
