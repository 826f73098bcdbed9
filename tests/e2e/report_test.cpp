// Reports: a page, figures, tables and the result of a command in a folder, whole or not at all.
#include "picture.hpp"
#include "program.hpp"

namespace opifex::testkit {
namespace {

using json = nlohmann::json;

class Report : public Program {
 protected:
  void SetUp() override { make_workshop(); }
  void damage_kestrel(std::uint64_t first, int sectors) {
    for (int s = 0; s < sectors; ++s)
      for (int i = 0; i < 300; ++i)
        flip_byte(*this / "Kestrel Circuit (Disc 1).bin",
                  (first + static_cast<std::uint64_t>(s)) * 2352 + 100 + static_cast<std::uint64_t>(i) * 5);
  }
  std::string page(const std::string& report) { return read_file(*this / (report + "/report.html")); }
  json result(const std::string& report) { return json::parse(read_file(*this / (report + "/result.json"))); }
  /// Lines of a table, with its head; cells of ours have no line ends.
  std::size_t lines(const std::string& report, const std::string& table) {
    const std::string text = read_file(*this / (report + "/" + table + ".csv"));
    return static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
  }
  bool has(const std::string& report, const std::string& file) { return fs::exists(*this / (report + "/" + file)); }
};

/// Without what differs from run to run.
json timeless(json results) {
  for (json& r : results)
    for (const char* key : {"seconds", "began"}) r.erase(key);
  return results;
}

struct Case {
  const char* name;
  std::vector<std::string> words;
  std::vector<const char*> figures, tables;
  int exit_code = 0;
};

TEST_F(Report, EveryCommandThatHasSomethingToShowWritesOne) {
  ASSERT_EQ(cli({"lists", "--make", ".", "--out", "mine.dat"}).exit_code, 0);
  damage_kestrel(22, 2);
  write_file(*this / "scratch.toml",
             "seed = 7\n[disc]\nimage = \"Moth & Lantern.cue\"\n[[defects]]\nkind = \"unreadable\"\nlba = [24, 30]\n");
  ASSERT_EQ(cli({"shelf", "add", ".", "--at", "s.sqlite"}).exit_code, 1);
  const std::vector<Case> cases = {
      {"identify", {"identify", moth}, {"disc-layout", "density"}, {"results", "tracks"}},
      {"check", {"check", kestrel1}, {"disc-layout", "sector-map", "files-hit"}, {"results", "tracks", "findings"}, 1},
      {"compare", {"check", moth, "--same-as", kestrel2}, {}, {"results"}, 1},
      {"dump",
       {"dump", "sim:scratch.toml", "--out", "d/"},
       {"disc-layout", "sector-map", "reading-speed", "readings", "files-hit"},
       {"results", "tracks", "outputs"},
       1},
      {"rescue",
       {"rescue", "d/MOTH_LANTERN.cue", moth, "--out", "whole.cue"},
       {"disc-layout", "sector-map"},
       {"results", "ranges"}},
      {"convert",
       {"convert", moth, "--to", "chd", "--out", "m.chd"},
       {"sizes", "compression", "codecs", "disc-layout"},
       {"results", "outputs"}},
      {"extract", {"extract", moth, "--into", "files"}, {}, {"results", "outputs"}},
      {"files", {"files", moth}, {"disc-layout"}, {"results", "entries"}},
      {"lists", {"lists", "mine.dat"}, {}, {"results"}},
      {"missing", {"lists", "mine.dat", "--missing", "."}, {"sets"}, {"results"}, 1},
      {"against", {"check", moth, "--against", "mine.dat"}, {"disc-layout"}, {"results", "known-lists"}},
      {"list", {"shelf", "list", "--at", "s.sqlite"}, {"platforms", "space", "age", "verdicts"}, {"results", "items"}},
      {"stats",
       {"shelf", "stats", "--at", "s.sqlite"},
       {"platforms", "formats", "space", "age", "verdicts"},
       {"results", "platforms"}},
      {"sets", {"shelf", "sets", "--at", "s.sqlite"}, {"sets"}, {"results", "sets"}},
  };
  for (const Case& c : cases) {
    std::vector<std::string> words = c.words;
    words.insert(words.end(), {"--report", std::string("r-") + c.name, "--json"});
    const Outcome run = cli(words);
    EXPECT_EQ(run.exit_code, c.exit_code) << c.name << ": " << run.err;
    const std::string report = std::string("r-") + c.name;
    ASSERT_TRUE(has(report, "report.html")) << c.name << ": " << run.err;
    const json kept = result(report);
    EXPECT_EQ(timeless(kept["results"]), timeless(run.json()["results"])) << c.name;
    EXPECT_EQ(kept["report"]["exit"], c.exit_code) << c.name;
    for (const char* figure : c.figures) {
      ASSERT_TRUE(has(report, std::string(figure) + ".png")) << c.name << " " << figure;
      const Picture picture = open_picture(*this / (report + "/" + figure + ".png"));
      EXPECT_EQ(picture.width, 1280u) << c.name << " " << figure;
      EXPECT_LE(picture.height, 800u) << c.name << " " << figure;
      EXPECT_GT(picture.colours(), 3u) << c.name << " " << figure;
      for (const char* ending : {".svg", ".dat", ".gp"})
        EXPECT_TRUE(has(report, figure + std::string(ending))) << c.name;
    }
    for (const char* table : c.tables) EXPECT_GE(lines(report, table), 2u) << c.name << " " << table;
    const std::string html = page(report);
    EXPECT_EQ(contains(html, "nothing to complain of"), c.exit_code == 0) << c.name;
    EXPECT_FALSE(contains(html, "http://") && !contains(html, "http://www.w3.org/")) << c.name;
    // What the list of files says is there, is there, and nothing else.
    std::set<std::string> listed = {"result.json"};
    for (const auto& [name, sha1] : kept["report"]["files"].items()) listed.insert(name);
    std::set<std::string> there;
    for (const auto& entry : fs::directory_iterator(*this / report)) there.insert(entry.path().filename().string());
    EXPECT_EQ(listed, there) << c.name;
  }
}

TEST_F(Report, TheMapShowsTheSectorsThatAreDamagedAndTheFilesTheyAreIn) {
  damage_kestrel(22, 3);
  const Outcome run = cli({"check", kestrel1, "--json", "--report", "r"});
  ASSERT_EQ(run.exit_code, 1) << run.err;
  std::uint64_t bad = 0;
  const json told = run.json();
  for (const json& range : told["results"][0]["tracks"][0]["ranges"]) bad += range["count"].get<std::uint64_t>();
  EXPECT_EQ(bad, 3u);
  const Picture map = open_picture(*this / "r/sector-map.png");
  EXPECT_GT(map.count(0xC8500A), 500u) << "wrong checksum";
  EXPECT_GT(map.count(0x1B9E77), 50'000u) << "good";
  EXPECT_TRUE(contains(page("r"), "wrong checksum 3")) << "also in words";
  EXPECT_TRUE(contains(page("r"), "of 4 sectors lost")) << "the program's file";
}

TEST_F(Report, WhatIsTooDamagedToBeDrawnIsStillAnswered) {
  for (const char* name :
       {"bad-hunk-stored.chd", "bad-lzma-cut.chd", "bad-cd-base.chd", "bad-v3-crc.chd", "bad-short.chd"}) {
    fs::copy_file(vector_path(std::string("chd/") + name), *this / name);
    const Outcome plain = cli({"check", name, "--json"}),
                  run = cli({"check", name, "--json", "--report", std::string("r-") + name});
    EXPECT_EQ(run.exit_code, 1) << name << run.err;
    EXPECT_EQ(run.json()["results"], plain.json()["results"]) << name;
    const std::string html = page(std::string("r-") + name);
    EXPECT_TRUE(contains(html, "bad news") && contains(html, "damaged")) << name;
  }
}

TEST_F(Report, ChangesNoAnswerWhateverIsWrongWithAnImage) {
  const std::string whole = read_file(*this / kestrel2);
  ASSERT_EQ(cli({"convert", kestrel2, "--to", "chd", "--out", "sound.chd"}).exit_code, 0);
  const std::string packed = read_file(*this / "sound.chd");
  Random random(21);
  int damaged = 0;
  for (int round = 0; round < 24; ++round) {
    std::string bytes = round % 2 == 0 ? whole : packed;
    for (std::uint64_t n = 1 + random.below(4); n > 0; --n) {
      const std::size_t at = random.below(bytes.size());
      if (random.below(3) == 0)
        bytes.erase(at, 1 + random.below(3000));
      else
        bytes[at] = static_cast<char>(bytes[at] ^ (1 + static_cast<int>(random.below(255))));
    }
    const std::string name = round % 2 == 0 ? "x.bin" : "x.chd", report = fmt::format("r{}", round);
    write_file(*this / name, bytes);
    const char* command = round % 3 == 0 ? "identify" : "check";
    const Outcome plain = cli({command, name, "--json"}), run = cli({command, name, "--json", "--report", report});
    EXPECT_EQ(run.exit_code, plain.exit_code) << round << run.err;
    EXPECT_EQ(run.out, plain.out) << round;
    EXPECT_EQ(contains(page(report), "nothing to complain of"), run.exit_code == 0) << round;
    damaged += run.exit_code != 0;
  }
  EXPECT_GT(damaged, 8);
}

TEST_F(Report, AFolderWithOtherThingsIsLeftAlone) {
  write_file(*this / "mine/notes.txt", "mine");
  write_file(*this / "a file", "mine");
  for (const char* place : {"mine", ".", "a file"}) {
    const auto before = listing(folder.path());
    const Outcome run = cli({"dump", "sim:none.toml", "--out", "d/", "--report", place, "--overwrite"});
    EXPECT_EQ(run.exit_code, 4) << place << run.err;
    EXPECT_TRUE(contains(run.err, "among other files")) << run.err;
    EXPECT_EQ(listing(folder.path()), before);
  }
}

TEST_F(Report, AnOlderOneIsReplacedWithTheUsersWordAndNothingOfItStays) {
  damage_kestrel(22, 2);
  ASSERT_EQ(cli({"check", kestrel1, "--report", "r"}).exit_code, 1);
  ASSERT_TRUE(has("r", "findings.csv") && has("r", "sector-map.png"));
  const std::string old = page("r");
  EXPECT_EQ(cli({"check", moth, "--report", "r"}).exit_code, 4);
  EXPECT_EQ(page("r"), old);
  write_file(*this / "r/files-hit.dat", "changed by the user");
  write_file(*this / "r/notes.txt", "the user's");
  ASSERT_EQ(cli({"check", moth, "--report", "r", "--overwrite"}).exit_code, 0);
  EXPECT_NE(page("r"), old);
  EXPECT_FALSE(has("r", "findings.csv") || has("r", "sector-map.png")) << "they would be taken for a part of this one";
  EXPECT_EQ(read_file(*this / "r/files-hit.dat"), "changed by the user");
  EXPECT_EQ(read_file(*this / "r/notes.txt"), "the user's");
}

TEST_F(Report, AListOfFilesThatLiesRemovesNothing) {
  ASSERT_EQ(cli({"check", moth, "--report", "r"}).exit_code, 0);
  write_file(*this / "r/mine.dat", "the user's");
  write_file(*this / "outside.csv", "the user's");
  json kept = result("r");
  kept["report"]["files"] = {{"mine.dat", std::string(40, '0')},
                             {"../outside.csv", "da39a3ee5e6b4b0d3255bfef95601890afd80709"},
                             {"report.html", nullptr},
                             {"/etc/passwd", "x"},
                             {"..", "x"},
                             {"", ""}};
  write_file(*this / "r/result.json", kept.dump(2) + "\n");
  const Outcome run = cli({"check", kestrel2, "--report", "r", "--overwrite"});
  EXPECT_EQ(run.exit_code, 4) << "report.html is on no list: " << run.err;
  EXPECT_EQ(read_file(*this / "r/mine.dat"), "the user's");
  EXPECT_EQ(read_file(*this / "outside.csv"), "the user's");
  for (const char* text :
       {"", "{}", "\n  \"report\": {\n", "\n  \"report\": {\"files\": 7}}", "\n  \"report\": [[[[[[[}"}) {
    write_file(*this / "r/result.json", text);
    EXPECT_EQ(cli({"check", kestrel2, "--report", "r", "--overwrite"}).exit_code, 4) << text;
    EXPECT_EQ(read_file(*this / "r/mine.dat"), "the user's");
  }
}

TEST_F(Report, AnInputInItsFolderIsNeverWritten) {
  ASSERT_EQ(cli({"check", moth, "--report", "r"}).exit_code, 0);
  const std::string table = read_file(*this / "r/tracks.csv");
  const Outcome run = cli({"identify", "r/tracks.csv", "--report", "r", "--overwrite"});
  EXPECT_EQ(run.exit_code, 4) << run.err;
  EXPECT_EQ(read_file(*this / "r/tracks.csv"), table);
}

TEST_F(Report, AFolderThatIsLookedThroughMayHoldAnOlderReport) {
  ASSERT_EQ(cli({"check", ".", "--report", "r"}).exit_code, 0);
  EXPECT_EQ(cli({"check", ".", "--report", "r", "--overwrite"}).exit_code, 0);
}

TEST_F(Report, WhatCouldNotBeDoneStandsInIt) {
  write_file(*this / "junk.chd", "MComprHD this is none");
  const Outcome run = cli({"check", moth, "junk.chd", "--report", "r"});
  EXPECT_EQ(run.exit_code, 3) << run.err;
  EXPECT_GE(lines("r", "errors"), 2u);
  EXPECT_TRUE(contains(page("r"), "What could not be done"));
  EXPECT_FALSE(contains(page("r"), "nothing to complain of"));
  EXPECT_EQ(result("r")["report"]["exit"], 3);
}

TEST_F(Report, ACommandLineThatIsWrongLeavesNothing) {
  EXPECT_EQ(cli({"dump", "sim:x.toml", "--report", "r"}).exit_code, 2);
  EXPECT_EQ(cli({"identify", moth, "--report", "r", "--nonsense"}).exit_code, 2);
  EXPECT_FALSE(fs::exists(*this / "r"));
}

TEST_F(Report, NoTemporaryFilesStay) {
  fs::create_directories(*this / "tmp");
  const auto run = [&](const std::string& words) {
    return run_program("/bin/sh", {"-c", fmt::format("TMPDIR=tmp '{}' {}", OPIFEX_PROGRAM, words)}, folder.path());
  };
  EXPECT_EQ(run("check 'Moth & Lantern.cue' --report r").exit_code, 0);
  EXPECT_EQ(run("check junk --report r2").exit_code, 3);
  EXPECT_TRUE(fs::is_empty(*this / "tmp"));
  for (const auto& entry : fs::directory_iterator(*this / "r"))
    EXPECT_FALSE(contains(entry.path().filename().string(), "opifex"));
  const Outcome without = run_program(
      "/bin/sh", {"-c", fmt::format("TMPDIR=nowhere '{}' check kestrel --report r3", OPIFEX_PROGRAM)}, folder.path());
  EXPECT_EQ(without.exit_code, 5) << without.err;
}

TEST_F(Report, WithoutGnuplotThePageIsThereAndTheUserIsTold) {
  const Outcome run = run_program(
      "/bin/sh", {"-c", fmt::format("PATH=/nowhere '{}' check 'Moth & Lantern.cue' --report r", OPIFEX_PROGRAM)},
      folder.path());
  EXPECT_EQ(run.exit_code, 5) << run.err;
  EXPECT_TRUE(contains(run.err, "install gnuplot-nox")) << run.err;
  EXPECT_TRUE(has("r", "report.html"));
  EXPECT_FALSE(has("r", "disc-layout.png") || has("r", "disc-layout.dat"));
  EXPECT_TRUE(contains(page("r"), "Moth"));
}

TEST_F(Report, OneThatCannotBeWrittenWholeIsNotWritten) {
  // 16 KiB a file: the page does not fit.
  const Outcome run = run_program(
      "/bin/bash", {"-c", fmt::format("ulimit -f 16; exec '{}' check 'Moth & Lantern.cue' --report r", OPIFEX_PROGRAM)},
      folder.path());
  EXPECT_EQ(run.exit_code, 5) << run.err;
  EXPECT_TRUE(!fs::exists(*this / "r") || fs::is_empty(*this / "r"));
  EXPECT_TRUE(contains(run.out, "intact")) << "the answer itself was given";
}

TEST_F(Report, CellsOfATableAreNoFormulas) {
  fs::copy_file(*this / kestrel1, *this / "@SUM(1+1).cue");
  ASSERT_EQ(cli({"check", "@SUM(1+1).cue", "--report", "r"}).exit_code, 0);
  EXPECT_TRUE(contains(read_file(*this / "r/results.csv"), "\n'@SUM(1+1).cue,")) << read_file(*this / "r/results.csv");
}

TEST_F(Report, OfManyImagesThoseWithSomethingWrongAreDrawn) {
  fs::create_directories(*this / "many");
  for (int i = 0; i < 30; ++i) fs::copy_file(*this / kestrel2, *this / fmt::format("many/{:02}.bin", i));
  flip_byte(*this / "many/29.bin", 40 * 2352 + 500);
  ASSERT_EQ(cli({"check", "many", "--report", "r"}).exit_code, 1);
  EXPECT_EQ(lines("r", "results"), 31u);
  EXPECT_TRUE(has("r", "disc-layout.png") && has("r", "sector-map.png")) << "thirty sound ones took no room from it";
  EXPECT_FALSE(has("r", "disc-layout-2.png"));
  EXPECT_TRUE(contains(page("r"), "29.bin, in sectors"));
}

TEST_F(Report, QuestionsToTheShelfAsCsvHaveOneToo) {
  ASSERT_EQ(cli({"shelf", "add", ".", "--at", "s.sqlite"}).exit_code, 0);
  const Outcome run = cli({"shelf", "list", "--at", "s.sqlite", "--csv", "--report", "r"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(lines("r", "items"), static_cast<std::size_t>(std::count(run.out.begin(), run.out.end(), '\n')));
}

TEST_F(Report, WhatIsSaidOnTheTerminalStaysTheSame) {
  const Outcome plain = cli({"identify", moth}), run = cli({"identify", moth, "--report", "r"});
  EXPECT_EQ(run.out, plain.out) << "a report changes nothing of what is said";
  EXPECT_TRUE(contains(page("r"), "As the terminal shows it"));
}

}  // namespace
}  // namespace opifex::testkit
