// Names out of known lists. What could go wrong: a name given to something else, a file that is overwritten, a sheet
// that no longer opens, a set half renamed by an interruption, a path out of a list.
#include "opifex/core/base/hash.hpp"
#include "opifex/demo/workshop.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;
using Names = std::map<std::string, std::string>;  // and hashes

class RenameBy : public Program {
 protected:
  RenameBy() {
    auto recipe = demo::workshop_recipes()[0];
    recipe.stem = "moth";
    demo::write_disc(recipe, *this / "moth", demo::Files::bin_per_track);
    EXPECT_EQ(cli({"lists", "--make", "moth", "--out", "moth.dat"}).exit_code, 0);
  }
  /// Without what a killed program has left under no final name.
  Names names_in(const std::string& where) const {
    Names names;
    for (const auto& entry : fs::recursive_directory_iterator(folder.path() / where)) {
      const std::string name = entry.path().lexically_relative(folder.path() / where).string();
      if (entry.is_regular_file() && !name.ends_with(".opifex-part"))
        names[name] = digest_of("sha1", as_view(read_file(entry)));
    }
    return names;
  }
  void copy_to(const std::string& from, const std::string& to) const {
    fs::remove_all(folder.path() / to);
    copy_folder(folder.path() / from, folder.path() / to);
  }
  std::vector<std::string> list_in(const std::string& where) const {
    std::vector<std::string> names;
    for (const auto& [name, text] : names_in(where)) names.push_back(name);
    return names;
  }
  std::string undo_file(const std::string& where) const {
    for (const auto& entry : fs::directory_iterator(folder.path() / where))
      if (entry.path().filename().string().starts_with("opifex-renamed-")) return entry.path().string();
    return {};
  }
  /// The tracks of "moth" under swapped names, the sheet true to them.
  void jumble(const std::string& into) {
    fs::create_directories(*this / into);
    const std::map<int, std::string> names{
        {1, "dump.bin"}, {2, "moth (Track 3).bin"}, {3, "moth (Track 2).bin"}, {4, "last.bin"}};
    std::string sheet = read_file(*this / "moth/moth.cue");
    for (const auto& [track, name] : names) {
      const std::string old = fmt::format("moth (Track {}).bin", track);
      fs::copy_file(*this / ("moth/" + old), *this / (into + "/" + name));
      sheet.replace(sheet.find("\"" + old + "\""), old.size() + 2, "\"@" + name + "\"");
    }
    std::erase(sheet, '@');
    write_file(*this / (into + "/dump.cue"), sheet);
    write_file(*this / (into + "/dump.txt"), "notes");
  }
  int run_with_fault(const std::string& fault, const std::string& words) {
    return std::system(fmt::format("cd '{0}' && ASAN_OPTIONS=verify_asan_link_order=0 LD_PRELOAD='{1}' "
                                   "OPIFEX_FAULT_BELOW='{0}' OPIFEX_FAULT={2} '{3}' {4} > told 2>&1",
                                   folder.path().string(), OPIFEX_FAULTS, fault, OPIFEX_PROGRAM, words)
                           .c_str());
  }
  void write_list(const std::string& name, const std::string& games) {
    write_file(*this / name, "<?xml version=\"1.0\"?><datafile>" + games + "</datafile>");
  }
};

const std::vector<std::string> kMothNames{"moth (Track 1).bin", "moth (Track 2).bin", "moth (Track 3).bin",
                                          "moth (Track 4).bin", "moth.cue",           "moth.txt"};

TEST_F(RenameBy, AJumbledSetGetsItsNamesAndOldOnesBack) {
  jumble("here");
  const Names before = names_in("here");
  const json plan = cli({"rename", "here", "--by", "moth.dat", "--plan", "--json"}).json()["results"][0];
  EXPECT_EQ(plan["sets"].size(), 1U);
  EXPECT_EQ(names_in("here"), before) << "a plan changes nothing";
  ASSERT_EQ(cli({"rename", "here", "--by", "moth.dat"}).exit_code, 0);
  const std::string undo = undo_file("here");
  ASSERT_FALSE(undo.empty());
  fs::rename(undo, *this / "undo.json");
  EXPECT_EQ(list_in("here"), kMothNames);
  for (int track = 1; track <= 4; ++track) {
    const std::string name = fmt::format("moth (Track {}).bin", track);
    EXPECT_EQ(read_file(*this / ("here/" + name)), read_file(*this / ("moth/" + name)));
  }
  fs::rename(*this / "undo.json", undo);
  EXPECT_EQ(cli({"check", "here/moth.cue", "--against", "moth.dat"}).exit_code, 0) << "the sheet opens";
  EXPECT_EQ(cli({"rename", "here", "--by", "moth.dat"}).exit_code, 0) << "nothing left to do is good news";
  ASSERT_EQ(cli({"rename", "--undo", undo}).exit_code, 0);
  EXPECT_EQ(names_in("here"), before);
}

TEST_F(RenameBy, WhereverItIsInterruptedItCanBeTakenBackOrFinished) {
  jumble("start");
  const Names before = names_in("start");
  int stopped = 0;
  for (int n = 1; n < 60; ++n) {
    copy_to("start", "here");
    if (run_with_fault(fmt::format("rename:{}:kill", n), "rename here --by moth.dat") == 0) break;
    ++stopped;
    const bool back = n % 2 == 0;
    if (const std::string undo = undo_file("here"); back && !undo.empty()) {
      ASSERT_EQ(cli({"rename", "--undo", undo}).exit_code, 0) << n << ": " << cli({"rename", "--undo", undo}).err;
      EXPECT_EQ(names_in("here"), before) << n;
    } else {
      ASSERT_EQ(cli({"rename", "here", "--by", "moth.dat"}).exit_code, 0) << n;
      while (!undo_file("here").empty()) fs::remove(undo_file("here"));
      std::vector<std::string> names = list_in("here");
      // What lies beside a sheet that was renamed before the interruption has lost its leader.
      std::erase(names, "dump.txt"), std::erase(names, "moth.txt");
      EXPECT_EQ(names, std::vector<std::string>(kMothNames.begin(), kMothNames.end() - 1)) << n;
    }
  }
  EXPECT_GE(stopped, 6);
}

TEST_F(RenameBy, AFailureLeavesEveryFileUnderOneOfItsNames) {
  jumble("start");
  const Names before = names_in("start");
  int failed = 0;
  for (int n = 1; n < 60; ++n) {
    copy_to("start", "here");
    if (run_with_fault(fmt::format("rename:{}:eio", n), "rename here --by moth.dat") == 0) break;
    ++failed;
    while (!undo_file("here").empty()) fs::remove(undo_file("here"));
    EXPECT_EQ(names_in("here"), before) << n << ": " << read_file(*this / "told");
  }
  EXPECT_GE(failed, 6);
}

TEST_F(RenameBy, NothingIsOverwrittenAndNoOtherSetHeldUp) {
  jumble("here");
  write_file(*this / "here/moth (Track 4).bin", "something of the user's own");
  write_file(*this / "here/loose", "abc");
  write_list("more.dat", "<game name=\"Loose\"><rom name=\"Loose.dat\" size=\"3\" crc=\"352441c2\"/></game>");
  const Names before = names_in("here");
  const Outcome outcome = cli({"rename", "here", "--by", "moth.dat", "--by", "more.dat"});
  EXPECT_EQ(outcome.exit_code, 4) << outcome.out << outcome.err;
  Names after = names_in("here");
  EXPECT_EQ(after.count("Loose.dat"), 1U);
  EXPECT_EQ(after["moth (Track 4).bin"], before.at("moth (Track 4).bin"));
  EXPECT_EQ(after["dump.cue"], before.at("dump.cue"));
}

TEST_F(RenameBy, NamesOfAListAreNoPaths) {
  for (const char* name : {"../../escaped.bin", "/tmp/escaped.bin", "a\\..\\..\\b", "..", "c:\\x"}) {
    fs::remove_all(*this / "here");
    write_file(*this / "here/in/loose", "abc");
    write_list("evil.dat",
               fmt::format("<game name=\"{0}\"><rom name=\"{0}\" size=\"3\" crc=\"352441c2\"/></game>", name));
    cli({"rename", "here", "--by", "evil.dat"});
    for (const auto& [file, text] : names_in("here"))
      EXPECT_TRUE(file == "in/loose" || !contains(file, "escaped")) << name << ": " << file;
    EXPECT_FALSE(fs::exists("/tmp/escaped.bin"));
    EXPECT_EQ(names_in("here").count("in/loose"), 1U) << name;
  }
}

TEST_F(RenameBy, TheDrivesRulesHold) {
  write_file(*this / "here/loose", "abc");
  write_list("colon.dat", "<game name=\"A\"><rom name=\"What: now?.bin\" size=\"3\" crc=\"352441c2\"/></game>");
  const json done = cli({"rename", "here", "--by", "colon.dat", "--fs", "fat32", "--json"}).json()["results"][0];
  EXPECT_EQ(done["notes"].size(), 1U) << done;
  while (!undo_file("here").empty()) fs::remove(undo_file("here"));
  EXPECT_EQ(list_in("here"), std::vector<std::string>{"What_ now_.bin"});
  ASSERT_EQ(cli({"rename", "here", "--by", "colon.dat", "--limit", "8"}).exit_code, 0);
  while (!undo_file("here").empty()) fs::remove(undo_file("here"));
  EXPECT_EQ(list_in("here"), std::vector<std::string>{"What.bin"});
}

TEST_F(RenameBy, ContainersKeepTheirEndingAndBinsOfAllTracksGetTheSetsName) {
  fs::create_directories(*this / "here");
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "here/x.chd"}).exit_code, 0);
  ASSERT_EQ(cli({"rename", "here", "--by", "moth.dat"}).exit_code, 0);
  while (!undo_file("here").empty()) fs::remove(undo_file("here"));
  EXPECT_EQ(list_in("here"), std::vector<std::string>{"moth.chd"});
  ASSERT_EQ(cli({"merge", "moth/moth.cue", "--out", "one/x.cue"}).exit_code, 0);
  ASSERT_EQ(cli({"rename", "one", "--by", "moth.dat"}).exit_code, 0);
  while (!undo_file("one").empty()) fs::remove(undo_file("one"));
  EXPECT_EQ(list_in("one"), (std::vector<std::string>{"moth.bin", "moth.cue"}));
  EXPECT_EQ(cli({"check", "one/moth.cue", "--against", "moth.dat"}).exit_code, 0);
}

TEST_F(RenameBy, AnArchiveGetsTheNameOfTheSetInItAndIsNotRewritten) {
  fs::create_directories(*this / "here");
  ASSERT_EQ(std::system(fmt::format("cd '{}' && bsdtar -a -cf here/x.zip -C moth .", folder.path().string()).c_str()),
            0);
  const std::string bytes = read_file(*this / "here/x.zip");
  ASSERT_EQ(cli({"rename", "here", "--by", "moth.dat"}).exit_code, 0);
  while (!undo_file("here").empty()) fs::remove(undo_file("here"));
  EXPECT_EQ(list_in("here"), std::vector<std::string>{"moth.zip"});
  EXPECT_EQ(read_file(*this / "here/moth.zip"), bytes);
  write_file(*this / "moth/readme.txt", "beside it");
  ASSERT_EQ(
      std::system(
          fmt::format("cd '{}' && rm here/* && bsdtar -a -cf here/x.zip -C moth .", folder.path().string()).c_str()),
      0);
  cli({"rename", "here", "--by", "moth.dat"});
  EXPECT_EQ(list_in("here"), std::vector<std::string>{"x.zip"}) << "it holds more than the set";
}

TEST_F(RenameBy, WhatIsNotWholeOrNotKnownKeepsItsName) {
  jumble("here");
  fs::remove(*this / "here/last.bin");
  const Names before = names_in("here");
  const Outcome outcome = cli({"rename", "here", "--by", "moth.dat"});
  EXPECT_EQ(outcome.exit_code, 1) << outcome.out;
  EXPECT_EQ(names_in("here"), before);
  jumble("changed");
  flip_byte(*this / "changed/last.bin", 77'777);
  const Names other = names_in("changed");
  EXPECT_EQ(cli({"rename", "changed", "--by", "moth.dat"}).exit_code, 1);
  EXPECT_EQ(names_in("changed"), other);
}

TEST_F(RenameBy, WhatLiesOutsideOfTheFolderIsLeftAlone) {
  jumble("here");
  fs::rename(*this / "here/last.bin", *this / "last.bin");
  std::string sheet = read_file(*this / "here/dump.cue");
  sheet.replace(sheet.find("last.bin"), 8, "../last.bin");
  write_file(*this / "here/dump.cue", sheet);
  const Names before = names_in("here");
  cli({"rename", "here", "--by", "moth.dat"});
  EXPECT_EQ(names_in("here"), before) << "no undo file could tell the way back";
  EXPECT_TRUE(fs::exists(*this / "last.bin"));
}

TEST_F(RenameBy, AFileOfTheFolderOneIsInIsRenamedAndComesBack) {
  jumble("here");
  const Names before = names_in("here");
  const auto in_folder = [&](std::vector<std::string> words) {
    return run_program(OPIFEX_PROGRAM, words, folder.path() / "here").exit_code;
  };
  ASSERT_EQ(in_folder({"rename", "dump.cue", "--by", "../moth.dat"}), 0);
  EXPECT_TRUE(fs::exists(*this / "here/moth.cue"));
  ASSERT_EQ(in_folder({"rename", "--undo", fs::path(undo_file("here")).filename().string()}), 0);
  EXPECT_EQ(names_in("here"), before);
}

TEST_F(RenameBy, WrongWordsAreRefused) {
  EXPECT_EQ(cli({"rename", "moth/moth.cue"}).exit_code, 2);
  EXPECT_EQ(cli({"rename", "--by", "moth.dat"}).exit_code, 2);
  EXPECT_EQ(cli({"rename", "moth", "--undo", "moth.dat"}).exit_code, 2);
  EXPECT_EQ(cli({"rename", "--undo", "moth.dat"}).exit_code, 3);
  EXPECT_EQ(cli({"rename", "--undo", "nothing.json"}).exit_code, 3);
  EXPECT_EQ(cli({"rename", "moth", "--by", "nothing.dat"}).exit_code, 3);
}

}  // namespace
}  // namespace opifex::testkit
