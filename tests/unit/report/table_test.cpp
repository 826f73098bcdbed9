// Tables, lines of facts and words for people: aligned, and nothing from outside steers the terminal.
#include "opifex/report/table.hpp"

#include <sstream>

#include <gtest/gtest.h>

#include "opifex/report/terminal.hpp"
#include "opifex/report/words.hpp"

#include "testkit.hpp"

namespace opifex::report {
namespace {

using testkit::Random;

/// No byte of the text moves the cursor, but for line ends.
bool is_tame(const std::string& text) {
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if ((byte < 0x20 && c != '\n') || byte == 0x7F) return false;
  }
  return text.find("\xE2\x80\xAE") == std::string::npos && text.find("\xC2\x9B") == std::string::npos;
}

std::string hostile(Random& random) {
  constexpr std::array<std::string_view, 10> kPieces = {"a",        "\x1B[2J", "\n",           "\r",   "\xE2\x80\xAE",
                                                        "\xC2\x9B", "\x7F",    "\xE7\x81\xAF", "\xFF", "\t"};
  std::string text;
  for (std::uint64_t n = random.below(8); n > 0; --n) text += kPieces[random.below(kPieces.size())];
  return text;
}

TEST(Tables, ColumnsAreAsWideAsTheirWidestCell) {
  Table table({{"Name"}, {"Size", Align::right}, {"Note"}});
  table.add({"a", "1", ""});
  table.add({"longer name", "1 234", ""});
  EXPECT_EQ(plain_text(table.text("  ")),
            "  Name          Size\n"
            "  a                1\n"
            "  longer name  1 234\n")
      << "a column that is empty in every row is left out, no line ends in blanks";
}

TEST(Tables, WideCharactersTakeTwoColumnsAndMarksNone) {
  EXPECT_EQ(shown_width("abc"), 3u);
  EXPECT_EQ(shown_width("\xE7\x81\xAF"), 2u);
  EXPECT_EQ(shown_width("e\xCC\x81"), 1u);
  Table table({{"N"}, {"X"}});
  table.add({"\xE7\x81\xAF", "1"});
  table.add({"ab", "2"});
  EXPECT_EQ(plain_text(table.text()), "N   X\n\xE7\x81\xAF  1\nab  2\n");
}

TEST(Tables, EveryRowIsOneLineWhateverIsInIt) {
  Random random(91);
  for (int i = 0; i < 500; ++i) {
    Table table({{"A"}, {"B", Align::right}});
    const std::size_t rows = 1 + random.below(5);
    for (std::size_t r = 0; r < rows; ++r) table.add({hostile(random), hostile(random)});
    const std::string text = plain_text(table.text());
    ASSERT_EQ(static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n')), rows + 1);
    ASSERT_TRUE(is_tame(text));
  }
}

TEST(FactLines, AreOneLineEachAndEmptyOnesNone) {
  Random random(93);
  Facts plain;
  plain.add("Title", "Moth");
  plain.add("Region", "");
  plain.add("A longer label", "x");
  EXPECT_EQ(plain.text(), "  Title       Moth\n  A longer label x\n");
  for (int i = 0; i < 500; ++i) {
    Facts facts;
    const std::string value = hostile(random);
    facts.add("Title", value);
    ASSERT_EQ(std::count(facts.text().begin(), facts.text().end(), '\n'), value.empty() ? 0 : 1);
    ASSERT_TRUE(is_tame(facts.text()));
  }
}

TEST(Words, SettingsAndJobsOfAHintAreWrittenAsTheyAreTyped) {
  EXPECT_EQ(hint_text("give it with <key-file> FILE"), "give it with --key-file FILE");
  EXPECT_EQ(hint_text("<job check> lists everything"), "opifex check lists everything");
  EXPECT_EQ(hint_text("a < b, <NOT THIS>, <>, <x"), "a < b, <NOT THIS>, <>, <x") << "anything else stays";
}

TEST(Words, LossesAndWarningsAreALineEach) {
  const std::vector<Loss> losses = {
      {"audio", "tracks 2 to 4", "music", false}, {"tracks", "x\ny", "z", true}, {"filler", "a", "b", false}};
  EXPECT_EQ(loss_lines(losses),
            "  loss        audio (refused): tracks 2 to 4: music\n"
            "  loss        tracks (accepted): x\\x0Ay: z\n"
            "  loss        filler (filler): a: b\n");
  EXPECT_EQ(warning_lines({{"odd", "it is\x1B[0m odd", "do <out>"}}).find('\x1B'), std::string::npos);
}

std::string shown_as(const std::string& text, const TextStyle& style) {
  std::ostringstream out;
  show(text, style, out);
  return out.str();
}

std::string without_colours(std::string text) {
  for (std::size_t at = 0; (at = text.find('\x1B')) != std::string::npos;) text.erase(at, text.find('m', at) - at + 1);
  return text;
}

TEST(Terminals, ATableIsAsWideAsAskedForOrAsItsNarrowestForm) {
  Random random(11);
  for (int round = 0; round < 300; ++round) {
    std::vector<Table::Column> columns;
    std::size_t least = 0;
    for (std::uint64_t n = 1 + random.below(6); n > 0; --n)
      columns.push_back(random.below(2) == 0 ? path_column("P")
                                             : Table::Column{"C", random.below(2) == 0 ? Align::left : Align::right});
    std::vector<std::size_t> widest(columns.size(), 0);
    Table table(columns);
    for (std::uint64_t rows = 1 + random.below(5); rows > 0; --rows) {
      std::vector<std::string> cells;
      for (std::size_t c = 0; c < columns.size(); ++c) {
        std::string cell;
        for (std::uint64_t n = random.below(columns[c].fit == CellFit::shorten ? 60 : 9); n > 0; --n)
          cell += random.below(4) == 0 ? "\xE7\x81\xAF" : random.below(3) == 0 ? "\xC3\xA9" : "x";
        widest[c] = std::max(widest[c], shown_width(cell));
        cells.push_back(cell);
      }
      table.add(cells);
    }
    for (std::size_t c = 0; c < columns.size(); ++c)
      if (widest[c] > 0)
        least += (columns[c].fit == CellFit::shorten ? std::min<std::size_t>(widest[c], 12) : widest[c]) + 2;
    const std::string marked = table.text("  "), plain = plain_text(marked);
    EXPECT_EQ(without_colours(shown_as(marked, {0, true})), plain);
    const std::size_t width = 20 + random.below(150);
    std::istringstream lines(shown_as(marked, {width, false}));
    for (std::string line; std::getline(lines, line);) {
      EXPECT_LE(shown_width(line), std::max(width, least + 2)) << round << ": " << line;
      EXPECT_TRUE(is_tame(line)) << line;
      EXPECT_EQ(line.find("\xEF\xBF\xBD"), std::string::npos);
    }
  }
}

TEST(Terminals, ShortenedTextKeepsBothItsEnds) {
  EXPECT_EQ(shortened_middle("short", 5), "short");
  EXPECT_EQ(shortened_middle("/media/discs/Moth & Lantern.cue", 20), "/media/d...ntern.cue");
  Random random(5);
  for (int round = 0; round < 2000; ++round) {
    std::string text;
    for (std::uint64_t n = random.below(50); n > 0; --n)
      text += random.below(3) == 0 ? "\xE7\x81\xAF" : random.below(2) == 0 ? "a" : "e\xCC\x81";
    const std::size_t width = random.below(60);
    const std::string shown = shortened_middle(text, width);
    EXPECT_LE(shown_width(shown), std::max<std::size_t>(width, 0)) << round;
    if (shown_width(text) <= width) {
      EXPECT_EQ(shown, text);
    }
  }
}

TEST(Terminals, MarksFromOutsideAreNoMarks) {
  for (const char* text : {"\x1D", "\x1Dx\x1E", "\x02", "\x02\x03",
                           "\x02\x7F"
                           "x\x03",
                           "\x02Zx\x03", "\x1F\x1E"}) {
    const std::string shown = shown_as(text, {40, true});
    EXPECT_TRUE(is_tame(shown)) << shown;
  }
  Random random(9);
  for (int round = 0; round < 500; ++round) {
    Table table({path_column("A"), state_column("B")});
    std::string wicked = hostile(random) + "\x1D\x1E\x1F\x02" + "B\x03" + hostile(random);
    table.add({wicked, wicked});
    table.add({"plain", state_text(wicked)});
    const std::string shown = without_colours(shown_as(table.text(), {30, true}));
    EXPECT_TRUE(is_tame(shown)) << shown;
    EXPECT_EQ(std::count(shown.begin(), shown.end(), '\n'), 3);
  }
}

TEST(Terminals, TheColourIsThatOfTheState) {
  Table table({{"Track"}, state_column("Verdict")});
  table.add({"1", "damaged: 3 of 420 sectors bad"});
  table.add({"2", "intact"});
  const std::string shown = shown_as(table.text(), {0, true});
  EXPECT_NE(shown.find("\x1B[1;31mdamaged\x1B[0m: 3 of"), std::string::npos) << shown;
  EXPECT_NE(shown.find("\x1B[32mintact\x1B[0m\n"), std::string::npos) << shown;
  EXPECT_EQ(shown_as(state_text("intact", 9) + "x", {}), "intact   x");
}

}  // namespace
}  // namespace opifex::report
