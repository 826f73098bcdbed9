// Tables, lines of facts and words for people: aligned, and nothing from outside steers the terminal.
#include "opifex/report/table.hpp"

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

}  // namespace
}  // namespace opifex::report
