// Every version of a save that was ever stored, against a model that remembers them; lists that lie.
#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/jobs/patch.hpp"
#include "opifex/core/jobs/save.hpp"

#include "testkit.hpp"

namespace opifex::jobs {
namespace {

using namespace testkit;

TEST(SaveHistories, KeepWhateverWasStoredInItsOrder) {
  Random random(101);
  for (int round = 0; round < 10; ++round) {
    const TempFolder folder;
    const SaveHistory history(folder / "a.sav", {});
    std::vector<Bytes> model;
    for (int i = 0; i < 25; ++i) {
      // Sometimes one that was stored before, sometimes the very last one.
      const std::uint64_t how = random.below(4);
      const Bytes bytes = model.empty() || how > 1 ? random.bytes(1 + random.below(300))
                          : how == 1               ? model[random.below(model.size())]
                                                   : model.back();
      const SaveVersion stored = history.store(bytes, fmt::format("step {}", i));
      EXPECT_EQ(stored.sha1, digest_of("sha1", bytes));
      EXPECT_EQ(to_bytes(read_file(stored.file)), bytes);
      if (model.empty() || model.back() != bytes) model.push_back(bytes);
    }
    const std::vector<SaveVersion> all = history.versions();
    ASSERT_EQ(all.size(), model.size());
    for (std::size_t i = 0; i < all.size(); ++i) {
      EXPECT_TRUE(all[i].sound);
      EXPECT_EQ(to_bytes(read_file(all[i].file)), model[i]) << i;
      EXPECT_EQ(all[i].size_bytes, model[i].size());
    }
  }
}

TEST(SaveHistories, DamageAndAbsenceShowAndNothingElseIsTouched) {
  const TempFolder folder;
  const SaveHistory history(folder / "a.sav", folder / "elsewhere");
  EXPECT_TRUE(history.versions().empty());
  for (const char* text : {"one", "two", "three"}) history.store(as_view(text), text);
  std::vector<SaveVersion> all = history.versions();
  ASSERT_EQ(all.size(), 3u);
  flip_byte(all[0].file, 1);
  fs::remove(all[1].file);
  all = history.versions();
  EXPECT_FALSE(all[0].sound);
  EXPECT_FALSE(all[1].sound);
  EXPECT_TRUE(all[2].sound);
  // The newest is damaged: the same bytes are a version of their own again.
  flip_byte(all[2].file, 1);
  history.store(as_view("three"), "again");
  EXPECT_EQ(history.versions().size(), 4u);
  EXPECT_TRUE(history.versions().back().sound);
}

TEST(SaveHistories, AListFromOutsideNamesNoFileElsewhere) {
  const TempFolder folder;
  write_file(folder / "secret", "not a save");
  const SaveHistory history(folder / "a.sav", {});
  const auto with = [&](const std::string& list) {
    write_file(folder / "a.sav.history/versions.toml", list);
    return error_code([&] { history.versions(); });
  };
  EXPECT_EQ(with("[[version]]\nfile = \"../secret\"\nsha1 = \"00\"\n"), "bad_history");
  EXPECT_EQ(with("[[version]]\nfile = \"/etc/passwd\"\n"), "bad_history");
  EXPECT_EQ(with("[[version]]\nsha1 = \"00\"\n"), "bad_history");
  EXPECT_EQ(with("version = 5\n"), "bad_history");
  EXPECT_EQ(with("not a list"), "bad_history");
  // And what is there is not thrown away for it.
  EXPECT_EQ(error_code([&] { history.store(as_view("x"), "x"); }), "bad_history");
  EXPECT_EQ(read_file(folder / "a.sav.history/versions.toml"), "not a list");
}

TEST(ReplacedFiles, AreKeptUnderANameThatWasFree) {
  const TempFolder folder;
  write_file(folder / "game.gb", "version 0");
  std::set<fs::path> kept;
  for (int i = 1; i <= 5; ++i) {
    const std::string next = fmt::format("version {}", i);
    const fs::path old = write_change(folder / "game.gb", folder / "game.gb", as_view(next), {.replace = true});
    EXPECT_TRUE(kept.insert(old).second) << old;
    EXPECT_EQ(read_file(old), fmt::format("version {}", i - 1));
    EXPECT_EQ(read_file(folder / "game.gb"), next);
  }
  for (const fs::path& old : kept) EXPECT_EQ(old.extension(), ".gb");
  EXPECT_EQ(listing(folder.path()).size(), 6u);
  ChangeRules rules;
  rules.inputs.add(folder / "game.gb");
  EXPECT_EQ(error_code([&] { write_change(folder / "game.gb", folder / "game.gb", as_view("x"), rules); }),
            "output_is_input");
}

class Heard final : public Listener {
 public:
  using Listener::result;
  void result(const Changed& changed) override { last = changed; }
  void result(const PatchTold& patch) override { ++patches, kind = patch.facts.kind; }
  void failed(const Error&) override { ++failures; }
  Changed last;
  int patches = 0, failures = 0;
  PatchKind kind = PatchKind::ips;
};

TEST(PatchJobs, SayWhatTheyChangedAndStopAtNothingOfTheOthers) {
  const TempFolder folder;
  QuietContext context;
  Heard heard;
  Random random(102);
  const Bytes before = random.bytes(5000);
  Bytes after = before;
  after[77] ^= std::byte{1};
  after.resize(5100, std::byte{9});
  write_file(folder / "before", as_text(before));
  write_file(folder / "after", as_text(after));
  run(PatchMakeJob{folder / "before", folder / "after", PatchKind::ups, {.out = folder / "p.ups"}}, heard, context);
  EXPECT_EQ(heard.last.bytes_changed, 101u);
  EXPECT_EQ(heard.last.sha1, digest_of("sha1", as_view(read_file(folder / "p.ups"))));
  write_file(folder / "nonsense", "no patch");
  const Outcome outcome =
      run(PatchIdentifyJob{{(folder / "nonsense").string(), (folder / "p.ups").string()}}, heard, context);
  EXPECT_EQ(outcome.failures.size(), 1u);
  EXPECT_EQ(heard.patches, 1);
  EXPECT_EQ(heard.failures, 1);
  EXPECT_EQ(heard.kind, PatchKind::ups);
  run(PatchApplyJob{folder / "p.ups", folder / "after", {}, {.out = folder / "back"}}, heard, context);
  EXPECT_EQ(heard.last.what, "turned back");
  EXPECT_EQ(to_bytes(read_file(folder / "back")), before);
}

TEST(PatchJobs, SeveralReplacementsAreOneChange) {
  const TempFolder folder;
  QuietContext context;
  Heard heard;
  write_file(folder / "a", "one two one");
  run(ReplaceJob{folder / "a",
                 {parse_replacement("two=TWO", false), parse_replacement("TWO=SIX", false)},
                 1,
                 {.out = folder / "b"}},
      heard, context);
  EXPECT_EQ(read_file(folder / "b"), "one SIX one") << "one after the other";
  ASSERT_EQ(heard.last.replaced.size(), 2u);
  EXPECT_EQ(heard.last.replaced[0].offsets, std::vector<std::uint64_t>{4});
  EXPECT_EQ(heard.last.replaced[0].context[0], "one two one");
  EXPECT_EQ(
      error_code([&] {
        run(ReplaceJob{folder / "a", {parse_replacement("one=ONE", false)}, 1, {.out = folder / "c"}}, heard, context);
      }),
      "other_count");
  EXPECT_FALSE(fs::exists(folder / "c"));
}

}  // namespace
}  // namespace opifex::jobs
