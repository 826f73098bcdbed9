// Records. "Nothing has changed" would be false of one changed byte of any file in it, of a file that is gone, of an
// output that does not decode any more, of a record that lies or tells of nothing, of a drive that cannot be read.
#include "opifex/core/base/hash.hpp"
#include "opifex/demo/workshop.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class Records : public Program {
 protected:
  Records() {
    auto recipe = demo::workshop_recipes()[0];
    recipe.stem = "moth";
    demo::write_disc(recipe, *this / "moth", demo::Files::bin_per_track);
  }
  /// 0 if the record fits the schema, by a validator that is not ours.
  int validate(const std::string& file) const {
    return std::system(fmt::format("cd '{}' && /usr/bin/python3 -m jsonschema -i '{}' "
                                   "'{}/data/schema/record.schema.json' > told 2>&1",
                                   folder.path().string(), file, OPIFEX_SOURCE)
                           .c_str());
  }
  int check(const std::string& record, std::vector<std::string> more = {}) {
    std::vector<std::string> words{"check", "--record", record};
    words.insert(words.end(), more.begin(), more.end());
    return cli(words).exit_code;
  }
  json told(const std::string& record, std::vector<std::string> more = {}) {
    std::vector<std::string> words{"check", "--record", record, "--json"};
    words.insert(words.end(), more.begin(), more.end());
    return json::parse(cli(words).out)["results"][0];
  }
  /// The job leaves a valid record, and its check is good news.
  void expect_recorded(std::vector<std::string> words, const std::string& record, int exit = 0) {
    SCOPED_TRACE(fmt::format("{}", fmt::join(words, " ")));
    words.insert(words.end(), {"--record", record});
    const Outcome outcome = cli(words);
    ASSERT_EQ(outcome.exit_code, exit) << outcome.out << outcome.err;
    ASSERT_TRUE(fs::exists(*this / record)) << outcome.err;
    EXPECT_EQ(validate(record), 0) << read_file(*this / "told");
    EXPECT_EQ(check(record), 0) << cli({"check", "--record", record}).out;
    const std::string text = read_file(*this / record);
    EXPECT_FALSE(contains(text, folder.path().string())) << "it belongs to no computer: " << text;
  }
  void pack(const std::string& archive, const std::string& of) const {
    ASSERT_EQ(
        std::system(fmt::format("cd '{}' && bsdtar -a -cf '{}' '{}'", folder.path().string(), archive, of).c_str()), 0);
  }
  json read_json(const std::string& file) const { return json::parse(read_file(folder.path() / file)); }
  void convert() {
    expect_recorded({"convert", "moth/moth.cue", "--to", "chd", "--out", "out/moth.chd"}, "out/moth.json");
  }
};

TEST_F(Records, EveryCommandThatWritesImagesLeavesAValidOne) {
  convert();
  EXPECT_EQ(read_json("out/moth.json")["results"][0]["same_content"], true);
  expect_recorded({"convert", "out/moth.chd", "--to", "vcd", "--out", "out/moth.vcd"}, "out/vcd.json");
  expect_recorded({"merge", "moth/moth.cue", "--out", "merged/moth.cue"}, "merged/r.json");
  expect_recorded({"split", "merged/moth.cue", "--out", "split/", "--by", "tracks"}, "split/r.json");
  expect_recorded(
      {"convert", "moth/moth.cue", "--to", "iso", "--accept", "audio,tracks,form2", "--out", "out/moth.iso"},
      "out/iso.json");
  const json lossy = read_json("out/iso.json")["results"][0];
  EXPECT_EQ(lossy["same_content"], false);
  EXPECT_EQ(lossy["losses"][0]["accepted_by"], "accept");
  EXPECT_EQ(read_json("out/iso.json")["settings"]["accept"], "audio,tracks,form2");
  EXPECT_TRUE(lossy["compared"].is_string());
  expect_recorded({"split", "out/moth.iso", "--limit", "200KB", "--out", "parts/"}, "parts/r.json");
  expect_recorded({"extract", "out/moth.iso", "--into", "files"}, "files.json");
  expect_recorded({"build", "files", "--as", "iso", "--out", "out/again.iso"}, "out/build.json");
  expect_recorded({"lists", "--make", "moth", "--out", "moth.dat"}, "lists.json");
}

TEST_F(Records, DumpsAndRescuesHaveOneBesideThem) {
  write_file(*this / "moth/worn.toml",
             "seed = 7\n[disc]\nimage = \"moth.cue\"\n[[defects]]\nkind = \"unreadable\"\nlba = [40, 41]\n");
  write_file(*this / "moth/fine.toml", "seed = 7\n[disc]\nimage = \"moth.cue\"\n");
  ASSERT_EQ(cli({"dump", "sim:moth/fine.toml", "--out", "o/fine.cue", "--record"}).exit_code, 0);
  ASSERT_EQ(cli({"dump", "sim:moth/worn.toml", "--out", "o/worn.cue", "--record"}).exit_code, 1);
  ASSERT_EQ(cli({"rescue", "o/fine.cue", "o/worn.cue", "--out", "o/joined.cue", "--record"}).exit_code, 0);
  for (const char* record : {"o/fine.dump.json", "o/worn.dump.json", "o/joined.rescue.json"}) {
    write_file(*this / "proof.json", read_json(record)["proof"].dump());
    EXPECT_EQ(validate("proof.json"), 0) << read_file(*this / "told");
    EXPECT_EQ(check(record), 0) << record << cli({"check", "--record", record}).out;
  }
  flip_byte(*this / "o/fine.bin", 1'000'000);
  EXPECT_EQ(check("o/fine.dump.json"), 1);
  EXPECT_EQ(check("o/joined.rescue.json"), 1) << "that was one of its inputs";
}

TEST_F(Records, ChangesInPlaceTellWhatWasThereBefore) {
  write_file(*this / "tree/readme", "harbor");
  write_file(*this / "late", "news");
  ASSERT_EQ(cli({"build", "tree", "--as", "adf", "--out", "d.adf"}).exit_code, 0);
  const std::string before = digest_of("sha256", as_view(read_file(*this / "d.adf")));
  expect_recorded({"put", "d.adf", "late"}, "put.json");
  const json result = read_json("put.json")["results"][0];
  EXPECT_EQ(result["inputs"][0]["sha256"], before);
  EXPECT_EQ(result["inputs"][0]["replaced"], true);
  EXPECT_EQ(result["inputs"][1]["path"], "late");
  expect_recorded({"drop", "d.adf", "late"}, "drop.json");
  EXPECT_EQ(check("put.json"), 1) << "it has changed again";
}

TEST_F(Records, PatchesSavesAndNamesHaveOneToo) {
  const std::string rom = gunzip(vector_path("floppycart/kestrel.sfc.gz"));
  std::string other = rom;
  other.replace(1000, 10, "HELLOWORLD");
  write_file(*this / "old.sfc", rom);
  write_file(*this / "new.sfc", other);
  expect_recorded({"patch", "make", "old.sfc", "new.sfc", "--out", "p.bps"}, "make.json");
  expect_recorded({"patch", "apply", "p.bps", "old.sfc", "--out", "made.sfc"}, "apply.json");
  write_file(*this / "a.sav", as_text(Random(3).bytes(8192)));
  expect_recorded({"save", "convert", "a.sav", "--save-size", "32KiB", "--out", "b.sav"}, "save.json");
  expect_recorded({"rename", "moth/moth.cue", "lantern"}, "rename.json");
  ASSERT_EQ(cli({"lists", "--make", "moth", "--out", "l.dat"}).exit_code, 0);
  ASSERT_EQ(cli({"rename", "moth/lantern.cue", "other"}).exit_code, 0);
  expect_recorded({"rename", "moth", "--by", "l.dat"}, "by.json");
}

TEST_F(Records, AMendedCopyHasOne) {
  flip_byte(*this / "moth/moth (Track 1).bin", 2352 * 20 + 100);
  expect_recorded({"check", "moth/moth.cue", "--repair", "--out", "mended/moth.cue"}, "mended/r.json");
  EXPECT_EQ(read_json("mended/r.json")["results"][0]["same_content"], false);
}

TEST_F(Records, OneByteOfAnyFileIsFound) {
  convert();
  std::vector<std::string> files;
  const json record = read_json("out/moth.json");
  for (const json& f : record["results"][0]["inputs"]) files.push_back("out/" + f["path"].get<std::string>());
  files.emplace_back("out/moth.chd");
  ASSERT_EQ(files.size(), 6U);
  Random random(11);
  for (const std::string& file : files) {
    const auto time = fs::last_write_time(*this / file);
    const std::uint64_t at = random.below(fs::file_size(*this / file));
    flip_byte(*this / file, at);
    fs::last_write_time(*this / file, time);
    EXPECT_EQ(check("out/moth.json"), 1) << file << " at " << at;
    EXPECT_TRUE(contains(cli({"check", "--record", "out/moth.json"}).out, "CHANGED"));
    flip_byte(*this / file, at);
  }
  EXPECT_EQ(check("out/moth.json"), 0);
  for (const std::string& file : files) {
    fs::rename(*this / file, *this / "aside");
    EXPECT_EQ(check("out/moth.json"), 1) << file;
    EXPECT_TRUE(contains(cli({"check", "--record", "out/moth.json"}).out, "GONE"));
    fs::create_directory(*this / file);
    EXPECT_EQ(check("out/moth.json"), 1) << "a folder of its name";
    fs::remove(*this / file);
    fs::rename(*this / "aside", *this / file);
  }
}

TEST_F(Records, WhatHasMovedIsFoundByItsContent) {
  convert();
  fs::create_directories(*this / "far/away");
  fs::rename(*this / "out/moth.chd", *this / "far/away/renamed.chd");
  EXPECT_EQ(check("out/moth.json"), 1);
  const json found = told("out/moth.json", {"far"});
  EXPECT_EQ(found["good"], true);
  EXPECT_EQ(found["results"][0]["outputs"][0]["state"], "moved");
  EXPECT_EQ(found["results"][0]["outputs"][0]["found"], "far/away/renamed.chd");
  EXPECT_EQ(found["results"][0]["output_content"], "same");
  flip_byte(*this / "far/away/renamed.chd", 300'000);
  EXPECT_EQ(check("out/moth.json", {"far"}), 1);
}

TEST_F(Records, AWholeFolderMayBeElsewhere) {
  expect_recorded({"convert", "moth/moth.cue", "--to", "chd", "--out", "moth/moth.chd"}, "moth/moth.json");
  fs::rename(*this / "moth", *this / "elsewhere");
  EXPECT_EQ(check("elsewhere/moth.json"), 0);
}

TEST_F(Records, TheContentIsToldApartFromTheFile) {
  convert();
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "out/moth.chd", "--codecs", "cdzl", "--overwrite"})
                .exit_code,
            0);
  const json result = told("out/moth.json")["results"][0];
  EXPECT_EQ(result["outputs"][0]["state"], "changed");
  EXPECT_EQ(result["output_content"], "same");
  EXPECT_EQ(check("out/moth.json"), 1) << "the file is another one all the same";
}

TEST_F(Records, AnOutputWhoseParentIsGoneDoesNotDecode) {
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "p/first.chd"}).exit_code, 0);
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--parent", "p/first.chd", "--out", "p/child.chd",
                 "--record", "p/child.json"})
                .exit_code,
            0);
  ASSERT_EQ(check("p/child.json"), 0);
  fs::rename(*this / "p/first.chd", *this / "elsewhere.chd");
  EXPECT_EQ(check("p/child.json"), 1) << "not a byte of it has changed, and it is worth nothing";
  EXPECT_EQ(told("p/child.json")["results"][0]["output_content"], "unreadable");
}

TEST_F(Records, ARecordThatLiesIsNotBelieved) {
  convert();
  const json right = read_json("out/moth.json");
  const auto with = [&](const std::function<void(json&)>& change) {
    json changed = right;
    change(changed["results"][0]);
    write_file(*this / "out/lie.json", changed.dump());
    return check("out/lie.json");
  };
  ASSERT_EQ(with([](json&) {}), 0);
  const std::string other(64, 'a');
  EXPECT_EQ(with([&](json& r) { r["outputs"][0]["sha256"] = other; }), 1);
  EXPECT_EQ(with([&](json& r) { r["inputs"][2]["size_bytes"] = 7; }), 1);
  EXPECT_EQ(with([&](json& r) { r["output_content"]["sha256"] = other; }), 3) << "the same, it says";
  EXPECT_EQ(with([&](json& r) { r["output_content"]["sha256"] = other, r["same_content"] = false; }), 1);
  EXPECT_EQ(with([&](json& r) { r["output_content"]["sha256"] = other, r["input_content"]["sha256"] = other; }), 1);
  EXPECT_EQ(with([&](json& r) {
              r["same_content"] = false, r["compared"] = "everything", r["compared_sha1"] = std::string(40, 'b');
            }),
            1);
  EXPECT_EQ(with([&](json& r) { r["outputs"] = json::array(); }), 1) << "it proves nothing";
  EXPECT_EQ(with([&](json& r) { r["input_content"] = nullptr; }), 3);
  EXPECT_EQ(with([&](json& r) { r["outputs"][0]["sha256"] = "A" + other.substr(1); }), 3);
  EXPECT_EQ(with([&](json& r) { r["inputs"] = 7; }), 3);
  EXPECT_EQ(with([&](json& r) { r.erase("losses"); }), 3);
  for (const char* text :
       {"", "[]", "{\"opifex_record\": 2}", "{\"opifex_record\": \"1\"}", "{\"proof\": {}}", "<html>"}) {
    write_file(*this / "out/lie.json", text);
    EXPECT_EQ(check("out/lie.json"), 3) << text;
  }
  json empty = right;
  empty["results"] = json::array();
  write_file(*this / "out/lie.json", empty.dump());
  EXPECT_EQ(check("out/lie.json"), 1) << "it tells of nothing";
  json failed = right;
  failed["failures"] = {"moth.cue: it could not be read"};
  write_file(*this / "out/lie.json", failed.dump());
  EXPECT_EQ(check("out/lie.json"), 1) << "not all of the job was done";
}

TEST_F(Records, AFailingDriveIsNoAnswer) {
  convert();
  int failed = 0;
  for (int n = 1; n < 10'000; n += 1 + n / 3) {
    const int status = WEXITSTATUS(std::system(
        fmt::format("cd '{}' && ASAN_OPTIONS=verify_asan_link_order=0 LD_PRELOAD='{}' OPIFEX_FAULT_BELOW='{}' "
                    "OPIFEX_FAULT=read:{}:eio '{}' check --record out/moth.json > told 2>&1",
                    folder.path().string(), OPIFEX_FAULTS, folder.path().string(), n, OPIFEX_PROGRAM)
            .c_str()));
    if (status == 0) break;
    EXPECT_EQ(status, 5) << n << ": " << read_file(*this / "told");
    ++failed;
  }
  EXPECT_GE(failed, 4);
}

TEST_F(Records, TheRecordStandsInNobodysPlace) {
  convert();
  EXPECT_EQ(cli({"convert", "moth/moth.cue", "--to", "vcd", "--out", "v.vcd", "--record", "out/moth.json"}).exit_code,
            4);
  EXPECT_FALSE(fs::exists(*this / "v.vcd")) << "that could be known before";
  const Outcome own =
      cli({"convert", "moth/moth.cue", "--to", "vcd", "--out", "v.vcd", "--record", "v.vcd", "--overwrite"});
  EXPECT_EQ(own.exit_code, 4) << own.err;
  EXPECT_EQ(cli({"check", "v.vcd"}).exit_code, 0) << "the output is what it was";
  EXPECT_EQ(
      cli({"convert", "moth/moth.cue", "--to", "vcd", "--out", "w.vcd", "--record", "moth/moth.cue", "--overwrite"})
          .exit_code,
      4);
  EXPECT_TRUE(contains(read_file(*this / "moth/moth.cue"), "FILE"));
  EXPECT_EQ(cli({"convert", "moth/moth.cue", "--to", "vcd", "--plan", "--record", "plan.json"}).exit_code, 0);
  EXPECT_FALSE(fs::exists(*this / "plan.json")) << "nothing was done";
}

TEST_F(Records, ABatchHasOneForAllOfIt) {
  fs::create_directories(*this / "discs");
  copy_folder(*this / "moth", *this / "discs/moth");
  auto recipe = demo::workshop_recipes()[1];
  recipe.stem = "kestrel";
  demo::write_disc(recipe, *this / "discs/kestrel", demo::Files::one_bin);
  expect_recorded({"convert", "discs", "--to", "chd", "--out", "packed/"}, "packed.json");
  EXPECT_EQ(read_json("packed.json")["results"].size(), 2U);
  pack("discs.zip", "discs");
  expect_recorded({"convert", "discs.zip", "--to", "vcd", "--out", "unpacked/"}, "zip.json");
  EXPECT_EQ(cli({"check", "--record", "packed.json", "zip.json"}).exit_code, 0);
}

}  // namespace
}  // namespace opifex::testkit
