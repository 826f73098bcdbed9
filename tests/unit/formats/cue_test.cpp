// What the vectors do not show: code pages, ambiguity, limits, odd sheets, and printing.
#include <gtest/gtest.h>

#include "opifex/core/convert/plan.hpp"
#include "opifex/core/formats/cue/sheet.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

std::string audio(std::size_t sectors) { return std::string(sectors * 2352, '\x01'); }

std::string code_of(const fs::path& sheet) {
  try {
    open_image(sheet);
    return "";
  } catch (const Error& e) {
    return e.details.code;
  }
}

bool warns(const Image& image, const std::string& code) {
  return std::any_of(image.warnings.begin(), image.warnings.end(), [&](const Warning& w) { return w.code == code; });
}

constexpr const char* kOneTrack = "  TRACK 01 AUDIO\r\n    INDEX 01 00:00:00\r\n";

TEST(CueFiles, ASheetInShiftJisFindsItsFile) {
  const TempFolder folder;
  write_file(folder / "灯.bin", audio(3));
  write_file(folder / "a.cue", std::string("FILE \"\x93\x94.bin\" BINARY\r\n") + kOneTrack);
  const Image image = open_image(folder / "a.cue");
  EXPECT_EQ(image.files.at(0).path.filename(), "灯.bin");
}

TEST(CueFiles, NamesMayBeStoredInTheSheetsOwnBytes) {
  const TempFolder folder;
  write_file(folder / "\xE9t\xE9.bin", audio(3));
  write_file(folder / "a.cue", std::string("FILE \"\xE9t\xE9.bin\" BINARY\r\n") + kOneTrack);
  EXPECT_EQ(open_image(folder / "a.cue").cd()->layout().lead_out, 3);
}

TEST(CueFiles, TwoCandidatesAreAmbiguous) {
  const TempFolder folder;
  write_file(folder / "game.BIN", audio(3));
  write_file(folder / "GAME.bin", audio(3));
  write_file(folder / "a.cue", std::string("FILE \"Game.bin\" BINARY\r\n") + kOneTrack);
  EXPECT_EQ(code_of(folder / "a.cue"), "ambiguous_file");
}

TEST(CueFiles, NothingOutsideTheFolderIsOpened) {
  const TempFolder folder;
  fs::create_directories(folder / "sub");
  write_file(folder / "secret.bin", audio(3));
  for (const char* name : {"../secret.bin", "..\\secret.bin", "x/../../secret.bin"}) {
    write_file(folder / "sub/a.cue", fmt::format("FILE \"{}\" BINARY\r\n{}", name, kOneTrack));
    EXPECT_EQ(code_of(folder / "sub/a.cue"), "missing_file") << name;
  }
}

TEST(CueFiles, DevicesAreNeverOpened) {
  const TempFolder folder;
  fs::create_symlink("/dev/zero", folder / "a.bin");
  write_file(folder / "a.cue", std::string("FILE \"a.bin\" BINARY\r\n") + kOneTrack);
  EXPECT_EQ(code_of(folder / "a.cue"), "missing_file");
}

TEST(CueFiles, TheOnlyBinIsNamedButNotTaken) {
  const TempFolder folder;
  write_file(folder / "other.bin", audio(3));
  write_file(folder / "a.cue", std::string("FILE \"gone.bin\" BINARY\r\n") + kOneTrack);
  try {
    open_image(folder / "a.cue");
    FAIL();
  } catch (const Error& e) {
    EXPECT_NE(e.details.hint.find("other.bin"), std::string::npos) << e.what();
  }
}

TEST(CueFiles, AMissingTrackLeavesTheRestReadable) {
  const TempFolder folder;
  write_file(folder / "1.bin", audio(5));
  write_file(folder / "a.cue",
             "FILE \"1.bin\" BINARY\r\nTRACK 01 AUDIO\r\nINDEX 01 00:00:00\r\nFILE \"2.bin\" BINARY\r\nTRACK 02 "
             "AUDIO\r\nINDEX 01 00:00:00\r\n");
  const Image image = open_image(folder / "a.cue", {.allow_missing = true});
  EXPECT_FALSE(image.complete);
  EXPECT_TRUE(warns(image, "missing_file"));
  EXPECT_FALSE(image.cd()->layout().tracks.at(0).incomplete);
  EXPECT_TRUE(image.cd()->layout().tracks.at(1).incomplete);
}

TEST(CueFiles, ATrackBeyondTheEndIsRefusedButCanBeLookedAt) {
  const TempFolder folder;
  write_file(folder / "1.bin", audio(5));
  write_file(folder / "a.cue",
             "FILE \"1.bin\" BINARY\r\nTRACK 01 AUDIO\r\nINDEX 01 00:00:00\r\nTRACK 02 AUDIO\r\nINDEX 01 "
             "00:00:03\r\nTRACK 03 AUDIO\r\nINDEX "
             "01 00:00:20\r\n");
  EXPECT_EQ(code_of(folder / "a.cue"), "index_past_end");
  const Image image = open_image(folder / "a.cue", {.allow_missing = true});
  EXPECT_TRUE(warns(image, "index_past_end"));
  EXPECT_FALSE(image.complete);
  const auto& tracks = image.cd()->layout().tracks;
  EXPECT_FALSE(tracks.at(0).incomplete);
  EXPECT_TRUE(tracks.at(1).incomplete);
  EXPECT_TRUE(tracks.at(2).incomplete);
  EXPECT_EQ(image.cd()->stored_sectors(), 5u);
}

TEST(CueSheet, BoundsAreKept) {
  const TempFolder folder;
  write_file(folder / "a.bin", audio(3));
  write_file(folder / "big.cue", std::string(cue::kMaxSheetBytes + 1, ' '));
  EXPECT_EQ(code_of(folder / "big.cue"), "too_large");
  write_file(folder / "far.cue",
             "FILE \"a.bin\" BINARY\r\nTRACK 01 AUDIO\r\nPREGAP 999:59:74\r\nINDEX 01 00:00:00\r\nTRACK 02 "
             "AUDIO\r\nPREGAP 999:59:74\r\nINDEX 01 00:00:01\r\n");
  EXPECT_EQ(code_of(folder / "far.cue"), "disc_too_long");
}

TEST(CueSheet, NinetyNineTracksOfOneSectorSurviveMergeAndSplit) {
  const TempFolder folder;
  std::string sheet = "FILE \"a.bin\" BINARY\r\n", bin;
  for (int i = 1; i <= 99; ++i) {
    sheet += fmt::format("TRACK {:02} AUDIO\r\nINDEX 01 00:{:02}:{:02}\r\n", i, (i - 1) / 75, (i - 1) % 75);
    bin += std::string(2352, static_cast<char>(i));
  }
  write_file(folder / "a.bin", bin);
  write_file(folder / "a.cue", sheet);
  QuietContext context;
  const Image image = open_image(folder / "a.cue");
  const fs::path split = folder / "split/a.cue", merged = folder / "merged/a.cue";
  write_outputs(image, plan_conversion(image, {find_format("cue-tracks"), split}, context).plan, {}, context);
  EXPECT_TRUE(fs::exists(folder / "split/a (Track 07).bin")) << "two digits: sorted by name they stay in order";
  const Image tracks = open_image(split);
  ASSERT_EQ(tracks.files.size(), 99u);
  write_outputs(tracks, plan_conversion(tracks, {find_format("cue"), merged}, context).plan, {}, context);
  EXPECT_EQ(read_file(folder / "merged/a.bin"), bin);
}

TEST(CueSheet, TextsRemarksAndCodesComeBackFromASheetOfOurs) {
  const TempFolder folder;
  write_file(folder / "a.bin", audio(8));
  write_file(folder / "a.cue",
             "REM GENRE Adventure\r\nREM DATE 1998\r\nCATALOG 2600170000019\r\nTITLE \"He said \"go\"\"\r\nFILE "
             "\"a.bin\" BINARY\r\n"
             "TRACK 01 AUDIO\r\nREM COMMENT kept\r\nTITLE \"One\"\r\nISRC QZPRX2600017\r\nFLAGS DCP PRE SCMS\r\nPREGAP "
             "00:00:10\r\nINDEX 01 00:00:00\r\n"
             "INDEX 02 00:00:03\r\nPOSTGAP 00:00:05\r\n");
  QuietContext context;
  const Image image = open_image(folder / "a.cue");
  const fs::path out = folder / "out/b.cue";
  const Conversion conversion = plan_conversion(image, {find_format("cue"), out}, context);
  EXPECT_TRUE(conversion.losses.empty());
  write_outputs(image, conversion.plan, {}, context);
  const std::string text = read_file(out);
  for (const char* line :
       {"REM GENRE Adventure\r\n", "REM DATE 1998\r\n", "CATALOG 2600170000019\r\n", "TITLE \"He said 'go'\"\r\n",
        "    REM COMMENT kept\r\n", "    ISRC QZPRX2600017\r\n", "    FLAGS DCP PRE SCMS\r\n",
        "    PREGAP 00:00:10\r\n", "    INDEX 02 00:00:03\r\n", "    POSTGAP 00:00:05\r\n"})
    EXPECT_NE(text.find(line), std::string::npos) << line << "in\n" << text;
  EXPECT_EQ(open_image(out).cd()->layout().lead_out, image.cd()->layout().lead_out);
}

TEST(CueSheet, BrokenUnicodeAfterItsMarkIsNoText) {
  EXPECT_THROW(cue::candidate_encodings("\xEF\xBB\xBF\xFF", "a.cue"), Error);
  EXPECT_THROW(cue::parse(std::string("\xFF\xFE\x00\xD8", 4), "utf-16", "a.cue"), Error);
}

TEST(CueSheet, WarningsTellTheLine) {
  const cue::Sheet sheet =
      cue::parse("FILE \"a\" BINARY\nTRACK 01 AUDIO\nFOO bar\nINDEX 01 00:00:00\nPREGAP 00:00:01\n", "ascii", "a.cue");
  ASSERT_EQ(sheet.warnings.size(), 2u);
  EXPECT_EQ(sheet.warnings[0].code, "unknown_command");
  EXPECT_EQ(sheet.warnings[0].message.substr(0, 7), "line 3:");
  EXPECT_EQ(sheet.warnings[1].code, "misplaced_gap");
}

TEST(CueSheet, ALeadOutThatFitsNothingIsWarnedOf) {
  const TempFolder folder;
  write_file(folder / "a.bin", audio(8));
  write_file(folder / "b.bin", audio(8));
  write_file(folder / "a.cue",
             "REM SESSION 01\nFILE \"a.bin\" BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00\nREM LEAD-OUT 12:34:56\nREM "
             "SESSION 02\nFILE \"b.bin\" BINARY\nTRACK 02 AUDIO\nINDEX 01 00:00:00\n");
  EXPECT_TRUE(warns(open_image(folder / "a.cue"), "leadout_mismatch"));
}

TEST(CueSheet, CookedFilesCalledRawAreReadAsTheyAre) {
  const TempFolder folder;
  fs::copy_file(vector_path("cd/mode1/Kestrel Circuit.iso"), folder / "k.bin");
  write_file(folder / "k.cue", "FILE \"k.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n");
  const Image image = open_image(folder / "k.cue");
  EXPECT_TRUE(warns(image, "mode_mismatch"));
  EXPECT_EQ(cd::to_string(image.cd()->layout().tracks[0].mode), "MODE1/2048");
}

TEST(CueSheet, DataCalledAudioIsReadAsData) {
  const TempFolder folder;
  fs::copy_file(vector_path("cd/mode1/Kestrel Circuit.bin"), folder / "k.bin");
  write_file(folder / "k.cue", "FILE \"k.bin\" BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n");
  EXPECT_EQ(cd::to_string(open_image(folder / "k.cue").cd()->layout().tracks[0].mode), "MODE1/2352");
}

}  // namespace
}  // namespace opifex
