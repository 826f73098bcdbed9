// The program's shelf over real folders, against a model that knows what lies there. What could go wrong: a change that
// is not seen, an item that stands for what is gone, copies that are none, rot that is called sound, a run that was
// killed and left half of something, two runs at once, a drive that is full, a server that goes away.
#include <fstream>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/demo/workshop.hpp"

#include "../e2e/running.hpp"
#include "backends.hpp"
#include "cartridges.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

bool contains(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

class Collection : public OnBackend {
 protected:
  Outcome cli(const std::vector<std::string>& words) const { return run_program(OPIFEX_PROGRAM, words, folder.path()); }
  Outcome shelf(std::vector<std::string> words) const {
    words.insert(words.begin(), "shelf");
    words.insert(words.end(), {"--at", at});
    return cli(words);
  }
  json told(std::vector<std::string> words) const {
    words.emplace_back("--json");
    const Outcome outcome = shelf(words);
    const json document = json::parse(outcome.out, nullptr, false);
    EXPECT_FALSE(document.is_discarded()) << outcome.out << outcome.err;
    return document.is_discarded() || document["results"].empty() ? json::object() : document["results"][0];
  }
  fs::path operator/(const std::string& name) const { return folder / name; }

  /// Contents in several forms: pool/N.iso, N.cue with N.bin, N.chd, N.zip. Made once for all tests.
  void make_pool() const {
    static const TempFolder kMade;
    if (!fs::exists(kMade / "pool")) {
      for (int c = 0; c < kContents; ++c) make_content(kMade.path(), c);
    }
    copy_folder(kMade / "pool", *this / "pool");
  }
  static void make_content(const fs::path& where, int c) {
    const std::string n = fmt::format("pool/{}", c);
    write_file(where / (n + "/FILE.TXT"),
               fmt::format("content {} {}", c, std::string(30'000, static_cast<char>('a' + c))));
    for (const std::vector<std::string>& words :
         {std::vector<std::string>{"build", n, "--as", "iso", "--out", n + ".iso"},
          {"convert", n + ".iso", "--to", "cue", "--out", n + ".cue"},
          {"convert", n + ".iso", "--to", "chd", "--out", n + ".chd"}}) {
      const Outcome outcome = run_program(OPIFEX_PROGRAM, words, where);
      ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
    }
    ASSERT_EQ(std::system(fmt::format("cd '{}/pool' && bsdtar -a -cf {}.zip {}.iso", where.string(), c, c).c_str()), 0);
    fs::remove_all(where / n);
  }
  /// Old enough that nobody takes it for a file that is still being written.
  static void age(const fs::path& file) {
    fs::last_write_time(file, fs::file_time_type::clock::now() - std::chrono::hours(2 + ++aged_ % 1000));
  }
  static void copy(const fs::path& from, const fs::path& to) {
    fs::create_directories(to.parent_path());
    fs::remove(to);
    fs::copy_file(from, to);
    age(to);
  }
  /// As a drive does: other bytes, the same date.
  static void rot(const fs::path& file, std::uint64_t where) {
    const auto date = fs::last_write_time(file);
    flip_byte(file, where);
    fs::last_write_time(file, date);
  }

  static constexpr int kContents = 4;
  static inline int aged_ = 0;
};

/// One place of the collection.
struct Lying {
  int content = 0;
  std::string form;
};

class RandomCollection : public Collection {
 protected:
  const std::vector<std::string> forms = {"iso", "cue", "chd", "zip"};

  fs::path file_of(const std::string& name, const std::string& form) const {
    return folder / ("box/" + name + "." + form);
  }

  void put(const std::string& name, const Lying& what) {
    const std::string from = fmt::format("pool/{}", what.content);
    if (what.form == "cue") {
      std::string sheet = read_file(*this / (from + ".cue"));
      const std::string old = fmt::format("\"{}.bin\"", what.content);
      sheet.replace(sheet.find(old), old.size(), "\"" + fs::path(name).filename().string() + ".bin\"");
      write_file(file_of(name, "cue"), sheet);
      age(file_of(name, "cue"));
      copy(*this / (from + ".bin"), file_of(name, "bin"));
    } else {
      copy(*this / (from + "." + what.form), file_of(name, what.form));
    }
    lying[name] = what;
  }
  void remove(const std::string& name) {
    const std::string form = lying[name].form;
    fs::remove(file_of(name, form));
    if (form == "cue") fs::remove(file_of(name, "bin"));
    lying.erase(name);
  }
  std::string place_in_list(const std::string& name) const {
    const Lying& what = lying.at(name);
    const std::string path = fs::weakly_canonical(file_of(name, what.form)).string();
    return what.form == "zip" ? fmt::format("{}!{}.iso", path, what.content) : path;
  }

  /// Everything the shelf says is true.
  void expect_true() {
    const json list = told({"list"});
    std::map<std::string, json> items;
    for (const json& i : list["items"]) items[i["path"]] = i;
    ASSERT_EQ(items.size(), lying.size()) << list.dump(1).substr(0, 3000);
    std::map<int, std::set<std::string>> keys;
    for (const auto& [name, what] : lying) {
      ASSERT_TRUE(items.contains(place_in_list(name))) << place_in_list(name);
      const json& item = items[place_in_list(name)];
      EXPECT_EQ(item["verdict"], "intact") << item.dump(1);
      keys[what.content].insert(item["content"].get<std::string>());
    }
    std::set<std::string> apart;
    for (const auto& [content, same] : keys) {
      EXPECT_EQ(same.size(), 1u) << "one content in several forms is told to be several";
      EXPECT_TRUE(apart.insert(*same.begin()).second) << "two contents are told to be one";
    }
    std::map<int, std::set<std::string>> should;
    for (const auto& [name, what] : lying) should[what.content].insert(place_in_list(name));
    std::set<std::set<std::string>> groups, is;
    for (const auto& [content, places] : should)
      if (places.size() > 1) groups.insert(places);
    const json doubles = told({"duplicates"});
    for (const json& group : doubles["groups"]) {
      std::set<std::string> places;
      for (const json& copy : group["copies"]) {
        places.insert(copy["path"]);
        EXPECT_TRUE(copy["stale"].is_null()) << copy.dump(1);
      }
      is.insert(places);
    }
    EXPECT_EQ(is, groups);
    EXPECT_EQ(shelf({"duplicates"}).exit_code, groups.empty() ? 0 : 1);
  }

  std::string any(Random& random) const {
    auto one = lying.begin();
    std::advance(one, static_cast<std::ptrdiff_t>(random.below(lying.size())));
    return one->first;
  }

  std::map<std::string, Lying> lying;
};

TEST_P(RandomCollection, IsOnTheShelfAsItIs) {
  make_pool();
  fs::create_directories(*this / "box");
  Random random(11);
  const int steps = kSanitized ? 12 : 40;
  for (int step = 0; step < steps; ++step) {
    SCOPED_TRACE(fmt::format("step {}", step));
    for (std::uint64_t n = 1 + random.below(3); n > 0; --n) {
      const std::uint64_t what = lying.empty() ? 0 : random.below(8);
      if (what < 4) {
        const std::string name = fmt::format("{}{}", random.below(2) == 0 ? "" : "in/ner/", random.below(9));
        if (lying.contains(name)) remove(name);
        put(name, {static_cast<int>(random.below(kContents)), forms[random.below(forms.size())]});
      } else if (what == 4) {
        remove(any(random));
      } else if (what == 5) {  // to another place, with its date
        const std::string name = any(random), other = fmt::format("moved{}", step);
        const Lying one = lying[name];
        if (one.form == "cue" || lying.contains(other)) continue;
        fs::rename(file_of(name, one.form), file_of(other, one.form));
        lying.erase(name);
        lying[other] = one;
      } else if (what == 6) {  // another content in the same file
        const std::string name = any(random);
        const Lying one{static_cast<int>(random.below(kContents)), lying[name].form};
        remove(name);
        put(name, one);
      } else {
        age(file_of(any(random), lying.begin()->second.form)
                .replace_extension("txt")
                .parent_path());  // a folder's date
      }
    }
    if (lying.empty()) continue;
    const Outcome added = shelf({"add", "box"});
    ASSERT_EQ(added.exit_code, 0) << added.out << added.err;
    const json again = told({"add"});
    EXPECT_EQ(again["read"], 0) << "what has not changed is not read again: " << again.dump(1);
    EXPECT_EQ(again["unchanged"], lying.size());
    expect_true();
    if (step % 4 == 0) {
      const Outcome verified = shelf({"verify"});
      EXPECT_EQ(verified.exit_code, 0) << verified.out << verified.err;
      EXPECT_EQ(told({"verify"})["as_recorded"], lying.size());
    }
    if (HasFailure()) return;
  }
}

TEST_P(RandomCollection, AKilledRunLosesNothingAndInventsNothing) {
  make_pool();
  Random random(5);
  for (int n = 0; n < 40; ++n)
    put(fmt::format("{}", n), {n % kContents, forms[static_cast<std::size_t>(n) % forms.size()]});
  // An archive of many games is read item by item, and settled as one.
  ASSERT_EQ(std::system(fmt::format("cd '{0}/pool' && bsdtar -a -cf ../box/many.zip 0.iso 1.iso 2.iso 3.iso",
                                    folder.path().string())
                            .c_str()),
            0);
  age(*this / "box/many.zip");
  int killed = 0;
  std::uint64_t longest = kSanitized ? 3000 : 400;  // milliseconds
  for (int n = 0; n < (kSanitized ? 6 : 12) || (killed == 0 && n < 30); ++n) {
    const Running run(folder.path(), {"shelf", "add", "box", "--at", at});
    std::this_thread::sleep_for(std::chrono::milliseconds(random.below(longest)));
    run.kill(SIGKILL);
    if (run.wait() == -SIGKILL) {
      ++killed;
    } else {  // it was done: read anew, and killed sooner
      age(*this / "box/many.zip");
      longest = longest * 2 / 3 + 1;
    }
  }
  const Outcome added = shelf({"add", "box"});
  ASSERT_EQ(added.exit_code, 0) << added.out << added.err;
  EXPECT_GT(killed, 0);
  const json list = told({"list", "--below", "box/many.zip"});
  EXPECT_EQ(list["items"].size(), 4u);
  // Without the archive it is what the model knows.
  fs::remove(*this / "box/many.zip");
  EXPECT_EQ(shelf({"add"}).exit_code, 0);
  expect_true();
  EXPECT_EQ(shelf({"verify"}).exit_code, 0);
}

TEST_P(RandomCollection, TwoRunsAtOnceAreAsGoodAsOne) {
  make_pool();
  for (int n = 0; n < 60; ++n)
    put(fmt::format("{}", n), {n % kContents, forms[static_cast<std::size_t>(n) % forms.size()]});
  const Running one(folder.path(), {"shelf", "add", "box", "--at", at}),
      two(folder.path(), {"shelf", "add", "box", "--at", at});
  EXPECT_EQ(one.wait(), 0);
  EXPECT_EQ(two.wait(), 0);
  EXPECT_EQ(told({"add"})["read"], 0);
  expect_true();
}
OPIFEX_ON_BOTH(RandomCollection);

class Shelves : public Collection {
 protected:
  void SetUp() override {
    Collection::SetUp();
    if (IsSkipped()) return;
    make_pool();
  }
  void fill() {
    for (const int c : {0, 1, 2})
      copy(*this / fmt::format("pool/{}.iso", c), *this / fmt::format("box/game {}.iso", c));
    ASSERT_EQ(shelf({"add", "box"}).exit_code, 0);
  }
  json verify(int exit, std::vector<std::string> more = {}) {
    more.insert(more.begin(), "verify");
    const json v = told(more);
    EXPECT_EQ(shelf(more).exit_code, exit);
    return v;
  }
};

TEST_P(Shelves, RotIsToldAgainstWhatIsRecorded) {
  fill();
  const std::string sha1 = digest_of("sha1", as_view(read_file(*this / "box/game 1.iso")));
  for (const std::uint64_t where :
       {std::uintmax_t{0}, std::uintmax_t{40'000}, fs::file_size(*this / "box/game 1.iso") - 1}) {
    SCOPED_TRACE(where);
    rot(*this / "box/game 1.iso", where);
    EXPECT_EQ(told({"add"})["read"], 0) << "nothing tells it without reading";
    const Outcome verified = shelf({"verify"});
    EXPECT_EQ(verified.exit_code, 1);
    EXPECT_TRUE(contains(verified.out, "CHANGED: ")) << verified.out;
    if (!contains(verified.out, "no longer be opened")) {
      EXPECT_TRUE(contains(verified.out, sha1)) << verified.out;
    }
    const json list = told({"list"});
    EXPECT_EQ(
        std::count_if(list["items"].begin(), list["items"].end(), [](const json& i) { return i["rotten"] == true; }),
        1);
    EXPECT_EQ(shelf({"verify"}).exit_code, 1) << "it stays said";
    EXPECT_EQ(shelf({"show", "box/game 1.iso"}).exit_code, 1);
    // A copy of it is no copy any more.
    copy(*this / "pool/1.iso", *this / "box/copy.iso");
    EXPECT_EQ(shelf({"add"}).exit_code, 0);
    EXPECT_EQ(told({"duplicates"})["groups"].size(), 0u);
    fs::remove(*this / "box/copy.iso");
    copy(*this / "pool/1.iso", *this / "box/game 1.iso");
    EXPECT_EQ(shelf({"add"}).exit_code, 0);
    EXPECT_EQ(shelf({"verify"}).exit_code, 0);
  }
}

TEST_P(Shelves, VerifySaysWhatItDidNotProve) {
  EXPECT_NE(shelf({"verify"}).exit_code, 0) << "there is no shelf";
  fs::create_directories(*this / "box");
  write_file(*this / "box/notes.txt", "no game");
  EXPECT_EQ(shelf({"add", "box"}).exit_code, 1) << "nothing in it";
  EXPECT_EQ(shelf({"verify"}).exit_code, 1) << "nothing to verify";
  fill();
  fs::remove(*this / "box/game 0.iso");
  age(*this / "box/game 1.iso");
  const json v = verify(1);
  std::map<std::string, std::string> outcomes;
  for (const json& i : v["items"]) outcomes[fs::path(i["path"].get<std::string>()).filename()] = i["outcome"];
  EXPECT_EQ(outcomes["game 0.iso"], "gone");
  EXPECT_EQ(outcomes["game 1.iso"], "other date") << "somebody changed it: that proves nothing";
  EXPECT_EQ(outcomes["game 2.iso"], "as recorded");
  EXPECT_EQ(v["as_recorded"], 1);
}

TEST_P(Shelves, VerifyReadsTheLongestUncheckedFirstAndStopsInTime) {
  fill();
  const auto size = fs::file_size(*this / "box/game 0.iso");
  EXPECT_EQ(shelf({"verify", "box/game 1.iso"}).exit_code, 0);
  const auto bytes = std::to_string(size * 2 + size / 2);
  std::this_thread::sleep_for(std::chrono::milliseconds(1100));  // dates are of whole seconds
  const json v = told({"verify", "--bytes", bytes});
  EXPECT_EQ(v["as_recorded"], 2);
  EXPECT_EQ(v["left"], 1);
  const json next = told({"verify", "--bytes", std::to_string(size)});
  ASSERT_EQ(next["items"].size(), 1u);
  std::set<std::string> first;
  for (const json& i : v["items"]) first.insert(i["path"]);
  EXPECT_FALSE(first.contains(next["items"][0]["path"])) << "the one that was left is the next";
  const json none = told({"verify", "--bytes", "1000"});
  EXPECT_EQ(none["too_large"], 3);
  EXPECT_EQ(none["as_recorded"], 0);
  EXPECT_EQ(shelf({"verify", "--bytes", "1000"}).exit_code, 1) << "nothing was proved";
  EXPECT_EQ(told({"verify", "--for", "1h"})["as_recorded"], 3);
  const json plan = told({"verify", "--plan"});
  EXPECT_EQ(plan["items"].size(), 3u);
}

TEST_P(Shelves, WhatMovedIsFoundAgain) {
  fill();
  fs::create_directories(*this / "elsewhere");
  fs::rename(*this / "box/game 0.iso", *this / "elsewhere/new.iso");
  fs::remove(*this / "box/game 1.iso");
  EXPECT_EQ(told({"add"})["gone"], 2);
  json moved = told({"moved"});
  EXPECT_EQ(moved["lost"].size(), 2u) << "nobody has seen the new place yet";
  EXPECT_EQ(shelf({"moved"}).exit_code, 1);
  EXPECT_EQ(shelf({"add", "elsewhere"}).exit_code, 0);
  moved = told({"moved"});
  ASSERT_EQ(moved["moved"].size(), 1u);
  EXPECT_TRUE(contains(moved["moved"][0]["to"]["path"], "elsewhere/new.iso"));
  EXPECT_EQ(moved["lost"].size(), 1u);
  EXPECT_EQ(shelf({"forget", "--moved"}).exit_code, 0);
  EXPECT_EQ(told({"moved"})["moved"].size(), 0u);
  EXPECT_EQ(told({"list", "--gone"})["items"].size(), 1u);
  // What comes back as it was is not read again.
  copy(*this / "pool/1.iso", *this / "box/game 1.iso");
  const json back = told({"add"});
  EXPECT_EQ(back["back"], 1);
  EXPECT_EQ(shelf({"moved"}).exit_code, 0);
}

TEST_P(Shelves, AFolderThatIsNotThereHasLostNothing) {
  fill();
  fs::rename(*this / "box", *this / "unplugged");
  const Outcome added = shelf({"add"});
  EXPECT_EQ(added.exit_code, 5) << added.err;
  EXPECT_EQ(told({"list"})["items"].size(), 3u);
  fs::rename(*this / "unplugged", *this / "box");
  EXPECT_EQ(told({"add"})["unchanged"], 3);
}

TEST_P(Shelves, ASetIsWholeOrSaysSo) {
  for (const int d : {1, 3}) copy(*this / "pool/0.iso", *this / fmt::format("box/Kestrel (Disc {}).iso", d));
  EXPECT_EQ(shelf({"add", "box"}).exit_code, 0);
  json sets = told({"sets"});
  ASSERT_EQ(sets["sets"].size(), 1u);
  EXPECT_EQ(sets["sets"][0]["missing"], json::array({2}));
  EXPECT_EQ(shelf({"sets"}).exit_code, 1);
  EXPECT_EQ(told({"list", "--incomplete-sets"})["items"].size(), 2u);
  copy(*this / "pool/1.iso", *this / "box/Kestrel (Disc 2).iso");
  EXPECT_EQ(shelf({"add"}).exit_code, 0);
  EXPECT_EQ(shelf({"sets"}).exit_code, 0);
  EXPECT_EQ(told({"list", "--incomplete-sets"})["items"].size(), 0u);
}

TEST_P(Shelves, MissingIsAnsweredFromHashesThatStillHold) {
  fill();
  ASSERT_EQ(cli({"lists", "--make", "box", "--out", "list.dat"}).exit_code, 0);
  const auto missing = [&] { return shelf({"missing", "--against", "list.dat"}); };
  EXPECT_EQ(missing().exit_code, 0) << missing().out;
  EXPECT_EQ(told({"list", "--known", "yes"})["items"].size(), 3u);
  // In another form it is there all the same.
  fs::remove(*this / "box/game 1.iso");
  copy(*this / "pool/1.chd", *this / "box/other name.chd");
  EXPECT_EQ(missing().exit_code, 1) << "the shelf does not know yet";
  EXPECT_EQ(shelf({"add"}).exit_code, 0);
  EXPECT_EQ(missing().exit_code, 0) << missing().out << missing().err;
  fs::remove(*this / "box/other name.chd");
  const Outcome gone = missing();
  EXPECT_EQ(gone.exit_code, 1) << "the shelf still has it: it has to look";
  EXPECT_TRUE(contains(gone.err, "not as it is recorded")) << gone.err;
  EXPECT_EQ(told({"list", "--known", "yes"})["items"].size(), 2u);
  // What rots is missing as well.
  copy(*this / "pool/1.iso", *this / "box/game 1.iso");
  EXPECT_EQ(shelf({"add", "--against", "list.dat"}).exit_code, 0);
  EXPECT_EQ(missing().exit_code, 0);
  rot(*this / "box/game 1.iso", 40'000);
  EXPECT_EQ(shelf({"verify"}).exit_code, 1);
  EXPECT_EQ(missing().exit_code, 1);
}

TEST_P(Shelves, MissingSeesWhatAListHasInAnotherLayout) {
  auto recipe = demo::workshop_recipes()[0];
  recipe.stem = "moth";
  demo::write_disc(recipe, *this / "box", demo::Files::bin_per_track);
  copy(*this / "pool/0.iso", *this / "box/0.iso");
  // A list of one bin with all tracks, and of a bin of whole sectors.
  ASSERT_EQ(cli({"merge", "box/moth.cue", "--out", "merged/"}).exit_code, 0);
  copy(*this / "pool/0.cue", *this / "merged/0.cue");
  copy(*this / "pool/0.bin", *this / "merged/0.bin");
  ASSERT_EQ(cli({"lists", "--make", "merged", "--out", "list.dat"}).exit_code, 0);
  ASSERT_EQ(shelf({"add", "box"}).exit_code, 0);
  const Outcome missing = shelf({"missing", "--against", "list.dat"});
  EXPECT_EQ(missing.exit_code, cli({"lists", "list.dat", "--missing", "box"}).exit_code);
  EXPECT_EQ(missing.exit_code, 0) << missing.out << missing.err;
  EXPECT_EQ(told({"list", "--known", "yes"})["items"].size(), 2u);
  flip_byte(*this / "box/moth (Track 3).bin", 5000);
  age(*this / "box/moth (Track 3).bin");
  shelf({"add"});
  EXPECT_EQ(shelf({"missing", "--against", "list.dat"}).exit_code, 1);
}

TEST_P(Shelves, RenamingGoesWithTheShelf) {
  copy(*this / "pool/0.iso", *this / "box/a.iso");
  copy(*this / "pool/1.cue", *this / "box/1.cue");
  copy(*this / "pool/1.bin", *this / "box/1.bin");
  copy(*this / "pool/2.zip", *this / "box/2.zip");
  ASSERT_EQ(shelf({"add", "box"}).exit_code, 0);
  const std::string before = shelf({"list", "--columns", "item,path"}).out;
  const auto plan = listing(*this / "box");
  EXPECT_EQ(shelf({"rename", "--pattern", "game {item}[ of {serial}]", "--plan"}).exit_code, 0);
  EXPECT_EQ(listing(*this / "box"), plan) << "a plan touches nothing";
  const Outcome renamed = shelf({"rename", "--pattern", "game {item}[ of {serial}]"});
  ASSERT_EQ(renamed.exit_code, 0) << renamed.out << renamed.err;
  for (const char* name : {"game 1.cue", "game 1.bin", "game 2.zip", "game 3.iso"})
    EXPECT_TRUE(fs::exists(*this / "box" / name)) << renamed.out;
  const json again = told({"add"});
  EXPECT_EQ(again["read"], 0) << "the shelf knows them under their new names: " << again.dump(1);
  EXPECT_EQ(again["gone"], 0);
  EXPECT_EQ(shelf({"verify"}).exit_code, 0) << shelf({"verify"}).out;
  for (const auto& entry : fs::directory_iterator(*this / "box"))
    if (contains(entry.path().string(), "opifex-renamed-")) {
      EXPECT_EQ(shelf({"rename", "--undo", entry.path().string()}).exit_code, 0);
    }
  EXPECT_EQ(shelf({"list", "--columns", "item,path"}).out, before);
  EXPECT_EQ(told({"add"})["read"], 0);
  EXPECT_EQ(shelf({"verify"}).exit_code, 0);
  // Names by the list, and what has no title stays.
  ASSERT_EQ(cli({"lists", "--make", "box", "--out", "list.dat"}).exit_code, 0);
  fs::rename(*this / "box/a.iso", *this / "box/odd.iso");
  ASSERT_EQ(shelf({"add"}).exit_code, 0);
  EXPECT_EQ(shelf({"rename", "--by", "list.dat"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "box/a.iso"));
  EXPECT_EQ(told({"add"})["read"], 0);
  EXPECT_EQ(shelf({"rename", "--pattern", "{serial}"}).exit_code, 1);
  for (const char* bad : {"{titel}", "{title", "title}", "[[{title}", "[a[b]]", ""})
    EXPECT_EQ(shelf({"rename", "--pattern", bad}).exit_code, std::string(bad) == "[[{title}" ? 0 : 2) << bad;
}

TEST_P(Shelves, AnIncompleteSetBecomesWhole) {
  copy(*this / "pool/1.cue", *this / "box/1.cue");
  EXPECT_EQ(shelf({"add", "box"}).exit_code, 1);
  EXPECT_EQ(told({"list"})["items"][0]["verdict"], "incomplete");
  copy(*this / "pool/1.bin", *this / "box/1.bin");
  EXPECT_EQ(shelf({"add"}).exit_code, 0);
  json items = told({"list"})["items"];
  ASSERT_EQ(items.size(), 1u) << "the bin is no game of its own";
  EXPECT_EQ(items[0]["verdict"], "intact");
  fs::remove(*this / "box/1.cue");
  EXPECT_EQ(shelf({"add"}).exit_code, 0);
  items = told({"list"})["items"];
  ASSERT_EQ(items.size(), 1u);
  EXPECT_TRUE(contains(items[0]["path"], "1.bin")) << "now it is";
}

TEST_P(Shelves, AFileBehindALinkIsReadOnce) {
  copy(*this / "pool/0.bin", *this / "store/0.bin");
  copy(*this / "pool/0.cue", *this / "box/0.cue");
  fs::create_symlink(*this / "store/0.bin", *this / "box/0.bin");
  ASSERT_EQ(shelf({"add", "box"}).exit_code, 0) << shelf({"add", "box"}).err;
  EXPECT_EQ(told({"add", "box"})["read"], 0);
  EXPECT_EQ(told({"add", "box"})["unchanged"], 1);
  copy(*this / "pool/1.bin", *this / "store/0.bin");
  EXPECT_EQ(told({"add", "box"})["changed"], 1);
  fs::remove(*this / "store/0.bin");
  EXPECT_EQ(shelf({"add", "box"}).exit_code, 1);
  EXPECT_EQ(told({"list"})["items"][0]["verdict"], "incomplete");
}

TEST_P(Shelves, ListsAreFilteredSortedAndWrittenForSpreadsheets) {
  fill();
  const Outcome csv = shelf({"list", "--csv", "--columns", "path,stored", "--sort", "-path"});
  EXPECT_EQ(csv.exit_code, 0);
  EXPECT_TRUE(csv.out.starts_with("path,stored\n")) << csv.out;
  EXPECT_LT(csv.out.find("game 2"), csv.out.find("game 0"));
  EXPECT_EQ(shelf({"list", "--sort", "colour"}).exit_code, 2);
  EXPECT_EQ(shelf({"list", "--columns", "colour"}).exit_code, 2);
  EXPECT_EQ(shelf({"list", "--csv", "--json"}).exit_code, 2);
  EXPECT_EQ(told({"list", "--most", "2"})["items"].size(), 2u);
  EXPECT_EQ(told({"list", "--not-compressed"})["items"].size(), 3u);
  EXPECT_EQ(told({"list", "--not-checked-since", "2000-01-01"})["items"].size(), 0u);
  EXPECT_EQ(told({"list", "--not-checked-since", "2100-01-01"})["items"].size(), 3u);
  EXPECT_EQ(told({"list", "--below", "box/game 1.iso"})["items"].size(), 1u);
  EXPECT_EQ(shelf({"find", "game", "2"}).exit_code, 0);
  EXPECT_EQ(shelf({"find", "nothing like it"}).exit_code, 1);
  EXPECT_EQ(shelf({"fnd", "x"}).exit_code, 2);
  EXPECT_EQ(shelf({"show", "77"}).exit_code, 2);
  EXPECT_EQ(shelf({"stats"}).exit_code, 0);
}

TEST_P(Shelves, ExportedAndImportedItIsTheSame) {
  fill();
  EXPECT_EQ(shelf({"export", "--out", "lines.jsonl"}).exit_code, 0);
  EXPECT_EQ(shelf({"export", "--out", "lines.jsonl"}).exit_code, 4) << "it exists";
  const std::string first = at;
  at = new_shelf();
  EXPECT_EQ(shelf({"import", "lines.jsonl"}).exit_code, 0);
  EXPECT_EQ(told({"add", "box"})["read"], 0) << "hashes and dates came with it";
  EXPECT_EQ(shelf({"verify"}).exit_code, 0);
  EXPECT_EQ(shelf({"export", "--out", "again.jsonl"}).exit_code, 0);
  const Outcome bad = shelf({"import", "pool/0.iso"});
  EXPECT_EQ(bad.exit_code, 3) << bad.err;
  EXPECT_EQ(told({"list"})["items"].size(), 3u);
}
OPIFEX_ON_BOTH(Shelves);

// "The same content" would lead somebody to remove what cannot be made again: what one copy has and the other has not.
class SameContent : public Collection {
 protected:
  void SetUp() override { at = new_shelf(); }
  /// Groups of what is in box/.
  json groups() {
    shelf({"add", "box"});
    return told({"duplicates"})["groups"];
  }
  static std::string name_of(const json& copy) { return fs::path(copy["path"].get<std::string>()).filename().string(); }
};

TEST_P(SameContent, AnIsoIsNotADiscWithSubheaders) {
  demo::build_workshop(*this / "demo", Existing::keep);
  copy(*this / "demo/Kestrel Circuit (Disc 2).bin", *this / "box/mode2.bin");
  ASSERT_EQ(cli({"convert", "box/mode2.bin", "--to", "iso", "--out", "box/data.iso", "--accept",
                 "audio,form2,raw-headers,tracks"})
                .exit_code,
            0);
  EXPECT_EQ(groups().size(), 0u) << groups().dump(1);
  ASSERT_EQ(cli({"convert", "box/mode2.bin", "--to", "chd", "--out", "box/packed.chd"}).exit_code, 0);
  const json both = groups();
  ASSERT_EQ(both.size(), 1u);
  EXPECT_EQ(both[0]["copies"].size(), 2u) << "the bin and the CHD of it";
}

TEST_P(SameContent, AnIsoIsNotADiscWithCodesOfItsOwn) {
  make_pool();
  copy(*this / "pool/0.iso", *this / "box/data.iso");
  copy(*this / "pool/0.cue", *this / "box/0.cue");
  copy(*this / "pool/0.bin", *this / "box/0.bin");
  ASSERT_EQ(groups().size(), 1u) << "plain Mode 1 sectors are made again of their data";
  for (const std::uint64_t where :
       {5U * 2352 + 2100, 5U * 2352 + 2070, 5U * 2352 + 13}) {  // ECC, the zeros, the address
    copy(*this / "pool/0.bin", *this / "box/0.bin");
    flip_byte(*this / "box/0.bin", where);
    age(*this / "box/0.bin");
    EXPECT_EQ(groups().size(), 0u) << where;
  }
}

TEST_P(SameContent, ATrackMoreAShiftAndACutAreOther) {
  auto recipe = demo::workshop_recipes()[0];
  recipe.stem = "moth";
  demo::write_disc(recipe, *this / "box/whole", demo::Files::bin_per_track);
  demo::write_disc(recipe, *this / "box/other", demo::Files::bin_per_track);
  ASSERT_EQ(groups().size(), 1u);
  const fs::path last = *this / "box/other/moth (Track 4).bin";
  const std::string bytes = read_file(last);
  write_file(last, bytes.substr(4) + std::string(4, '\0'));  // one sample
  age(last);
  EXPECT_EQ(groups().size(), 0u) << "shifted music";
  write_file(last, bytes.substr(0, bytes.size() - 2352));
  age(last);
  EXPECT_EQ(groups().size(), 0u) << "a sector less";
  fs::remove(last);
  EXPECT_EQ(groups().size(), 0u) << "a track less";
}

TEST_P(SameContent, WhatHasOtherNamesFreesNothing) {
  make_pool();
  for (const char* name : {"a.iso", "b.iso"}) copy(*this / "pool/0.iso", *this / "box" / name);
  const auto size = fs::file_size(*this / "pool/0.iso");
  groups();
  EXPECT_EQ(told({"duplicates"})["freed_bytes"], size);
  fs::create_hard_link(*this / "box/b.iso", *this / "box/c.iso");
  groups();
  EXPECT_EQ(told({"duplicates"})["freed_bytes"], size) << "b and c are one file";
  fs::create_directories(*this / "elsewhere");
  fs::create_hard_link(*this / "box/b.iso", *this / "elsewhere/b.iso");
  const json all = told({"duplicates"});
  const bool keeps_a = name_of(all["groups"][0]["copies"][0]) == "a.iso";
  EXPECT_EQ(all["freed_bytes"], keeps_a ? 0 : size) << "the room of b is still taken";
}

TEST_P(SameContent, ARomWithItsHeaderIsTheOneToKeep) {
  Random random(9);
  const NesChips chips = nes(random, 32 << 10, 8 << 10);
  Bytes alone = chips.program;
  alone.insert(alone.end(), chips.character.begin(), chips.character.end());
  Bytes with_header(16);
  const std::string head = "NES\x1A\x02\x01\x01";
  std::transform(head.begin(), head.end(), with_header.begin(), [](char c) { return static_cast<std::byte>(c); });
  with_header.insert(with_header.end(), alone.begin(), alone.end());
  Bytes other_header = with_header;
  other_header[6] = std::byte{0x11};  // another board
  write_file(*this / "box/one.nes", as_text(with_header));
  write_file(*this / "box/two.nes", as_text(other_header));
  write_file(*this / "box/three.nes", as_text(with_header));
  for (const char* name : {"one", "two", "three"}) age(*this / fmt::format("box/{}.nes", name));
  const json all = groups();
  ASSERT_EQ(all.size(), 1u) << shelf({"list"}).out;
  EXPECT_EQ(all[0]["copies"].size(), 3u);
  EXPECT_EQ(all[0]["same_bytes"], false) << "their headers differ, and that is told";
}

TEST_P(SameContent, ATrimmedDiscIsTheSameGameAndTheWholeOneIsKept) {
  write_file(*this / "game/default.xbe", read_file(fs::path(OPIFEX_VECTORS) / "xbox/exe/orchard.xbe"));
  write_file(*this / "game/media/track.bin", std::string(100'000, 'm'));
  fs::create_directories(*this / "box");
  ASSERT_EQ(cli({"build", "game", "--as", "xiso", "--out", "box/a.iso"}).exit_code, 0);
  write_file(*this / "game/media/track.bin", std::string(99'999, 'm') + "n");
  ASSERT_EQ(cli({"build", "game", "--as", "xiso", "--out", "box/b.iso"}).exit_code, 0);
  EXPECT_EQ(groups().size(), 0u) << "one byte of one file";
  // The same files behind the room of a video partition, as a whole disc has them.
  const std::string small = read_file(*this / "box/a.iso");
  std::string padded = small + std::string(2048 * 500, '\0');
  write_file(*this / "box/padded.iso", padded);
  age(*this / "box/padded.iso");
  const json same = groups();
  ASSERT_EQ(same.size(), 1u) << shelf({"list"}).out;
  EXPECT_EQ(same[0]["same_bytes"], false);
  EXPECT_EQ(same[0]["copies"].size(), 2u);
}
INSTANTIATE_TEST_SUITE_P(File, SameContent, testing::Values(Backend::file), name_of_backend);

class ShelfOnADrive : public Shelves {};

TEST_P(ShelfOnADrive, ThatIsFullKeepsWhatItHad) {
  for (int n = 0; n < 150; ++n)
    copy(*this / "pool/0.iso", *this / fmt::format("box/{} {}.iso", n, std::string(120, 'n')));
  const std::string script = fmt::format(
      "mount -t tmpfs -o size=220k none '{0}/drive' || exit 77; '{1}' shelf add box --at drive/s.sqlite; code=$?; df "
      "'{0}/drive'; cp drive/s.sqlite* after/; exit $code",
      folder.path().string(), OPIFEX_PROGRAM);
  fs::create_directories(*this / "drive");
  fs::create_directories(*this / "after");
  Outcome full = run_program("/usr/bin/unshare", {"-m", "sh", "-c", script}, folder.path());
  if (full.exit_code == 77 || contains(full.err, "unshare"))
    GTEST_SKIP() << "no file system can be mounted here: " << full.err;
  EXPECT_EQ(full.exit_code, 5) << full.out << full.err;
  EXPECT_TRUE(contains(full.err, "no room left for the shelf")) << full.err;
  // Whole items only, and the next run adds the others.
  at = (*this / "after/s.sqlite").string();
  EXPECT_EQ(shelf({"add", "box"}).exit_code, 0);
  EXPECT_EQ(told({"list"})["items"].size(), 150u);
  EXPECT_EQ(shelf({"verify", "--bytes", "5MB"}).exit_code, 0);
}
TEST_P(ShelfOnADrive, ThatFailsIsNoAnswer) {
  fill();
  for (const char* name : {"0.zip", "1.chd"}) copy(*this / "pool" / name, *this / "box" / name);
  const auto run_failing = [&](int n, const std::string& words, const std::string& shelf_at) {
    return std::system(
               fmt::format(
                   "cd '{0}' && ASAN_OPTIONS=verify_asan_link_order=0 LD_PRELOAD='{1}' OPIFEX_FAULT_BELOW='{0}/box' "
                   "OPIFEX_FAULT=read:{2}:eio '{3}' shelf {4} --at '{5}' > told 2>&1",
                   folder.path().string(), OPIFEX_FAULTS, n, OPIFEX_PROGRAM, words, shelf_at)
                   .c_str()) >>
           8;
  };
  // Whichever reading fails: it is said, and the next run takes what was not read.
  int failed = 0;
  for (int n = 1; n < 60; n += kSanitized ? 9 : 2) {
    const std::string fresh = new_shelf();
    const int code = run_failing(n, "add box", fresh);
    if (code == 0) break;
    ++failed;
    EXPECT_EQ(code, 5) << n << read_file(*this / "told");
    at = fresh;
    EXPECT_EQ(shelf({"add", "box"}).exit_code, 0) << n;
    const json items = told({"list"})["items"];
    ASSERT_EQ(items.size(), 5u) << n;
    for (const json& i : items) EXPECT_EQ(i["verdict"], "intact") << n << i.dump(1);
  }
  EXPECT_GT(failed, 1);
  for (int n = 1; n < 40; n += kSanitized ? 9 : 2) {
    const int code = run_failing(n, "verify", at);
    if (code == 0) break;
    EXPECT_EQ(code, 5) << n << read_file(*this / "told");
    const json items = told({"list"})["items"];
    EXPECT_TRUE(std::none_of(items.begin(), items.end(), [](const json& i) { return i["rotten"] == true; }))
        << n << " a failing drive is no rot";
  }
}

INSTANTIATE_TEST_SUITE_P(File, ShelfOnADrive, testing::Values(Backend::file), name_of_backend);

}  // namespace
}  // namespace opifex::testkit
