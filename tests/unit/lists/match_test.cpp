// How "complete" could be wrong: an entry without its content (a name, a size, a CRC-32 where more is known), one file
// that stands for two entries, a file of one disc given to another, a hash that was not taken, content that is only
// nearly the same.
#include "opifex/core/lists/match.hpp"

#include <gtest/gtest.h>

#include "opifex/core/lists/read_list.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

constexpr std::array kTaken{"crc32", "md5", "sha1"};

ListedView view_of(const Bytes& bytes) {
  ListedView view{.size_bytes = bytes.size(), .hashes = {}};
  for (const char* name : kTaken) view.hashes.push_back({name, digest_of(name, bytes)});
  return view;
}

struct ModelEntry {
  std::string name;
  Bytes content;
};
struct ModelSet {
  std::string name;
  std::vector<ModelEntry> entries;
};

/// Attributes that are left out at random: lists differ in what they have.
std::string rom_line(Random& random, const ModelEntry& e) {
  std::string line = fmt::format("<rom name=\"{}\"", e.name);
  if (random.below(10) != 0) line += fmt::format(" size=\"{}\"", e.content.size());
  const std::uint64_t which = 1 + random.below(7);
  if ((which & 1) != 0) line += fmt::format(" crc=\"{}\"", digest_of("crc32", e.content));
  if ((which & 2) != 0) line += fmt::format(" md5=\"{}\"", digest_of("md5", e.content));
  if ((which & 4) != 0) line += fmt::format(" sha1=\"{}\"", digest_of("sha1", e.content));
  return line + "/>";
}

KnownListPtr list_of(Random& random, const std::vector<ModelSet>& sets) {
  std::string text = "<?xml version=\"1.0\"?><datafile>";
  for (const ModelSet& set : sets) {
    text += fmt::format("<game name=\"{}\">", set.name);
    for (const ModelEntry& e : set.entries) text += rom_line(random, e);
    text += "</game>";
  }
  return read_list(*memory_source(to_bytes(text + "</datafile>"), "list"), "list");
}

/// A few contents that many entries share, as discs share their music.
std::vector<ModelSet> random_sets(Random& random) {
  std::vector<Bytes> shared;
  for (int i = 0; i < 3; ++i) shared.push_back(random.bytes(10 + random.below(3)));
  std::vector<ModelSet> sets;
  for (std::uint64_t s = 0; s < 1 + random.below(8); ++s) {
    ModelSet set{.name = fmt::format("Game {}", s), .entries = {}};
    for (std::uint64_t e = 0; e < 1 + random.below(4); ++e)
      set.entries.push_back({fmt::format("Game {} (Track {}).bin", s, e),
                             random.below(3) == 0 ? shared[random.below(3)] : random.bytes(10 + random.below(3))});
    sets.push_back(set);
  }
  return sets;
}

struct Scene {
  Collection all;
  std::vector<Bytes> contents;  // of the files
  std::vector<bool> whole;      // sets that lie in a folder of their own with nothing amiss

  void add(const std::string& folder, std::size_t unit, const std::string& base, const Bytes& content) {
    CollectedFile file;
    file.path = folder + "/" + base;
    file.base = base;
    file.unit = unit;
    file.views.push_back(view_of(content));
    all.files.push_back(file);
    contents.push_back(content);
  }
};

Scene random_scene(Random& random, const std::vector<ModelSet>& sets) {
  Scene scene;
  for (const ModelSet& set : sets) {
    const std::string folder = random.below(4) == 0 ? fmt::format("x{}", random.below(100)) : set.name;
    const std::size_t unit = scene.all.units.size();
    scene.all.units.push_back(folder);
    bool whole = folder == set.name;
    for (const ModelEntry& e : set.entries) {
      Bytes content = e.content;
      std::string base = e.name;
      switch (random.below(12)) {
        case 0:
          whole = false;
          continue;  // missing
        case 1:
          content[random.below(content.size())] ^= std::byte{1};
          whole = false;
          break;
        case 2:
          content.push_back(std::byte{0});
          whole = false;
          break;
        case 3:
          base = fmt::format("other {}.bin", random.below(1000));
          break;
        case 4:
          scene.add(folder, unit, "copy of " + base, content);
          break;
        default:
          break;
      }
      scene.add(folder, unit, base, content);
    }
    scene.whole.push_back(whole);
  }
  return scene;
}

void expect_true(const KnownList& list, const std::vector<ModelSet>& sets, const Scene& scene, const ListMatch& found) {
  ASSERT_EQ(found.files.size(), scene.contents.size());
  std::map<std::uint32_t, int> uses;
  const auto content_of = [&](std::uint32_t e) -> const Bytes& {
    return sets[list.entries[e].set].entries[e - list.sets[list.entries[e].set].first].content;
  };
  for (std::size_t f = 0; f < found.files.size(); ++f) {
    const FileMatch& m = found.files[f];
    const bool fits = m.verdict == FileVerdict::good || m.verdict == FileVerdict::renamed;
    if (fits || m.verdict == FileVerdict::duplicate) {
      EXPECT_EQ(content_of(*m.entry), scene.contents[f]) << scene.all.files[f].path;
    }
    if (fits) {
      EXPECT_EQ(++uses[*m.entry], 1) << "an entry is met once";
      EXPECT_EQ(m.verdict == FileVerdict::good, list.name(list.entries[*m.entry]) == scene.all.files[f].base);
    }
    if (m.verdict != FileVerdict::unknown && m.verdict != FileVerdict::extra) continue;
    for (const ModelSet& set : sets)
      for (const ModelEntry& e : set.entries) EXPECT_NE(e.content, scene.contents[f]);
  }
  std::uint64_t complete = 0;
  for (const SetMatch& set : found.sets) {
    std::size_t met = 0;
    for (std::size_t i = 0; i < set.entries.size(); ++i)
      met += uses.contains(list.sets[set.set].first + static_cast<std::uint32_t>(i)) ? 1U : 0U;
    EXPECT_EQ(set.verdict == SetVerdict::complete, met == set.entries.size());
    EXPECT_EQ(set.verdict == SetVerdict::partial, met > 0 && met < set.entries.size());
    if (set.verdict == SetVerdict::complete) ++complete;
  }
  EXPECT_EQ(complete, found.totals.contains(SetVerdict::complete) ? found.totals.at(SetVerdict::complete) : 0);
  for (std::uint32_t s = 0; s < sets.size(); ++s) {
    if (!scene.whole[s]) continue;
    const auto at = std::find_if(found.sets.begin(), found.sets.end(), [&](const SetMatch& m) { return m.set == s; });
    ASSERT_NE(at, found.sets.end());
    EXPECT_EQ(at->verdict, SetVerdict::complete) << "all of it lies in its own folder";
  }
}

TEST(Matching, NeverSaysWhatIsNotSo) {
  for (std::uint64_t seed = 1; seed <= 2000; ++seed) {
    SCOPED_TRACE(seed);
    Random random(seed);
    const std::vector<ModelSet> sets = random_sets(random);
    const KnownListPtr list = list_of(random, sets);
    Scene scene = random_scene(random, sets);
    expect_true(*list, sets, scene, match(*list, scene.all));
    if (testing::Test::HasFailure()) return;
  }
}

KnownListPtr one_entry(const std::string& attributes) {
  const std::string text =
      "<?xml version=\"1.0\"?><datafile><game name=\"g\"><rom name=\"a.bin\" " + attributes + "/></game></datafile>";
  return read_list(*memory_source(to_bytes(text), "list"), "list");
}

TEST(Matching, ASizeAloneOrAHashThatWasNotTakenMeetsNothing) {
  const Bytes content = to_bytes("abc");
  Collection all{.units = {"g"}, .files = {}, .pieces = {}};
  all.files.push_back({.path = "g/a.bin", .base = "a.bin", .unit = 0, .views = {view_of(content)}});
  EXPECT_EQ(match(*one_entry("size=\"3\""), all).files[0].verdict, FileVerdict::extra);
  EXPECT_EQ(match(*one_entry("size=\"3\""), all).totals.at(SetVerdict::unverifiable), 1U);
  const std::string sha256 = digest_of("sha256", content);
  EXPECT_EQ(match(*one_entry("size=\"3\" sha256=\"" + sha256 + "\""), all).files[0].verdict, FileVerdict::bad)
      << "its SHA-256 was not taken";
  EXPECT_EQ(match(*one_entry("size=\"3\" crc=\"352441c2\""), all).files[0].by, "crc32");
  EXPECT_EQ(match(*one_entry("size=\"4\" crc=\"352441c2\""), all).files[0].reason, BadReason::size);
  EXPECT_EQ(match(*one_entry("crc=\"352441c2\" sha1=\"" + std::string(40, '0') + "\""), all).files[0].verdict,
            FileVerdict::bad)
      << "the CRC-32 is equal, the SHA-1 is not";
  EXPECT_EQ(match(*one_entry("crc=\"352441c2\" status=\"nodump\""), all).files[0].verdict, FileVerdict::extra)
      << "nobody has dumped it: there is nothing to be equal to";
}

TEST(Matching, VeryManyFilesOfOneContentCostLittle) {
  std::string text = "<?xml version=\"1.0\"?><datafile>";
  for (int i = 0; i < 3000; ++i)
    text += fmt::format("<game name=\"g{0}\"><rom name=\"z{0}.bin\" size=\"0\" crc=\"00000000\"/></game>", i);
  const KnownListPtr list = read_list(*memory_source(to_bytes(text + "</datafile>"), "list"), "list");
  Collection all{.units = {"u"}, .files = {}, .pieces = {}};
  for (int i = 0; i < 3000; ++i) {
    const std::string base = fmt::format("z{}.bin", i);
    all.files.push_back({.path = fmt::format("u/{:04}", i), .base = base, .unit = 0, .views = {view_of({})}});
  }
  const ListMatch found = match(*list, all);
  EXPECT_EQ(found.totals.at(SetVerdict::complete), 3000U) << "each has an entry of its own name";
}

}  // namespace
}  // namespace opifex
