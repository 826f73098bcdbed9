// Whole folders at once: planned first, one question for all, nothing written before the answer.
#include "program.hpp"

namespace opifex::testkit {
namespace {

class Batch : public Program {
 protected:
  void disc(const std::string& where, const std::string& stem, std::vector<std::uint32_t> audio,
            std::uint64_t seed = 1) {
    fs::create_directories(*this / where);
    demo::write_disc({.stem = stem, .data_sectors = 60, .audio_sectors = std::move(audio), .seed = seed}, *this / where,
                     demo::Files::one_bin, Existing::replace);
  }
  static std::vector<std::string> codes(const Outcome& run) {
    std::vector<std::string> list;
    const nlohmann::json document = run.json();
    for (const nlohmann::json& e : document["errors"]) list.push_back(e["code"]);
    return list;
  }
};

TEST_F(Batch, AFolderIsConvertedWithASummary) {
  disc("in", "Moth", {20});
  disc("in/more", "Kestrel", {});
  write_file(*this / "in/readme.txt", "not a disc");
  const Outcome run = cli({"convert", "in", "--to", "chd", "--out", "out/", "--prove", "--json"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(run.json()["results"].size(), 2u);
  const nlohmann::json summary = run.json()["summary"];
  EXPECT_EQ(summary["done"].size(), 2u);
  EXPECT_EQ(summary["left_out"].size(), 0u);
  EXPECT_GT(summary["bytes_in"].get<std::uint64_t>(), summary["bytes_out"].get<std::uint64_t>());
  EXPECT_EQ(cli({"check", "out/Moth.chd", "--same-as", "in/Moth.cue"}).exit_code, 0);
  const Outcome text = cli({"convert", "in", "--to", "chd", "--out", "out/", "--overwrite"});
  EXPECT_TRUE(contains(text.out, "1/2  in/Moth.cue -> Moth.chd")) << text.out;
  EXPECT_TRUE(contains(text.out, "2 images written; ")) << text.out;
}

TEST_F(Batch, ThePlanIsATableAndWritesNothing) {
  disc("in", "Moth", {20});
  disc("in", "Kestrel", {});
  const auto before = listing(folder.path());
  const Outcome plan = cli({"convert", "in", "--to", "iso", "--out", "out/", "--plan"});
  EXPECT_EQ(plan.exit_code, 4) << "the music needs a word";
  for (const char* part : {"in/Kestrel.cue", "out/Moth.iso", "audio (track 2)", "2 images"})
    EXPECT_TRUE(contains(plan.out, part)) << plan.out;
  EXPECT_EQ(listing(folder.path()), before);
}

TEST_F(Batch, OneQuestionForAllLossesBeforeAnythingIsWritten) {
  disc("in", "A", {});
  disc("in", "B", {20});
  disc("in", "C", {20, 20});
  const Outcome asked = cli({"convert", "in", "--to", "iso", "--out", "out/", "--json"});
  EXPECT_EQ(asked.exit_code, 4);
  EXPECT_EQ(codes(asked), std::vector<std::string>{"loss"});
  const std::string found = asked.json()["errors"][0]["found"];
  EXPECT_TRUE(contains(found, "in/B.cue: audio") && contains(found, "in/C.cue: audio")) << found;
  EXPECT_FALSE(contains(found, "A.cue")) << "it loses nothing";
  EXPECT_FALSE(fs::exists(*this / "out")) << "not even A";
  EXPECT_EQ(cli({"convert", "in", "--to", "iso", "--out", "out/", "--accept", "audio"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "out/C.iso"));
}

TEST_F(Batch, NamesThatClashAreRefusedTogetherOrToldApart) {
  disc("in/first", "Moth", {}, 1);
  disc("in/second", "Moth", {}, 2);
  const Outcome clash = cli({"convert", "in", "--to", "chd", "--out", "out/", "--json"});
  EXPECT_EQ(clash.exit_code, 4);
  EXPECT_EQ(codes(clash), std::vector<std::string>{"same_output"});
  EXPECT_FALSE(fs::exists(*this / "out"));
  // Beside their inputs they do not meet.
  EXPECT_EQ(cli({"convert", "in", "--to", "chd"}).exit_code, 0);
  // A drive that takes MOTH and Moth for one name gets a mark made of each title.
  disc("other/first", "Moth", {}, 1);
  disc("other/second", "MOTH", {}, 2);
  EXPECT_EQ(cli({"convert", "other", "--to", "chd", "--out", "apart/", "--fs", "fat32"}).exit_code, 0);
  std::vector<std::string> names;
  for (const auto& [name, size] : listing(*this / "apart")) names.push_back(name);
  ASSERT_EQ(names.size(), 2u);
  EXPECT_TRUE(names[0].starts_with("MOTH~") && names[1].starts_with("Moth~")) << names[0] << " " << names[1];
  EXPECT_NE(names[0].substr(5), names[1].substr(5));
  disc("same", "Moth", {}, 1);
  disc("same", "MOTH", {}, 2);
  EXPECT_EQ(cli({"convert", "same", "--to", "chd", "--out", "plain/"}).exit_code, 0) << "here they are two names";
}

TEST_F(Batch, WhatCannotBeReadIsLeftOutAndTold) {
  disc("in", "Good", {});
  disc("in", "Torn", {});
  fs::remove(*this / "in/Torn.bin");
  write_file(*this / "in/Broken.cue", "FILE \"nothing\n");
  const Outcome run = cli({"convert", "in", "--to", "chd", "--out", "out/", "--json"});
  EXPECT_EQ(run.exit_code, 3);
  EXPECT_EQ(run.json()["summary"]["done"].size(), 1u);
  EXPECT_EQ(run.json()["summary"]["left_out"].size(), 2u);
  EXPECT_EQ(run.json()["errors"].size(), 2u);
  EXPECT_TRUE(fs::exists(*this / "out/Good.chd"));
}

TEST_F(Batch, RoomIsReckonedForAllTogether) {
  for (const char* name : {"A", "B", "C"}) disc("in", name, {});
  const Outcome big = cli({"convert", "in", "--to", "chd", "--out", "out/", "--limit", "1", "--json"});
  EXPECT_EQ(big.exit_code, 2) << "a wrong setting is wrong for all: told once";
  EXPECT_EQ(big.json()["errors"].size(), 1u);
}

TEST_F(Batch, SkipExistingTrustsNothingThatIsNotProved) {
  disc("in", "Moth", {20});
  disc("in", "Kestrel", {});
  ASSERT_EQ(cli({"convert", "in", "--to", "chd", "--out", "out/"}).exit_code, 0);
  const std::string was = sha256_file(*this / "out/Moth.chd");
  const Outcome again = cli({"convert", "in", "--to", "chd", "--out", "out/", "--skip-existing", "--json"});
  EXPECT_EQ(again.exit_code, 0) << again.err;
  EXPECT_EQ(again.json()["summary"]["there_already"].size(), 2u);
  EXPECT_EQ(again.json()["summary"]["done"].size(), 0u);
  // Another disc under the name, a damaged file, one that is cut: none of them is right.
  const std::string kestrel = read_file(*this / "out/Kestrel.chd");
  std::string damaged = kestrel;
  damaged[damaged.size() / 2] ^= 1;
  for (const std::string& wrong : {read_file(*this / "out/Moth.chd"), damaged, kestrel.substr(0, kestrel.size() - 9)}) {
    fs::remove(*this / "out/Kestrel.chd");
    write_file(*this / "out/Kestrel.chd", wrong);
    const Outcome run = cli({"convert", "in", "--to", "chd", "--out", "out/", "--skip-existing", "--json"});
    EXPECT_EQ(run.exit_code, 4);
    EXPECT_EQ(codes(run), std::vector<std::string>{"exists"});
    EXPECT_EQ(read_file(*this / "out/Kestrel.chd"), wrong) << "it is the user's";
  }
  EXPECT_EQ(cli({"convert", "in", "--to", "chd", "--out", "out/", "--skip-existing", "--overwrite"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "out/Moth.chd"), was);
  EXPECT_EQ(read_file(*this / "out/Kestrel.chd"), kestrel);
}

TEST_F(Batch, ASheetThatReadsOtherBinsIsNotTakenForTheOutput) {
  disc("in", "Moth", {20});
  ASSERT_EQ(cli({"convert", "in", "--to", "cue-tracks", "--out", "out/"}).exit_code, 0);
  ASSERT_EQ(cli({"convert", "in", "--to", "cue-tracks", "--out", "out/", "--skip-existing"}).exit_code, 0);
  // The sheet decodes to the input, but of the bins beside it one is another.
  const std::string sheet = read_file(*this / "out/Moth.cue");
  fs::copy(*this / "out/Moth (Track 2).bin", *this / "out/elsewhere.bin");
  std::string other = sheet;
  other.replace(other.find("Moth (Track 2).bin"), 18, "elsewhere.bin");
  fs::remove(*this / "out/Moth.cue");
  write_file(*this / "out/Moth.cue", other);
  flip_byte(*this / "out/Moth (Track 2).bin", 5000);
  EXPECT_EQ(cli({"convert", "in", "--to", "cue-tracks", "--out", "out/", "--skip-existing"}).exit_code, 4);
}

TEST_F(Batch, TheInputIsNeverTakenForAnOutput) {
  disc("in", "Moth", {20});
  const auto before = listing(*this / "in");
  for (const char* how : {"--skip-existing", "--overwrite"}) {
    const Outcome run = cli({"convert", "in", "--to", "cue", how});
    EXPECT_EQ(run.exit_code, 0) << run.err;
    EXPECT_TRUE(contains(run.out, "left out  in/Moth.cue: it is cue already")) << run.out;
    EXPECT_EQ(cli({"convert", "in/Moth.cue", "--to", "cue", how}).exit_code, 4) << "named alone it is refused";
  }
  EXPECT_EQ(listing(*this / "in"), before);
}

TEST_F(Batch, BesideItsInputsAStoppedBatchGoesOn) {
  disc("in", "Moth", {20});
  disc("in", "Kestrel", {});
  ASSERT_EQ(cli({"convert", "in/Moth.cue", "--to", "chd"}).exit_code, 0);
  const std::string moth_chd = sha256_file(*this / "in/Moth.chd");
  // The folder now holds an output beside its input: it is no input of its own.
  EXPECT_EQ(cli({"convert", "in", "--to", "chd"}).exit_code, 4) << "it is in the way, and nobody said what to do";
  EXPECT_FALSE(fs::exists(*this / "in/Kestrel.chd"));
  const Outcome run = cli({"convert", "in", "--to", "chd", "--skip-existing", "--json"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(run.json()["summary"]["there_already"].size(), 1u);
  EXPECT_EQ(run.json()["summary"]["done"].size(), 1u);
  EXPECT_EQ(run.json()["summary"]["left_out"][0]["code"], "this_format");
  EXPECT_EQ(sha256_file(*this / "in/Moth.chd"), moth_chd);
  // Another dump of that name is not replaced by the way.
  fs::copy_file(*this / "in/Kestrel.chd", *this / "in/Moth.chd", fs::copy_options::overwrite_existing);
  EXPECT_EQ(cli({"convert", "in", "--to", "chd", "--skip-existing", "--overwrite"}).exit_code, 4);
}

TEST_F(Batch, WhatWasNotLookedAtIsNoGoodNews) {
  disc("in", "Moth", {});
  EXPECT_EQ(cli({"check", "in"}).exit_code, 0);
  fs::copy_file(vector_path("iso/ps3.pkg"), *this / "in/game.pkg");
  const Outcome package = cli({"check", "in", "--json"});
  EXPECT_EQ(package.exit_code, 1) << "a package among them was not verified";
  EXPECT_EQ(package.json()["summary"]["left_out"][0]["code"], "not_an_image");
  EXPECT_EQ(cli({"convert", "in", "--to", "chd", "--out", "out/"}).exit_code, 0) << "nobody asked to convert that";
  fs::remove(*this / "in/game.pkg");
  disc("elsewhere", "Kestrel", {});
  fs::create_directory_symlink(*this / "elsewhere", *this / "in/link");
  const Outcome link = cli({"check", "in", "--json"});
  EXPECT_NE(link.exit_code, 0) << "a link is not followed: what is behind it was not checked";
  EXPECT_EQ(link.json()["errors"][0]["code"], "link");
  fs::remove(*this / "in/link");
  fs::path deep = *this / "in";
  for (int i = 0; i < 30; ++i) deep /= "d";
  fs::create_directories(deep);
  EXPECT_EQ(cli({"check", "in", "--json"}).json()["errors"][0]["code"], "too_deep");
}

TEST_F(Batch, MoreFilesThanAProcessMayHaveOpen) {
  for (int i = 0; i < 12; ++i) {
    const std::string where = fmt::format("in/{}", i);
    fs::create_directories(*this / where);
    demo::write_disc({.stem = fmt::format("game{}", i),
                      .data_sectors = 40,
                      .audio_sectors = std::vector<std::uint32_t>(30, 4),
                      .pregap_sectors = 2},
                     *this / where, demo::Files::bin_per_track, Existing::replace);
  }
  const Outcome run = run_program(
      "/bin/sh", {"-c", std::string("ulimit -n 300; '") + OPIFEX_PROGRAM + "' convert in --to cue --out out/"},
      folder.path());
  EXPECT_EQ(run.exit_code, 0) << run.out << run.err;
  EXPECT_EQ(listing(*this / "out").size(), 24u);
}

TEST_F(Batch, ArchivesAndDrivesInAFolderAreLookedInto) {
  disc("in", "Moth", {});
  fs::create_directories(*this / "all");
  const Outcome packed =
      run_program("/usr/bin/bsdtar", {"-a", "-cf", "../all/moth.zip", "Moth.cue", "Moth.bin"}, *this / "in");
  ASSERT_EQ(packed.exit_code, 0) << packed.err;
  const Outcome run = cli({"convert", "all", "--to", "chd", "--out", "out/", "--json"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_TRUE(fs::exists(*this / "out/Moth.chd"));
  const Outcome checked = cli({"check", "all", "--json"});
  EXPECT_EQ(checked.exit_code, 0) << checked.err;
  EXPECT_EQ(checked.json()["results"].size(), 1u);
}

TEST_F(Batch, CheckingAFolderSaysALineEach) {
  disc("in", "Moth", {20});
  disc("in", "Kestrel", {});
  flip_byte(*this / "in/Kestrel.bin", 30 * 2352 + 700);
  const Outcome run = cli({"check", "in"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "in/Moth.cue  intact")) << run.out;
  EXPECT_TRUE(contains(run.out, "in/Kestrel.cue  repairable")) << run.out;
  EXPECT_TRUE(contains(run.out, "2 images checked (1 not intact)")) << run.out;
  fs::create_directories(*this / "empty");
  EXPECT_EQ(cli({"check", "empty"}).exit_code, 3) << "nothing was looked at: that is no good news";
}

TEST_F(Batch, ExtractingAFolderGivesEachImageItsOwn) {
  disc("in/a", "Moth", {});
  disc("in/b", "Kestrel", {});
  EXPECT_EQ(cli({"extract", "in", "--into", "out"}).exit_code, 0);
  EXPECT_TRUE(fs::is_directory(*this / "out/Moth"));
  EXPECT_TRUE(fs::is_directory(*this / "out/Kestrel"));
  EXPECT_EQ(cli({"files", "in", "--json"}).json()["results"].size(), 2u);
  EXPECT_EQ(cli({"files", "in", "*.NOPE"}).exit_code, 2) << "none of them has it";
  disc("in/c", "MOTH", {});
  const Outcome clash = cli({"extract", "in", "--into", "again", "--json"});
  EXPECT_NE(clash.exit_code, 0);
  EXPECT_EQ(codes(clash), std::vector<std::string>{"same_output"});
}

TEST_F(Batch, SeveralFoldersBecomeSeveralImages) {
  write_file(*this / "one/a.txt", "a");
  write_file(*this / "two/b.txt", "b");
  EXPECT_EQ(cli({"build", "one", "two", "--as", "iso", "--out", "out"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "out/one.iso") && fs::exists(*this / "out/two.iso"));
  EXPECT_EQ(cli({"build", "one", "./one", "--as", "iso", "--out", "x"}).exit_code, 4);
}

TEST_F(Batch, RescueTakesAFolderOfDumpsAndLeavesNoneOutInSilence) {
  disc("dumps/a", "Moth", {});
  disc("dumps/b", "Moth", {});
  flip_byte(*this / "dumps/a/Moth.bin", 20 * 2352 + 500);
  flip_byte(*this / "dumps/b/Moth.bin", 30 * 2352 + 500);
  EXPECT_EQ(cli({"rescue", "dumps", "--out", "joined.cue"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "joined.cue"}).exit_code, 0);
  disc("dumps/c", "Moth", {});
  fs::remove(*this / "dumps/c/Moth.bin");
  EXPECT_EQ(cli({"rescue", "dumps", "--out", "again.cue"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "again.cue"));
}

/// What a folder holds, and what has to come of it.
struct Truth {
  int exit_code = 0;
  std::map<std::string, std::string> outputs;  // sha256 by name
};

class RandomBatches : public Batch {
 protected:
  struct Kind {
    std::string name, chd, iso;  // sha256 of what a single conversion makes; iso empty: no such loss
    bool music;
  };
  static constexpr std::size_t kKinds = 4;

  /// Single conversions are tested elsewhere: they are the model here.
  void make_references() {
    for (std::size_t k = 0; k < kKinds; ++k) {
      const bool music = k % 2 == 1;
      disc("ref", fmt::format("disc{}", k), music ? std::vector<std::uint32_t>{20} : std::vector<std::uint32_t>{},
           k + 1);
      const std::string sheet = fmt::format("ref/disc{}.cue", k), out = fmt::format("made/disc{}", k);
      ASSERT_EQ(cli({"convert", sheet, "--to", "chd", "--out", out + ".chd"}).exit_code, 0);
      ASSERT_EQ(cli({"convert", sheet, "--to", "iso", "--out", out + ".iso", "--accept", "audio"}).exit_code, 0);
      kinds.push_back(
          {fmt::format("disc{}", k), sha256_file(*this / (out + ".chd")), sha256_file(*this / (out + ".iso")), music});
    }
  }

  void put(const std::string& where, const Kind& kind, const std::string& stem) {
    std::string sheet = read_file(*this / ("ref/" + kind.name + ".cue"));
    sheet.replace(sheet.find(kind.name), kind.name.size(), stem);
    write_file(*this / (where + "/" + stem + ".cue"), sheet);
    fs::copy(*this / ("ref/" + kind.name + ".bin"), *this / (where + "/" + stem + ".bin"));
  }

  std::vector<Kind> kinds;
};

TEST_F(RandomBatches, EndAsTheModelSays) {
  make_references();
  const std::uint64_t seed = 20261130;
  Random random(seed);
  constexpr int kRounds = 60;
  std::map<int, int> ends;
  for (int round = 0; round < kRounds; ++round) {
    const std::string in = fmt::format("r{}/in", round), out = fmt::format("r{}/out", round);
    const std::string to = random.below(2) == 0 ? "chd" : "iso";
    const bool skip = random.below(2) == 0, overwrite = random.below(4) == 0, accept = random.below(2) == 0;
    bool left_out = false, clash = false, in_the_way = false, lost = false;
    std::set<std::string> stems;
    Truth truth;
    const std::size_t sources = 1 + random.below(4);
    for (std::size_t s = 0; s < sources; ++s) {
      const std::string where = fmt::format("{}/f{}", in, s);
      const std::string stem = fmt::format("game{}", random.below(12));
      const std::uint64_t what = random.below(8);
      if (what == 6) {
        write_file(*this / (where + "/" + stem + ".cue"),
                   "FILE \"absent.bin\" BINARY\n TRACK 01 AUDIO\n INDEX 01 00:00:00\n");
        left_out = true;
        continue;
      }
      if (what == 7) {
        write_file(*this / (where + "/" + stem + ".cue"), std::string("\0\1\2", 3));
        left_out = true;
        continue;
      }
      const Kind& kind = kinds[random.below(kKinds)];
      put(where, kind, stem);
      clash = !stems.insert(stem).second || clash;
      const std::string target = out + "/" + stem + "." + to;
      const std::string& right = to == "chd" ? kind.chd : kind.iso;
      truth.outputs[stem + "." + to] = right;
      const std::uint64_t there = random.below(4);
      bool skipped = false;
      if (there == 0 && !fs::exists(*this / target)) {
        write_file(*this / target, read_file(*this / ("made/" + kind.name + "." + to)));
        skipped = skip;
        in_the_way = in_the_way || (!skip && !overwrite);
      } else if (there == 1 && !fs::exists(*this / target)) {
        write_file(*this / target, "something of the user's");
        in_the_way = in_the_way || !overwrite;
      }
      lost = lost || (kind.music && to == "iso" && !accept && !skipped);
    }
    const bool needs_word = clash || in_the_way || lost;
    truth.exit_code = needs_word ? 4 : left_out ? 3 : 0;
    const auto before = listing(*this / fmt::format("r{}", round));
    std::vector<std::string> words = {"convert", in, "--to", to, "--out", out + "/"};
    if (skip) words.emplace_back("--skip-existing");
    if (overwrite) words.emplace_back("--overwrite");
    if (accept) words.insert(words.end(), {"--accept", "audio"});
    const Outcome run = cli(words);
    const std::string story =
        fmt::format("seed {} round {}: {}\n{}{}", seed, round, fmt::join(words, " "), run.out, run.err);
    ASSERT_EQ(run.exit_code, truth.exit_code) << story;
    ++ends[run.exit_code];
    if (needs_word) {
      EXPECT_EQ(listing(*this / fmt::format("r{}", round)), before) << story;
      continue;
    }
    for (const auto& [name, sha] : truth.outputs)
      EXPECT_EQ(sha256_file(*this / (out + "/" + name)), sha) << name << story;
  }
  EXPECT_GT(ends[0], 5) << "the rounds are all alike";
  EXPECT_GT(ends[3], 2);
  EXPECT_GT(ends[4], 5);
}

}  // namespace
}  // namespace opifex::testkit
