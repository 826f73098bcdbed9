// Floppies and memory cards as their owners change them: whatever goes wrong, the old image or the new one is there.
#include <sys/resource.h>
#include <sys/stat.h>

#include "program.hpp"
#include "running.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class EditCommand : public Program {
 protected:
  void fetch(const std::string& vector) {
    write_file(*this / fs::path(vector).filename().stem().string(), gunzip(vector_path(vector)));
  }
  void make_floppy() {
    write_file(*this / "tree/readme", "Nine Bells Harbor\n");
    write_file(*this / "tree/Music/tune", std::string(60'000, 't'));
    ASSERT_EQ(cli({"build", "tree", "--as", "adf", "--out", "d.adf", "--label", "Harbor", "--fixed-dates"}).exit_code,
              0);
  }
  json files(const std::string& image) { return json::parse(cli({"files", image, "--json"}).out)["results"][0]; }
  std::vector<std::string> paths(const std::string& image) {
    std::vector<std::string> all;
    const json listed = files(image);
    for (const json& e : listed["entries"]) all.push_back(e["path"]);
    std::sort(all.begin(), all.end());
    return all;
  }
  /// Nothing of the kind that a job leaves when it is stopped.
  void expect_no_rest() {
    for (const auto& [name, size] : listing(folder.path())) EXPECT_FALSE(contains(name, "opifex-part")) << name;
  }
};

TEST_F(EditCommand, PutAndDropAreOneChangeAndNothingElseMoves) {
  make_floppy();
  write_file(*this / "late.mod", std::string(5000, 'l'));
  const std::string before = read_file(*this / "d.adf");
  const Outcome plan = cli({"put", "d.adf", "late.mod", "--at", "Music", "--drop", "readme", "--plan"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  EXPECT_TRUE(contains(plan.out, "11 blocks") && contains(plan.out, "gives back 2 blocks")) << plan.out;
  EXPECT_EQ(read_file(*this / "d.adf"), before) << "a plan writes nothing";
  const Outcome done = cli({"put", "d.adf", "late.mod", "--at", "Music", "--drop", "readme", "--json"});
  ASSERT_EQ(done.exit_code, 0) << done.err;
  EXPECT_EQ(paths("d.adf"), (std::vector<std::string>{"Music", "Music/late.mod", "Music/tune"}));
  const std::string after = read_file(*this / "d.adf");
  ASSERT_EQ(after.size(), before.size());
  std::uint64_t differing = 0;
  for (std::size_t i = 0; i < after.size(); ++i) differing += after[i] != before[i] ? 1U : 0U;
  const json told = json::parse(done.out)["results"][0];
  EXPECT_EQ(told["changed_bytes"], differing);
  EXPECT_LE(told["changed_blocks"].get<int>(), 11 + 4) << "the file, its folder, the root, the bitmap";
  EXPECT_EQ(cli({"check", "d.adf"}).exit_code, 0);
  expect_no_rest();
}

TEST_F(EditCommand, WhatDoesNotFitIsRefusedAsAWholeAndInNumbers) {
  make_floppy();
  write_file(*this / "small", "x");
  write_file(*this / "large", std::string(890'000, 'L'));
  const std::string before = read_file(*this / "d.adf");
  const Outcome full = cli({"put", "d.adf", "small", "large"});
  EXPECT_EQ(full.exit_code, 4);
  EXPECT_TRUE(contains(full.err, "1 633 blocks free, expected 1 766")) << full.err;
  EXPECT_EQ(read_file(*this / "d.adf"), before);
  // With what goes in the same call it may fit.
  write_file(*this / "fits", std::string(850'000, 'F'));
  EXPECT_EQ(cli({"put", "d.adf", "fits"}).exit_code, 4);
  EXPECT_EQ(cli({"put", "d.adf", "fits", "--drop", "Music", "--with-all"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "d.adf"}).exit_code, 0);
}

TEST_F(EditCommand, NamesThatCannotBeAreRefusedWithOneThatCan) {
  make_floppy();
  const std::string before = read_file(*this / "d.adf");
  const std::string longest(31, 'n');
  for (const std::string& name : {longest + ".mod", std::string("a:b"), std::string("日本")}) {
    write_file(*this / name, "x");
    const Outcome refused = cli({"put", "d.adf", name});
    EXPECT_EQ(refused.exit_code, 2) << name << refused.err;
    EXPECT_TRUE(contains(refused.err, "for example")) << refused.err;
  }
  write_file(*this / "README", "other");
  const Outcome exists = cli({"put", "d.adf", "README"});
  EXPECT_EQ(exists.exit_code, 4) << "case does not tell names apart on a floppy";
  EXPECT_TRUE(contains(exists.err, "--overwrite")) << exists.err;
  EXPECT_EQ(read_file(*this / "d.adf"), before);
  EXPECT_EQ(cli({"put", "d.adf", "README", "--overwrite"}).exit_code, 0);
  EXPECT_EQ(cli({"put", "d.adf", "README", "--name", "Readme 2"}).exit_code, 0);
  EXPECT_EQ(paths("d.adf").size(), 4u);
}

TEST_F(EditCommand, PathsMayBeWrittenAsPeopleWriteThem) {
  make_floppy();
  write_file(*this / "late.mod", "late");
  for (const std::vector<std::string>& words : {std::vector<std::string>{"put", "d.adf", "late.mod", "--at", "/music/"},
                                                {"drop", "d.adf", "Music//LATE.mod"},
                                                {"edit", "d.adf", "--folder", "New/", "--move", "/README=new/Read Me/"},
                                                {"edit", "d.adf", "--move", "New=Renamed", "--move",
                                                 "renamed/read me=/plain", "--drop", "/Music/", "--with-all"}}) {
    const Outcome outcome = cli(words);
    EXPECT_EQ(outcome.exit_code, 0) << words[0] << outcome.err;
  }
  EXPECT_EQ(paths("d.adf"), (std::vector<std::string>{"Renamed", "plain"}));
  // Names that hold what parts paths here: shown as their code, and taken as they are shown or as they are.
  fetch("memcard/moth.single.gz");
  ASSERT_EQ(cli({"build", "--as", "ps1-card", "--out", "c.card"}).exit_code, 0);
  ASSERT_EQ(cli({"put", "c.card", "moth.single", "--name", "BE/PRXS\\1"}).exit_code, 0);
  EXPECT_EQ(paths("c.card"), (std::vector<std::string>{"BE\\x2FPRXS\\x5C1"}));
  ASSERT_EQ(cli({"edit", "c.card", "--move", "BE\\x2FPRXS\\x5C1=BE/OTHER-00001"}).exit_code, 0);
  EXPECT_EQ(cli({"drop", "c.card", "BE/OTHER-00001"}).exit_code, 0);
  ASSERT_EQ(cli({"build", "--as", "3do-nvram", "--out", "n.nvram"}).exit_code, 0);
  ASSERT_EQ(cli({"put", "n.nvram", "late.mod", "--name", "a\\b"}).exit_code, 0);
  ASSERT_EQ(cli({"edit", "n.nvram", "--move", "A\\B=c\\d"}).exit_code, 0);
  EXPECT_EQ(cli({"drop", "n.nvram", "c\\x5Cd"}).exit_code, 0);
}

TEST_F(EditCommand, MistakesChangeNothingAndSayWhatToDo) {
  make_floppy();
  const std::string before = read_file(*this / "d.adf");
  const std::vector<std::pair<std::vector<std::string>, int>> mistakes = {
      {{"put", "d.adf"}, 2},
      {{"put", "d.adf", "nothing.there"}, 3},
      {{"drop", "d.adf", "nothing"}, 2},
      {{"drop", "d.adf", "Music"}, 3},
      {{"edit", "d.adf"}, 2},
      {{"edit", "d.adf", "--move", "readme"}, 2},
      {{"edit", "d.adf", "--move", "Music=Music/inside"}, 3},
      {{"edit", "d.adf", "--protect", "readme=rw"}, 2},
      {{"edit", "d.adf", "--undelete", "readme"}, 2},
      {{"edit", "d.adf", "--card", "2", "--folder", "x"}, 2},
      {{"edit", "d.adf", "--boot", "d.adf"}, 2},
      {{"put", "d.adf", "tree/readme", "--at", "Nowhere"}, 3},
      {{"put", "d.adf", "tree/readme", "--at", "readme"}, 3},
      {{"put", "tree", "tree/readme"}, 2},
      {{"put", "missing.adf", "tree/readme"}, 3}};
  for (const auto& [words, exit_code] : mistakes) {
    const Outcome outcome = cli(words);
    EXPECT_EQ(outcome.exit_code, exit_code) << words[0] << " " << words.back() << "\n" << outcome.err;
    EXPECT_FALSE(outcome.err.empty());
    EXPECT_EQ(read_file(*this / "d.adf"), before) << words[0] << " " << words.back();
  }
}

TEST_F(EditCommand, OnlyAWholeSoundImageIsChanged) {
  write_file(*this / "x", "x");
  for (const char* name : {"damaged-bitmap", "damaged-hash-loop", "damaged-data-checksum", "damaged-root-checksum",
                           "damaged-truncated", "custom-nodos", "custom-dosboot", "extended"}) {
    fetch(std::string("floppycart/") + name + ".adf.gz");
    const std::string image = std::string(name) + ".adf", before = read_file(*this / image);
    const Outcome outcome = cli({"put", image, "x"});
    EXPECT_EQ(outcome.exit_code, 3) << image << outcome.out << outcome.err;
    EXPECT_EQ(read_file(*this / image), before) << image;
  }
  fs::copy_file(vector_path("floppycart/tree-ffs.adf.gz"), *this / "packed.adz");
  EXPECT_EQ(cli({"put", "packed.adz", "x"}).exit_code, 3);
  write_file(*this / "disc.iso", gunzip(vector_path("iso/udf-2.50.iso.gz")));
  EXPECT_TRUE(contains(cli({"put", "disc.iso", "x"}).err, "not into this"));
}

TEST_F(EditCommand, AnImageThatMayNotBeWrittenIsNot) {
  make_floppy();
  if (::geteuid() == 0) GTEST_SKIP() << "root may write everything";
  fs::permissions(*this / "d.adf", fs::perms::owner_read);
  const std::string before = read_file(*this / "d.adf");
  EXPECT_EQ(cli({"put", "d.adf", "tree/readme", "--name", "new"}).exit_code, 4);
  EXPECT_EQ(read_file(*this / "d.adf"), before);
}

TEST_F(EditCommand, ALinkStaysOneAndPermissionsStay) {
  make_floppy();
  fs::create_directory(*this / "real");
  fs::rename(*this / "d.adf", *this / "real/d.adf");
  fs::permissions(*this / "real/d.adf", fs::perms::owner_read | fs::perms::owner_write | fs::perms::group_read);
  fs::create_symlink("real/d.adf", *this / "d.adf");
  ASSERT_EQ(cli({"put", "d.adf", "tree/readme", "--name", "new"}).exit_code, 0);
  EXPECT_TRUE(fs::is_symlink(*this / "d.adf"));
  EXPECT_EQ(fs::status(*this / "real/d.adf").permissions(),
            fs::perms::owner_read | fs::perms::owner_write | fs::perms::group_read);
  EXPECT_EQ(paths("real/d.adf").size(), 4u);
}

TEST_F(EditCommand, FactsGoOutAndComeInAgain) {
  fetch("floppycart/tree-ffs-intl.adf.gz");
  const json before = files("tree-ffs-intl.adf")["entries"];
  ASSERT_EQ(cli({"extract", "tree-ffs-intl.adf", "--into", "out", "--check"}).exit_code, 0);
  ASSERT_TRUE(fs::exists(*this / "out/opifex-files.toml"));
  ASSERT_EQ(cli({"build", "out", "--as", "adf", "--kind", "ffs-intl", "--out", "again.adf"}).exit_code, 0);
  const json after = files("again.adf")["entries"];
  ASSERT_EQ(after.size(), before.size());
  for (std::size_t i = 0; i < before.size(); ++i) {
    SCOPED_TRACE(before[i]["path"].get<std::string>());
    for (const char* key : {"path", "kind", "size_bytes", "modified"}) EXPECT_EQ(after[i][key], before[i][key]) << key;
    for (const char* key : {"comment", "protection_bits", "hundredths"})
      EXPECT_EQ(after[i]["facts"][key], before[i]["facts"][key]) << key;
  }
  EXPECT_EQ(cli({"check", "again.adf", "--same-as", "out"}).exit_code, 0);
}

TEST_F(EditCommand, HostileNamesNeverLeaveTheFolderAndComeBackAsTheyWere) {
  fetch("floppycart/hostile-names.adf.gz");
  ASSERT_EQ(cli({"extract", "hostile-names.adf", "--into", "out"}).exit_code, 0);
  const json names = vector_json("floppycart/expected.json")["files"]["hostile-names.adf.gz"]["host_names"];
  for (const auto& [inside, host] : names.items())
    EXPECT_TRUE(fs::exists(*this / ("out/" + host.get<std::string>()))) << host;
  std::size_t count = 0;
  for (const auto& entry : fs::recursive_directory_iterator(*this / "out")) count += entry.is_regular_file() ? 1U : 0U;
  EXPECT_EQ(count, 10u + 1) << "each file, and the list";
  ASSERT_EQ(cli({"build", "out", "--as", "adf", "--out", "again.adf"}).exit_code, 0);
  EXPECT_EQ(paths("again.adf"), paths("hostile-names.adf"));
  // Of cards, too: hosts get what the vectors say.
  fetch("memcard/damaged-name-form-slash.card.gz");
  cli({"extract", "damaged-name-form-slash.card", "--into", "saves"});
  const json saves = vector_json("memcard/expected.json")["files"]["damaged-name-form-slash.card"]["saves"];
  for (const json& save : saves)
    EXPECT_TRUE(fs::exists(*this / ("saves/" + save["host_name"].get<std::string>() + ".single"))) << save["host_name"];
}

TEST_F(EditCommand, WhatIsDamagedComesOutOnlyWhenItIsAskedFor) {
  fetch("floppycart/damaged-data-checksum.adf.gz");
  const Outcome without = cli({"extract", "damaged-data-checksum.adf", "--into", "out"});
  EXPECT_EQ(without.exit_code, 1);
  EXPECT_TRUE(contains(without.out, "cannot be read whole")) << without.out;
  EXPECT_FALSE(fs::exists(*this / "out/Games/big.dat"));
  EXPECT_EQ(cli({"extract", "damaged-data-checksum.adf", "--into", "out", "--damaged"}).exit_code, 1);
  EXPECT_EQ(fs::file_size(*this / "out/Games/big.dat"), 100'003u);
}

TEST_F(EditCommand, ChecksTellEachDamageAndMendWhatCanBe) {
  const json all = vector_json("floppycart/expected.json")["files"];
  const std::set<std::string> mended = {"damaged-bitmap",   "damaged-bitmap-checksum", "damaged-bitmap-pointer",
                                        "damaged-dir-loop", "damaged-hash-bucket",     "damaged-hash-loop",
                                        "damaged-parent",   "damaged-root-checksum"};
  for (const auto& [name, facts] : all.items()) {
    if (!name.starts_with("damaged-") || !name.ends_with(".adf.gz") || facts["status"] != "damaged") continue;
    fetch("floppycart/" + name);
    const std::string image = fs::path(name).stem().string(), stem = fs::path(image).stem().string();
    SCOPED_TRACE(image);
    const std::string before = read_file(*this / image);
    const json checked = json::parse(cli({"check", image, "--json"}).out)["results"][0];
    EXPECT_NE(checked["verdict"], "intact");
    for (const json& must : facts["must_report"]) {
      std::string code = must["code"];
      std::replace(code.begin(), code.end(), '-', '_');
      EXPECT_TRUE(std::any_of(checked["findings"].begin(), checked["findings"].end(), [&](const json& f) {
        return f["code"] == code;
      })) << code;
    }
    const Outcome repair = cli({"check", image, "--repair", "--out", "mended-" + image});
    EXPECT_EQ(repair.exit_code == 0, mended.contains(stem)) << repair.exit_code << repair.out << repair.err;
    EXPECT_EQ(read_file(*this / image), before) << "the input is never touched";
    if (!mended.contains(stem)) continue;
    EXPECT_EQ(cli({"check", "mended-" + image}).exit_code, 0);
    EXPECT_EQ(cli({"put", "mended-" + image, image, "--name", "x"}).exit_code, 4)
        << "it can be changed: it is only full";
  }
}

TEST_F(EditCommand, LostFilesComeBackIntoTheirFolder) {
  fetch("floppycart/tree-ofs.adf.gz");
  std::string image = read_file(*this / "tree-ofs.adf");
  const std::vector<std::string> before = paths("tree-ofs.adf");
  // All chains of the root are gone, as after a bad write of one block; its checksum is made right again.
  const std::size_t root = 880 * 512;
  image.replace(root + 24, 72 * 4, std::string(72 * 4, '\0'));
  Bytes block = to_bytes(image.substr(root, 512));
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 512; i += 4) sum += i == 20 ? 0 : load_be32(block, i);
  store_be32(block, 20, 0 - sum);
  image.replace(root, 512, std::string(as_text(block)));
  write_file(*this / "lost.adf", image);
  ASSERT_TRUE(paths("lost.adf").empty());
  const Outcome repair = cli({"check", "lost.adf", "--repair", "--out", "found.adf"});
  EXPECT_EQ(repair.exit_code, 0) << repair.out << repair.err;
  EXPECT_EQ(paths("found.adf"), before);
}

TEST_F(EditCommand, CardsKeepTheirFormerVersions) {
  fetch("memcard/four.card.gz");
  fetch("memcard/brass.bare.gz");
  const std::string before = read_file(*this / "four.card");
  ASSERT_EQ(cli({"put", "four.card", "brass.bare", "--name", "BEPRXS-00105B"}).exit_code, 0);
  ASSERT_EQ(cli({"drop", "four.card", "BEPRXS-00101S00"}).exit_code, 0);
  const json now = files("four.card");
  ASSERT_EQ(now["deleted"].size(), 1u);
  EXPECT_EQ(now["deleted"][0]["restorable"], true);
  ASSERT_EQ(cli({"edit", "four.card", "--undelete", "BEPRXS-00101S00"}).exit_code, 0);
  EXPECT_EQ(paths("four.card").size(), 5u);
  const json history = json::parse(cli({"save", "history", "four.card", "--json"}).out)["results"][0];
  EXPECT_EQ(history["versions"].size(), 3u);
  ASSERT_EQ(cli({"save", "restore", "four.card", "--version", "1"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "four.card"), before);
  ASSERT_EQ(cli({"drop", "four.card", "BEPRXS-00101S00", "--keep-old", "no"}).exit_code, 0);
  EXPECT_EQ(listing(*this / "four.card.history").size(), 4u + 1) << "three, the one before restoring, and the list";
}

TEST_F(EditCommand, SavesBecomeCardsAndCardsSaves) {
  fetch("memcard/moth.single.gz");
  fetch("memcard/brass.bare.gz");
  const std::string moth_save = read_file(*this / "moth.single");
  ASSERT_EQ(cli({"convert", "moth.single", "--to", "ps1-card", "--out", "m.card", "--prove"}).exit_code, 0);
  ASSERT_EQ(cli({"convert", "m.card", "--to", "ps1-single", "--out", "back.single", "--prove"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "back.single"), moth_save);
  fs::rename(*this / "brass.bare", *this / "BEPRXS-00104B.bare");
  ASSERT_EQ(cli({"put", "m.card", "BEPRXS-00104B.bare"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "m.card", "--to", "ps1-single", "--out", "two.single"}).exit_code, 3)
      << "which of the two?";
  ASSERT_EQ(cli({"extract", "m.card", "--into", "saves"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "saves/BEPRXS-00101S00.single"), moth_save);
  EXPECT_EQ(cli({"check", "m.card", "--same-as", "saves"}).exit_code, 0);
  ASSERT_EQ(cli({"build", "saves", "--as", "ps1-card", "--out", "again.card"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "again.card", "--same-as", "m.card"}).exit_code, 0);
}

TEST_F(EditCommand, ComparingSaysWhatDiffers) {
  const json comparisons = vector_json("memcard/expected.json")["comparisons"];
  for (const json& one : comparisons) {
    SCOPED_TRACE(one["note"].get<std::string>());
    const std::string a = one["a"], b = one["b"];
    for (const std::string& name : {a, b})
      if (!fs::exists(*this / name)) fetch("memcard/" + name + ".gz");
    const Outcome outcome = cli({"check", a, "--same-as", b, "--json"});
    EXPECT_EQ(outcome.exit_code == 0, one["same_saves"].get<bool>());
    std::set<std::string> extra, missing, different;
    const json told = json::parse(outcome.out)["results"][0];
    for (const json& d : told["differences"]) {
      (d["kind"] == "extra" ? extra : d["kind"] == "missing" ? missing : different).insert(d["path"]);
      if (d["kind"] != "different") continue;
      const json& changed = one["changed"][0];
      EXPECT_EQ(d["detail"], fmt::format("{} bytes in {} ranges, from byte {} on", changed["bytes"].get<int>(),
                                         changed["ranges"].size(), changed["ranges"][0][0].get<int>()));
    }
    std::set<std::string> only_a, only_b, changed;
    for (const json& s : one["only_a"]) only_a.insert(s["name"]);
    for (const json& s : one["only_b"]) only_b.insert(s["name"]);
    for (const json& s : one["changed"]) changed.insert(s["name"]);
    EXPECT_EQ(extra, only_a);
    EXPECT_EQ(missing, only_b);
    EXPECT_EQ(different, changed);
  }
}

TEST_F(EditCommand, AnotherBootBlockIsNotTheSameFloppy) {
  make_floppy();
  fs::copy_file(*this / "d.adf", *this / "other.adf");
  EXPECT_EQ(cli({"check", "d.adf", "--same-as", "other.adf"}).exit_code, 0);
  ASSERT_EQ(cli({"edit", "other.adf", "--boot", "standard"}).exit_code, 0);
  const Outcome differs = cli({"check", "d.adf", "--same-as", "other.adf"});
  EXPECT_EQ(differs.exit_code, 1);
  EXPECT_TRUE(contains(differs.out, "boot block")) << differs.out;
  ASSERT_EQ(cli({"edit", "other.adf", "--boot", "none"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "d.adf"), read_file(*this / "other.adf"));
}

TEST_F(EditCommand, PackedFloppiesAreReadAndFoldersBecomeFloppies) {
  fs::copy_file(vector_path("floppycart/tree-ffs.adf.gz"), *this / "tree.adz");
  EXPECT_EQ(paths("tree.adz").size(), 19u);
  ASSERT_EQ(cli({"convert", "tree.adz", "--to", "adf", "--out", "tree.adf", "--prove"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "tree.adf"), gunzip(vector_path("floppycart/tree-ffs.adf.gz")));
  ASSERT_EQ(cli({"convert", "tree.adf", "--to", "folder"}).exit_code, 0);
  ASSERT_EQ(cli({"convert", "tree", "--to", "adf", "--out", "again.adf"}).exit_code, 0);
  EXPECT_EQ(paths("again.adf"), paths("tree.adf"));
  fs::create_directory(*this / "box");
  fs::copy_file(*this / "tree.adf", *this / "box/a.adf");
  fs::copy_file(*this / "again.adf", *this / "box/b.adf");
  ASSERT_EQ(cli({"extract", "box", "--into", "all"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "all/a/zero") && fs::exists(*this / "all/b/zero"));
}

TEST_F(EditCommand, SavesAreOfTheGameWithTheirCode) {
  make_workshop();
  fetch("memcard/four.card.gz");
  const json listed = json::parse(cli({"files", "four.card", "--games", ".", "--json"}).out)["results"][0];
  std::map<std::string, json> games;
  for (const json& e : listed["entries"]) games[e["facts"]["game_code"]] = e["game"];
  const json identified = json::parse(cli({"identify", moth, "--json"}).out)["results"][0];
  for (const auto& [code, game] : games)
    EXPECT_EQ(!game.is_null(), code == identified["serial"] || contains(game.dump(), ".")) << code << game;
}

TEST_F(EditCommand, KilledAtAnyMomentTheOldOrTheNewImageIsThere) {
  make_floppy();
  write_file(*this / "late", std::string(200'000, 'L'));
  const std::string before = read_file(*this / "d.adf");
  ASSERT_EQ(cli({"put", "d.adf", "late", "--plan"}).exit_code, 0);
  Random random(41);
  int killed = 0, done = 0;
  for (int round = 0; round < 60; ++round) {
    write_file(*this / "d.adf", before);
    const Running running(folder.path(), {"put", "d.adf", "late", "--keep-old"});
    ::usleep(static_cast<useconds_t>(random.below(25'000)));
    running.kill(SIGKILL);
    (running.wait() < 0 ? killed : done) += 1;
    const std::string now = read_file(*this / "d.adf");
    if (now == before) continue;
    ASSERT_EQ(paths("d.adf").size(), 4u) << "round " << round;
    ASSERT_EQ(cli({"check", "d.adf"}).exit_code, 0) << "round " << round;
  }
  EXPECT_GT(killed, 5);
  // What was left behind is in nobody's way.
  write_file(*this / "d.adf", before);
  EXPECT_EQ(cli({"put", "d.adf", "late"}).exit_code, 0);
  EXPECT_EQ(paths("d.adf").size(), 4u);
}

TEST_F(EditCommand, AFullDriveLeavesTheOldImage) {
  make_floppy();
  const std::string before = read_file(*this / "d.adf");
  // No file may grow beyond this: the copy is cut in the middle.
  rlimit old{};
  ::getrlimit(RLIMIT_FSIZE, &old);
  const rlimit tight{500'000, old.rlim_max};
  ::signal(SIGXFSZ, SIG_IGN);
  ::setrlimit(RLIMIT_FSIZE, &tight);
  const Outcome outcome = cli({"put", "d.adf", "tree/readme", "--name", "new"});
  ::setrlimit(RLIMIT_FSIZE, &old);
  EXPECT_EQ(outcome.exit_code, 5) << outcome.err;
  EXPECT_EQ(read_file(*this / "d.adf"), before);
  expect_no_rest();
}

TEST_F(EditCommand, IconsAreDrawn) {
  fetch("memcard/four.card.gz");
  const Outcome outcome = cli({"files", "four.card", "--report", "report"});
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  for (const char* name : {"icons.png", "icons.svg", "icons.dat", "icons.gp"})
    EXPECT_GT(fs::file_size(*this / ("report/" + std::string(name))), 500u) << name;
  fetch("memcard/six.nvram.gz");
  EXPECT_EQ(cli({"files", "six.nvram", "--report", "none"}).exit_code, 0);
  EXPECT_FALSE(fs::exists(*this / "none/icons.png")) << "its saves have none";
}

}  // namespace
}  // namespace opifex::testkit
