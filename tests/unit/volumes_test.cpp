// Parts of reading volumes on their own: names, patterns, dates, links, which file lies where.
#include <gtest/gtest.h>

#include "opifex/core/base/glob.hpp"
#include "opifex/core/check/file_map.hpp"
#include "opifex/core/convert/extract.hpp"
#include "opifex/core/volumes/iso9660/volume.hpp"
#include "opifex/core/volumes/opera/volume.hpp"
#include "opifex/core/volumes/udf/volume.hpp"

#include "../../src/core/volumes/iso9660/identifiers.hpp"
#include "../../src/core/volumes/names.hpp"
#include "testkit.hpp"

namespace opifex {
namespace {

using testkit::Random;

TEST(IsoNames, VersionsAndLoneDotsGo) {
  EXPECT_EQ(iso_name(as_view("README.TXT;1")), "README.TXT");
  EXPECT_EQ(iso_name(as_view("README.;1")), "README");
  EXPECT_EQ(iso_name(as_view("two.dots.;1")), "two.dots.") << "one dot of several stays";
  EXPECT_EQ(iso_name(as_view("A;B;12345")), "A;B");
  EXPECT_EQ(iso_name(as_view("A;123456")), "A;123456") << "no version has six digits";
  EXPECT_EQ(iso_name(as_view("GR\xD6SSE")), "GRÖSSE") << "Latin-1 where it is no UTF-8";
}

TEST(IsoNames, JolietIsUtf16) {
  EXPECT_EQ(utf16_be_text(as_view(std::string_view("\0G\0r\0\xF6\0\xDF", 8))), "Größ");
  EXPECT_EQ(utf16_be_text(as_view("\xD8\x3D\xDC\x1B")), "\xF0\x9F\x90\x9B") << "a pair";
  EXPECT_EQ(utf16_be_text(as_view(std::string_view("\xD8\x3D\0A", 4))), "%D83DA")
      << "half a pair is shown as its number";
}

TEST(IsoDates, ZonesAndNonsense) {
  const auto date = [](std::initializer_list<int> fields) {
    Bytes b;
    for (const int f : fields) b.push_back(static_cast<std::byte>(f));
    return iso_date7(b);
  };
  EXPECT_EQ(date({70, 1, 1, 0, 0, 0, 0}), 0);
  EXPECT_EQ(date({101, 7, 2, 2, 0, 0, 8}), 994032000) << "two hours east";
  EXPECT_EQ(date({0, 1, 1, 0, 0, 0, 0}), -2208988800) << "1900 was no leap year";
  EXPECT_EQ(date({100, 2, 29, 0, 0, 0, 0}), 951782400) << "2000 was";
  EXPECT_FALSE(date({100, 13, 1, 0, 0, 0, 0}));
  EXPECT_FALSE(date({0, 0, 0, 0, 0, 0, 0}));
  EXPECT_FALSE(date({100, 1, 1, 0, 0, 0, 100}));
}

TEST(SystemUseEntries, ALinkOfSeveralParts) {
  // SL: root, "a", "..", "b" continued by "c"
  const std::string area("SL\x0F\1\0\x08\0\0\1a\4\0\1\1b", 15);
  const std::string next("SL\x08\1\0\0\1c", 8);
  SystemUse use;
  EXPECT_EQ(use.read(as_view(area + next), [](std::uint32_t, Bytes&) { return false; }), nullptr);
  EXPECT_EQ(use.link, "/a/../bc");
}

TEST(SafeNames, AreThoseThatCanBeCreated) {
  for (const char* good : {"A", "a b", "..x", "x..", "Größe"}) EXPECT_TRUE(is_safe_name(good)) << good;
  for (const char* bad : {"", ".", "..", "a/b", "a\\b", "a\nb", "\x7F", "\xFF"}) EXPECT_FALSE(is_safe_name(bad)) << bad;
}

TEST(PathPatterns, FitWholePartsWithoutCase) {
  EXPECT_TRUE(path_fits("DATA", "data/a/b.bin")) << "a folder means all below it";
  EXPECT_TRUE(path_fits("data/*.BIN", "DATA/x.bin"));
  EXPECT_FALSE(path_fits("data/*.BIN", "DATA/SUB/x.bin"));
  EXPECT_TRUE(path_fits("**/*.BIN", "DATA/SUB/x.bin"));
  EXPECT_TRUE(path_fits("**/*.BIN", "x.bin"));
  EXPECT_TRUE(path_fits("/data/", "DATA"));
  EXPECT_FALSE(path_fits("dat", "data"));
  EXPECT_TRUE(path_fits("d?t*a", "daTxxxa"));
  EXPECT_FALSE(path_fits("", "data"));
  EXPECT_FALSE(path_fits("a*b*c", "aXbX"));
}

TEST(IsoIdentifiers, CollisionsGetNumbersAndOwnNamesWin) {
  std::vector<HostName> names;
  for (int i = 0; i < 12; ++i) names.push_back({fmt::format("long name that collides {:02}.bin", i), false});
  names.push_back({"LONG_NAM.BIN", false});
  std::sort(names.begin(), names.end(), [](const HostName& a, const HostName& b) { return a.name < b.name; });
  const auto mapped = map_names(names, NameRule::level1);
  ASSERT_TRUE(mapped);
  std::set<std::string> all;
  for (const IsoIdentifier& id : *mapped) all.insert(std::string(as_text(id.bytes(false))));
  EXPECT_EQ(all.size(), names.size());
  EXPECT_TRUE(all.contains("LONG_NAM.BIN;1"));
  EXPECT_TRUE(all.contains("LONG_000.BIN;1"));
  EXPECT_TRUE(all.contains("LONG_011.BIN;1"));
  std::vector<HostName> many;
  for (int i = 0; i < 1100; ++i) many.push_back({fmt::format("{:08}{}", 0, i), false});
  EXPECT_FALSE(map_names(many, NameRule::level1)) << "a thousand is the end";
}

TEST(IsoIdentifiers, AreOrderedByNameThenExtension) {
  const auto id = [](const char* name) { return (*map_names({{name, false}}, NameRule::relaxed))[0]; };
  EXPECT_TRUE(comes_before(id("A.TXT"), id("A-B.TXT"))) << "although - is below . in ASCII";
  EXPECT_TRUE(comes_before(id("A"), id("A.TX")));
  EXPECT_FALSE(comes_before(id("B"), id("A.TX")));
}

TEST(FileMaps, NameWhatTouchesARange) {
  Image image;
  image.content = BlockContent{.bytes = open_file(testkit::vector_path("iso/plain.iso"))};
  const FileMap map(image);
  EXPECT_EQ(map.hit_by(22, 1), std::vector<std::string>{"DATA.BIN"});
  EXPECT_EQ(map.hit_by(24, 2), (std::vector<std::string>{"DATA.BIN", "EXACT2K.BIN"}));
  EXPECT_EQ(map.hit_by(26, 100).size(), 3u) << "everything behind";
  EXPECT_TRUE(map.hit_by(0, 16).empty()) << "the system area belongs to no file";
  EXPECT_EQ(files_text({"a", "b", "c", "d", "e"}), "a, b, c and 2 more");
}

TEST(VolumeReaders, NoChangeOfAnyByteBreaksThem) {
  Random random(77);
  for (const char* name : {"plain.iso", "joliet.iso", "rockridge.iso", "xa.iso", "multi-extent.iso", "3do.iso"}) {
    const std::string whole = testkit::read_file(testkit::vector_path(std::string("iso/") + name));
    for (int round = 0; round < 300; ++round) {
      Bytes bytes = to_bytes(whole);
      for (int flips = 0; flips < 4; ++flips)
        bytes[random.below(bytes.size())] = static_cast<std::byte>(random.below(256));
      if (round % 5 == 0) bytes.resize(random.below(bytes.size()));
      const SourcePtr disc = memory_source(bytes, name);
      try {
        for (const auto& volume : {read_iso9660(disc, 0), read_opera(disc), read_udf(disc)}) {
          if (!volume) continue;
          for (const VolumeEntry& e : volume->entries)
            if (e.kind == EntryKind::file && e.sound) {
              const SourcePtr file = volume->open(e);
              Bytes head(static_cast<std::size_t>(std::min<std::uint64_t>(file->size(), 4096)));
              file->read_at(0, head);
            }
        }
      } catch (const Error&) {
      }
    }
  }
}

TEST(Volumes, HoweverManyWarningsTheFirstDamageIsTold) {
  for (const Weight worst : {Weight::damage, Weight::cut, Weight::doubt}) {
    Volume volume;
    for (int i = 0; i < 5'000; ++i) volume.tell("odd", i % 2 != 0 ? Weight::note : Weight::warning, "odd");
    EXPECT_FALSE(volume.damaged());
    volume.tell("worst", worst, "at last");
    EXPECT_EQ(volume.damaged(), is_damage(worst));
    EXPECT_TRUE(std::any_of(volume.problems.begin(), volume.problems.end(),
                            [](const VolumeProblem& p) { return p.code == "worst"; }));
    EXPECT_LT(volume.problems.size(), 1'000u) << "and the rest is not worth the memory";
  }
}

}  // namespace
}  // namespace opifex
