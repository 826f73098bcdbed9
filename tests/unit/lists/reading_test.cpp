// Lists as their makers write them, and as nobody should: what the vectors do not have.
#include <gtest/gtest.h>

#include "opifex/core/lists/read_list.hpp"
#include "opifex/core/lists/write_list.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

constexpr const char* kHead = "<?xml version=\"1.0\"?>\n<datafile>";
constexpr const char* kSum = "900150983cd24fb0d6963f7d28e17f72";  // MD5 of "abc"

KnownListPtr read(const std::string& text, const std::string& name = "list.dat") {
  return read_list(*memory_source(to_bytes(text), name), name);
}

std::string refusal(const std::string& text, const std::string& name = "list.dat") {
  return error_code([&] { read(text, name); });
}

std::vector<std::string> names_in(const KnownList& list) {
  std::vector<std::string> names;
  for (const ListedEntry& e : list.entries) names.emplace_back(list.name(e));
  return names;
}

std::string utf16(std::string_view ascii, bool big) {
  std::string out = big ? "\xFE\xFF" : "\xFF\xFE";
  for (const char c : ascii) out += big ? std::string{'\0', c} : std::string{c, '\0'};
  return out;
}

TEST(KnownListText, AnEntityThatNobodyDeclaredIsNotLeftOutInSilence) {
  // With an address that is not fetched, expat would skip it, and the name would read as if it were whole.
  const std::string doctype = "<!DOCTYPE datafile PUBLIC \"-//x//y//EN\" \"http://192.0.2.1/datafile.dtd\">\n";
  EXPECT_EQ(refusal("<?xml version=\"1.0\"?>" + doctype +
                    "<datafile><game name=\"a\"><description>Moth&nbsp;Lantern</description></game></datafile>"),
            "not_well_formed");
  EXPECT_EQ(refusal("<?xml version=\"1.0\"?>" + doctype + "<datafile><game name=\"Moth&nbsp;Lantern\"/></datafile>"),
            "not_well_formed");
  const std::string right =
      "<?xml version=\"1.0\"?>" + doctype + "<datafile><game name=\"&amp;&lt;&gt;&quot;&apos;&#65;\"/></datafile>";
  EXPECT_EQ(read(right)->name(read(right)->sets[0]), "&<>\"'A");
  for (const bool big : {false, true}) {
    EXPECT_EQ(read(utf16(right, big))->name(read(right)->sets[0]), "&<>\"'A");
    const std::string wrong = "<?xml version=\"1.0\"?>" + doctype + "<datafile><game name=\"&nope;\"/></datafile>";
    EXPECT_EQ(refusal(utf16(wrong, big)), "not_well_formed");
    // A character one of whose bytes is that of the sign: U+2626.
    std::string cross = utf16("<?xml version=\"1.0\"?>" + doctype + "<datafile><game name=\"~\"/></datafile>", big);
    cross.replace(cross.find('~') - (big ? 1 : 0), 2, "\x26\x26");
    EXPECT_EQ(read(cross)->name(read(cross)->sets[0]), "\u2626");
  }
}

TEST(KnownListText, EveryEncodingGivesTheSameNames) {
  const std::string body =
      "<datafile><game name=\"Caf\xE9\"><rom name=\"\x80 1.bin\" crc=\"352441c2\"/></game></datafile>";
  const KnownListPtr list = read("<?xml version=\"1.0\" encoding=\"windows-1252\"?>" + body);
  EXPECT_EQ(list->name(list->sets[0]), "Café");
  EXPECT_EQ(names_in(*list), std::vector<std::string>{"€ 1.bin"});
  EXPECT_EQ(names_in(*read("352441c2352441c2352441c2352441c2  \x80 1.bin\n", "a.md5")),
            std::vector<std::string>{"€ 1.bin"});
  for (const bool big : {false, true})
    EXPECT_EQ(names_in(*read(utf16(std::string(kSum) + "  a b.bin\r\n" + kSum + " *c.bin", big), "a.md5")),
              (std::vector<std::string>{"a b.bin", "c.bin"}));
  EXPECT_EQ(refusal(std::string("\xFF\xFE", 2) + std::string("a\0\0\xD8", 4), "a.md5"), "bad_encoding");
}

TEST(KnownListText, ChecksumLinesOfEveryWriter) {
  const KnownListPtr list =
      read(std::string("# made up\n; too\n\n") + kSum + "  two blanks.bin\n" + kSum + " *star.bin\n" + kSum +
               " one blank.bin\n\\" + kSum + "  back\\\\slash.bin\n" + "MD5 (odd) = name.bin) = " + kSum +
               "\nSHA2-256(tight.bin)= " + std::string(64, 'a') + "\nsub\\old.bin 352441C2\n",
           "many.txt");
  EXPECT_EQ(list->kind, ListKind::mixed);
  EXPECT_EQ(names_in(*list), (std::vector<std::string>{"two blanks.bin", "star.bin", "one blank.bin", "back\\slash.bin",
                                                       "odd) = name.bin", "tight.bin", "sub/old.bin"}));
  EXPECT_TRUE(list->problems.empty());
  EXPECT_EQ(list->name(list->sets[0]), "many");
}

TEST(KnownListText, TheEndingSettlesWhatALineIs) {
  const std::string line = std::string(kSum) + " 352441c2\n";
  EXPECT_EQ(read(line, "a.sfv")->kind, ListKind::sfv);
  EXPECT_EQ(read(line, "a.md5")->kind, ListKind::md5);
  EXPECT_EQ(names_in(*read(line, "a.sfv")), std::vector<std::string>{kSum});
}

TEST(KnownListText, OneNameUnderSeveralAlgorithmsIsOneEntry) {
  const std::string two = std::string("MD5 (a.bin) = ") + kSum + "\nCRC32 (a.bin) = 352441c2\n";
  const KnownListPtr list = read(two);
  ASSERT_EQ(list->entries.size(), 1U);
  EXPECT_EQ(list->hash(list->entries[0], ListHash::crc32), "352441c2");
  EXPECT_EQ(list->hash(list->entries[0], ListHash::md5), kSum);
  const KnownListPtr twice = read(two + "CRC32 (a.bin) = 00000000\n" + "MD5 (a.bin) = " + kSum + "\n");
  EXPECT_EQ(twice->entries.size(), 2U) << "another CRC-32 of the same name is another content";
  ASSERT_EQ(twice->problems.size(), 2U);
  EXPECT_EQ(twice->problems[0].code, "conflicting_entry");
  EXPECT_EQ(twice->problems[1].code, "duplicate_entry");
}

TEST(KnownListText, TheOlderFormWithItsOddities) {
  const KnownListPtr list = read(
      "anything ( name \"A \\\"B\\\" \\\\ C\" version 1 version 2 )\r\n"
      "game ( name Foo(v1) rom ( size 3 name Foo(v1).bin crc 352441C2 flags BADDUMP extra ( deep ( deeper x ) ) ) )\r\n"
      "unknown ( game ( name no ) )\r\nRESOURCE ( rom ( name r.bin size 1 crc 1 ) name later )\r\n\x1A");
  EXPECT_EQ(list->kind, ListKind::text);
  EXPECT_EQ(list->header_text("name"), "A \"B\" \\ C");
  EXPECT_EQ(list->header_text("version"), "1");
  ASSERT_EQ(list->sets.size(), 2U);
  EXPECT_EQ(list->name(list->sets[0]), "Foo(v1)");
  EXPECT_EQ(list->name(list->sets[1]), "later");
  EXPECT_EQ(list->entries[0].status, ListedStatus::bad_dump);
  EXPECT_EQ(list->hash(list->entries[1], ListHash::crc32), "00000001");
  EXPECT_EQ(refusal("game ( name a\n) )\n"), "bad_structure");
  EXPECT_EQ(refusal("game ( name )\n"), "bad_structure");
  EXPECT_EQ(refusal("game ( name a rom ( name b\n"), "unbalanced");
}

TEST(KnownListText, WhatIsTooLongIsRefusedWithItsLine) {
  EXPECT_EQ(refusal(std::string(kSum) + "  " + std::string(70'000, 'n'), "a.md5"), "token_too_long");
  EXPECT_EQ(refusal("game (\nname " + std::string(70'000, 'n') + " )"), "token_too_long");
  EXPECT_EQ(refusal(kHead + std::string("<!-- ") + std::string(3 << 20, 'x')), "token_too_long") << "never closed";
  EXPECT_EQ(refusal(kHead + std::string("<game ") + std::string(3 << 20, ' ')), "token_too_long");
  // Many short texts beside each other are no long one.
  std::string many = std::string(kHead) + "<header><comment>c</comment></header>";
  for (int i = 0; i < 20'000; ++i) many += "\n\t\t\t\t<game name=\"g" + std::to_string(i) + "\"/>";
  EXPECT_EQ(read(many + "</datafile>")->sets.size(), 20'000U);
}

TEST(KnownListText, ManyFaultsOfOneKindAreCountedNotKept) {
  std::string text;
  for (int i = 0; i < 5000; ++i) text += "no checksum here " + std::to_string(i) + "\n";
  const KnownListPtr list = read(text + kSum + "  a.bin\n", "a.md5");
  EXPECT_EQ(list->problems.size(), 200U);
  EXPECT_EQ(list->more_problems, 4800U);
  EXPECT_EQ(list->entries.size(), 1U);
}

TEST(KnownListText, NamesThatMayNotBePaths) {
  for (const char* bad :
       {"", "/a", "\\a", "a//b", "../a", "a/..", "a\\..\\b", "./a", "C:a", "c:\\a", "a\tb", "a\x7F", "a/"})
    EXPECT_TRUE(is_unsafe_name(bad)) << bad;
  for (const char* good : {"a", "a b (v1.0).bin", "a/b", "a\\b", "...", "a..b", ".hidden", "ä", "1:a"})
    EXPECT_FALSE(is_unsafe_name(good)) << good;
  EXPECT_TRUE(is_unsafe_name(std::string(4097, 'a')));
}

MadeSet random_set(Random& random, std::size_t number) {
  constexpr std::array kOdd{"&", "<", ">", "\"", "'", "ä", "漢", " ", "(", ")", "=", ";", "#", "-"};
  const auto odd_name = [&] {
    std::string name = "n";
    for (std::uint64_t i = random.below(12); i > 0; --i) name += kOdd[random.below(kOdd.size())];
    return name + "z";
  };
  MadeSet set{.name = fmt::format("{} {}", odd_name(), number), .entries = {}};
  for (std::uint64_t i = 0; i <= random.below(5); ++i) {
    const Bytes bytes = random.bytes(random.below(100));
    MadeEntry entry{.name = fmt::format("{}{}.bin", odd_name(), i), .size_bytes = bytes.size(), .hashes = {}};
    for (const char* name : {"crc32", "md5", "sha1", "sha256"}) entry.hashes.push_back({name, digest_of(name, bytes)});
    set.entries.push_back(entry);
  }
  return set;
}

TEST(MadeLists, SayAgainWhatTheyWereMadeOf) {
  Random random(20);
  for (int round = 0; round < 50; ++round) {
    std::vector<MadeSet> sets;
    for (std::uint64_t i = 0; i < 1 + random.below(20); ++i) sets.push_back(random_set(random, i));
    const std::string text = list_text("Palisade <Row> & Co", sets);
    auto other_order = sets;
    std::reverse(other_order.begin(), other_order.end());
    EXPECT_EQ(text, list_text("Palisade <Row> & Co", other_order));
    const KnownListPtr list = read(text);
    EXPECT_TRUE(list->problems.empty());
    EXPECT_EQ(list->header_text("name"), "Palisade <Row> & Co");
    ASSERT_EQ(list->sets.size(), sets.size());
    std::sort(sets.begin(), sets.end(), [](const MadeSet& a, const MadeSet& b) { return a.name < b.name; });
    for (std::size_t s = 0; s < sets.size(); ++s) {
      EXPECT_EQ(list->name(list->sets[s]), sets[s].name);
      const auto entries = list->entries_of(list->sets[s]);
      ASSERT_EQ(entries.size(), sets[s].entries.size());
      for (std::size_t e = 0; e < entries.size(); ++e) {
        EXPECT_EQ(list->name(entries[e]), sets[s].entries[e].name);
        EXPECT_EQ(entries[e].size_bytes, sets[s].entries[e].size_bytes);
        for (std::size_t h = 0; h < 4; ++h)
          EXPECT_EQ(list->hash(entries[e], kListHashes[h]), sets[s].entries[e].hashes[h].value);
      }
    }
  }
}

TEST(MadeLists, HoldNothingThatXmlCannot) {
  const std::string text = list_text("a\x01\x1B[2J\xFF", {{"line\nfeed", {{"tab\there", 1, {{"crc32", "00000001"}}}}}});
  const KnownListPtr list = read(text);
  EXPECT_EQ(list->header_text("name"), "a\xEF\xBF\xBD\xEF\xBF\xBD[2J\xEF\xBF\xBD");
  EXPECT_EQ(list->name(list->sets[0]), "line\nfeed");
  EXPECT_TRUE(list->sets[0].unsafe);
}

}  // namespace
}  // namespace opifex
