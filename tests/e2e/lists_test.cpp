// Is it known: as users ask, of whatever their discs are packed in. How a "known" could be wrong: half of it, other
// content under the right name, a container that does not decode, a folder with nothing in it, a list that cannot be
// read.
#include "opifex/core/image/format.hpp"
#include "opifex/demo/workshop.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class KnownLists : public Program {
 protected:
  KnownLists() {
    auto recipes = demo::workshop_recipes();
    recipes[0].stem = "moth";
    recipes[1].stem = "kestrel";
    demo::write_disc(recipes[0], *this / "moth", demo::Files::bin_per_track);
    demo::write_disc(recipes[1], *this / "kestrel", demo::Files::one_bin);
    EXPECT_EQ(cli({"lists", "--make", "moth", "--out", "moth.dat"}).exit_code, 0);
    EXPECT_EQ(cli({"lists", "--make", "kestrel", "--out", "kestrel.dat"}).exit_code, 0);
  }
  json check(const std::string& input, const std::string& list, int exit) {
    const Outcome outcome = cli({"check", input, "--against", list, "--json"});
    EXPECT_EQ(outcome.exit_code, exit) << input << ": " << outcome.out << outcome.err;
    return json::parse(outcome.out);
  }
  std::string known(const std::string& input, const std::string& list, int exit) {
    const json document = check(input, list, exit);
    return document["results"].size() == 1 ? document["results"][0]["known"]["verdict"].get<std::string>()
                                           : std::to_string(document["results"].size()) + " results";
  }
  static bool is_right(const std::string& verdict) { return verdict == "known" || verdict == "renamed"; }
  void pack(const std::string& archive, const std::string& folder_name) {
    ASSERT_EQ(
        std::system(fmt::format("cd '{}' && bsdtar -a -cf '{}' -C '{}' .", folder.path().string(), archive, folder_name)
                        .c_str()),
        0);
  }
};

/// The same disc in every form that can hold all of it: one verdict, whatever it is called there.
TEST_F(KnownLists, TheSameDiscIsKnownInEveryFormatThatHoldsIt) {
  std::size_t tried = 0;
  for (const Format* format : formats()) {
    if (!format->plan_write || !format->holds.audio || !format->holds.track_list || !format->holds.form2) continue;
    SCOPED_TRACE(format->id);
    const std::string id(format->id), into = "as-" + id + "/";
    const std::string out = into + "moth" + std::string(format->extensions.front());
    fs::create_directories(*this / into);
    ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", id, "--out", out}).exit_code, 0);
    const json image = check(out, "moth.dat", 0)["results"][0];
    const std::string verdict = image["known"]["verdict"];
    EXPECT_TRUE(verdict == "known" || verdict == "renamed") << verdict;
    EXPECT_EQ(image["known"]["set"], "moth");
    EXPECT_EQ(image["verdict"], "intact");
    EXPECT_EQ(known(out, "kestrel.dat", 1), "not_known");
    ++tried;
    for (const char* kind : {"zip", "7z"}) {
      pack(fmt::format("{}.{}", id, kind), into);
      EXPECT_EQ(known(fmt::format("{}.{}", id, kind), "moth.dat", 0), verdict) << kind;
    }
  }
  EXPECT_GE(tried, 4U);
}

TEST_F(KnownLists, AListMadeOfAContainerKnowsTheDisc) {
  fs::create_directories(*this / "packed");
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "packed/moth.chd"}).exit_code, 0);
  ASSERT_EQ(cli({"lists", "--make", "packed", "--out", "packed.dat"}).exit_code, 0);
  EXPECT_TRUE(is_right(known("moth/moth.cue", "packed.dat", 0)));
}

TEST_F(KnownLists, OneByteMakesItAnother) {
  const std::string track = "moth/moth (Track 2).bin";
  ASSERT_TRUE(fs::exists(*this / track));
  flip_byte(*this / track, 5000);
  const json image = check("moth/moth.cue", "moth.dat", 1)["results"][0];
  EXPECT_EQ(image["verdict"], "intact") << "music has nothing to verify it by";
  EXPECT_EQ(image["known"]["verdict"], "differs");
  EXPECT_TRUE(contains(image["known"]["why"][0], "Track 2")) << image["known"];
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "moth.chd"}).exit_code, 0);
  EXPECT_EQ(known("moth.chd", "moth.dat", 1), "differs");
  fs::remove(*this / track);
  EXPECT_EQ(known("moth/moth.cue", "moth.dat", 1), "part_missing");
}

TEST_F(KnownLists, ADamagedContainerIsNotKnown) {
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "moth.chd"}).exit_code, 0);
  const std::uint64_t size = fs::file_size(*this / "moth.chd");
  for (const std::uint64_t at : {size / 3, size / 2, size * 3 / 4}) {
    flip_byte(*this / "moth.chd", at);
    const json image = check("moth.chd", "moth.dat", 1)["results"][0];
    EXPECT_NE(image["verdict"], "intact");
    EXPECT_NE(image["known"]["verdict"], "known");
    EXPECT_NE(image["known"]["verdict"], "renamed");
    flip_byte(*this / "moth.chd", at);
  }
}

TEST_F(KnownLists, NothingIsNeverGoodNews) {
  fs::create_directories(*this / "empty");
  EXPECT_EQ(cli({"check", "empty", "--against", "moth.dat"}).exit_code, 1);
  write_file(*this / "notes/readme.txt", "nothing to see");
  EXPECT_EQ(cli({"check", "notes", "--against", "moth.dat"}).exit_code, 1);
  EXPECT_EQ(known("notes/readme.txt", "moth.dat", 1), "not_known");
  EXPECT_EQ(cli({"check", "no such folder", "--against", "moth.dat"}).exit_code, 3);
}

TEST_F(KnownLists, AFileThatIsNoImageMayBeKnown) {
  write_file(*this / "firmware", "abc");
  write_file(*this / "sums.md5", "900150983cd24fb0d6963f7d28e17f72  firmware\n");
  EXPECT_EQ(known("firmware", "sums.md5", 0), "known");
  write_file(*this / "sums.sfv", "firmware 352441C2\r\n");
  const json as = check("firmware", "sums.sfv", 0)["results"][0]["known"];
  EXPECT_EQ(as["by_crc"], true);
  EXPECT_TRUE(contains(cli({"check", "firmware", "--against", "sums.sfv"}).out, "by CRC-32 alone"));
}

TEST_F(KnownLists, AFolderTellsSetBySet) {
  fs::rename(*this / "kestrel", *this / "moth/old dump");
  const Outcome outcome = cli({"check", "moth", "--against", "moth.dat", "--against", "kestrel.dat"});
  EXPECT_EQ(outcome.exit_code, 0) << outcome.out << outcome.err;
  EXPECT_TRUE(contains(outcome.out, "complete  moth\n")) << outcome.out;
  EXPECT_TRUE(contains(outcome.out, "complete  kestrel")) << outcome.out;
  EXPECT_EQ(cli({"check", "moth", "--against", "moth.dat"}).exit_code, 1) << "the other disc is not known to this one";
  const Outcome missing = cli({"lists", "moth.dat", "kestrel.dat", "--missing", "moth"});
  EXPECT_EQ(missing.exit_code, 0) << missing.out;
  fs::remove(*this / "moth/moth (Track 3).bin");
  const Outcome lacks = cli({"lists", "moth.dat", "--missing", "moth"});
  EXPECT_EQ(lacks.exit_code, 1);
  EXPECT_TRUE(contains(lacks.out, "missing   moth (Track 3).bin")) << lacks.out;
}

TEST_F(KnownLists, ACopyInAnotherFormatIsACopy) {
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "chd", "--out", "moth/again.chd"}).exit_code, 0);
  ASSERT_EQ(cli({"merge", "moth/moth.cue", "--out", "moth/merged/"}).exit_code, 0);
  const json results = check("moth", "moth.dat", 0)["results"];
  ASSERT_EQ(results.size(), 3U);
  int copies = 0;
  for (const json& image : results) copies += image["known"]["verdict"] == "duplicate" ? 1 : 0;
  EXPECT_EQ(copies, 2) << results;
}

TEST_F(KnownLists, WhatCannotBeReadIsNoAnswer) {
  // Beside a disc that is known lies a file that the drive no longer gives.
  write_file(*this / "moth/notes.bin", as_text(Random(3).bytes(fs::file_size(*this / "moth/moth (Track 2).bin"))));
  int failed = 0;
  for (int n = 1; n < 100'000; n += 1 + n / 4) {
    const std::string command = fmt::format(
        "cd '{}' && ASAN_OPTIONS=verify_asan_link_order=0 LD_PRELOAD='{}' OPIFEX_FAULT_BELOW='{}' "
        "OPIFEX_FAULT=read:{}:eio '{}' check moth --against moth.dat > told 2>&1",
        folder.path().string(), OPIFEX_FAULTS, (*this / "moth/notes.bin").string(), n, OPIFEX_PROGRAM);
    const int status = WEXITSTATUS(std::system(command.c_str()));
    if (status == 0) break;  // it is read less often than that
    EXPECT_TRUE(status == 3 || status == 5) << n << ": " << read_file(*this / "told");
    ++failed;
  }
  EXPECT_GE(failed, 2);
}

TEST_F(KnownLists, AnArchiveInVolumesIsReadOnce) {
  pack("whole.tar", "moth");
  ASSERT_EQ(std::system(fmt::format("cd '{}' && mkdir parts && split -d -a 3 --numeric-suffixes=1 -b 2000000 whole.tar "
                                    "parts/moth.tar.",
                                    folder.path().string())
                            .c_str()),
            0);
  const json list = check("parts", "moth.dat", 0)["lists"][0];
  for (const json& file : list["files"]) EXPECT_EQ(file["verdict"], "good") << file;
}

TEST_F(KnownLists, WhatWouldBePassedOverIsRefused) {
  EXPECT_EQ(cli({"check", "moth/moth.cue", "--against", "moth.dat", "--same-as", "kestrel/kestrel.cue"}).exit_code, 2);
  EXPECT_EQ(cli({"check", "moth/moth.cue", "--against", "moth.dat", "--repair", "--out", "o/"}).exit_code, 2);
  EXPECT_EQ(cli({"lists", "moth.dat", "--make", "moth", "--out", "x.dat"}).exit_code, 2);
}

TEST_F(KnownLists, ASplitImageIsKnownAsAWhole) {
  ASSERT_EQ(cli({"convert", "kestrel/kestrel.cue", "--to", "iso", "--out", "whole/k.iso"}).exit_code, 0);
  ASSERT_EQ(cli({"lists", "--make", "whole", "--out", "whole.dat"}).exit_code, 0);
  ASSERT_EQ(cli({"split", "whole/k.iso", "--limit", "300KB", "--out", "split/"}).exit_code, 0);
  EXPECT_TRUE(is_right(known("split", "whole.dat", 0)));
}

TEST_F(KnownLists, InOneFolderEachSheetIsThatOfItsOwnDisc) {
  // The other disc's sheet comes first, and neither is as the list has it.
  copy_folder(*this / "moth", *this / "flat");
  for (const auto& file : fs::directory_iterator(*this / "kestrel")) fs::copy(file.path(), *this / "flat");
  write_file(*this / "flat/moth.cue", "REM other\n" + read_file(*this / "flat/moth.cue") + "    POSTGAP 00:01:00\r\n");
  const json list = check("flat", "moth.dat", 1)["lists"][0];
  for (const json& file : list["files"]) {
    const bool kestrel = contains(file["path"], "kestrel");
    EXPECT_EQ(file["verdict"] == "unknown", kestrel) << file;
    if (file["path"] == "flat/moth.cue") {
      EXPECT_EQ(file["verdict"], "differs");
    }
  }
}

TEST_F(KnownLists, AListThatIsMadeTwiceIsTheSameAndValid) {
  ASSERT_EQ(cli({"lists", "--make", "moth", "--out", "again.dat"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "moth.dat"), read_file(*this / "again.dat"));
  fs::create_directories(*this / "elsewhere");
  copy_folder(*this / "moth", *this / "elsewhere/moth");
  ASSERT_EQ(cli({"lists", "--make", "elsewhere/moth", "--out", "third.dat"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "moth.dat"), read_file(*this / "third.dat"));
  EXPECT_EQ(std::system(
                fmt::format(
                    "cd '{}' && xmllint --noout --nonet --nowarning --dtdvalid '{}/data/schema/datafile.dtd' moth.dat",
                    folder.path().string(), OPIFEX_SOURCE)
                    .c_str()),
            0);
  EXPECT_EQ(cli({"lists", "--make", "moth", "--out", "moth.dat"}).exit_code, 4) << "it is there already";
  EXPECT_EQ(cli({"lists", "--make", "moth", "--out", "moth/moth.cue", "--overwrite"}).exit_code, 4) << "an input";
  EXPECT_EQ(cli({"lists", "--make", "moth"}).exit_code, 2);
}

TEST_F(KnownLists, WhatIsDamagedIsInNoListThatIsMade) {
  flip_byte(*this / "moth/moth (Track 1).bin", 3000);
  const Outcome outcome = cli({"lists", "--make", "moth", "--out", "worse.dat", "--json"});
  EXPECT_EQ(outcome.exit_code, 1);
  EXPECT_EQ(outcome.json()["results"][0]["sets"], 0);
}

TEST_F(KnownLists, ADumpIsHeldAgainstListsAtItsEnd) {
  write_file(*this / "moth/fine.toml", "seed = 7\n[disc]\nimage = \"moth.cue\"\n");
  const Outcome fine = cli({"dump", "sim:moth/fine.toml", "--out", "o/disc.cue", "--against", "kestrel.dat",
                            "--against", "moth.dat", "--record", "--json"});
  EXPECT_EQ(fine.exit_code, 0) << fine.err;
  const json known = fine.json()["results"][0]["known"];
  ASSERT_EQ(known.size(), 2U);
  EXPECT_EQ(known[0]["verdict"], "not_known");
  EXPECT_EQ(known[1]["set"], "moth");
  EXPECT_TRUE(is_right(known[1]["verdict"]));
  EXPECT_TRUE(contains(read_file(*this / "o/disc.dump.json"), "\"known\""));
  EXPECT_TRUE(contains(read_file(*this / "o/disc.dump.txt"), "opifex rename 'o/disc.cue' --by 'moth.dat'"));
  const Outcome other = cli({"dump", "sim:moth/fine.toml", "--out", "o/other.cue", "--against", "kestrel.dat"});
  EXPECT_EQ(other.exit_code, 1) << "it was read well, and no list knows it";
  write_file(*this / "moth/worn.toml",
             "seed = 7\n[disc]\nimage = \"moth.cue\"\n[[defects]]\nkind = \"unreadable\"\nlba = [40, 41]\n");
  const Outcome worn = cli({"dump", "sim:moth/worn.toml", "--out", "o/worn.cue", "--against", "moth.dat", "--json"});
  EXPECT_EQ(worn.exit_code, 1);
  EXPECT_FALSE(is_right(worn.json()["results"][0]["known"][0]["verdict"]));
}

TEST_F(KnownLists, ADumpDoesNotBeginWithoutItsLists) {
  write_file(*this / "moth/fine.toml", "seed = 7\n[disc]\nimage = \"moth.cue\"\n");
  write_file(*this / "page.dat", "<!DOCTYPE html><html></html>");
  for (const char* list : {"page.dat", "nothing.dat"}) {
    EXPECT_EQ(cli({"dump", "sim:moth/fine.toml", "--out", "o/disc.cue", "--against", list}).exit_code, 3);
    EXPECT_FALSE(fs::exists(*this / "o/disc.cue"));
  }
  EXPECT_EQ(cli({"dump", "moth", "--out", "copy", "--against", "moth.dat"}).exit_code, 2) << "files are in no list";
}

TEST_F(KnownLists, ListsThatAreNoneAreRefusedWithTheirLine) {
  write_file(*this / "page.dat", "<!DOCTYPE html><html><body>404</body></html>");
  const Outcome page = cli({"lists", "page.dat"});
  EXPECT_EQ(page.exit_code, 3);
  EXPECT_TRUE(contains(page.err, "page.dat line 1") && contains(page.err, "web page")) << page.err;
  EXPECT_EQ(cli({"check", "moth/moth.cue", "--against", "page.dat"}).exit_code, 3);
  write_file(*this / "hostile.dat", "<?xml version=\"1.0\"?><datafile><game name=\"\x1B[2Jx\"/></datafile>");
  EXPECT_EQ(cli({"lists", "hostile.dat"}).exit_code, 3);
  write_file(*this / "odd.md5", "900150983cd24fb0d6963f7d28e17f72  \x1B[2J\n");
  const Outcome odd = cli({"lists", "odd.md5", "--sets", "*"});
  EXPECT_EQ(odd.exit_code, 1);
  EXPECT_FALSE(contains(odd.out, "\x1B"));
  EXPECT_TRUE(contains(odd.out, "[unsafe_name]")) << odd.out;
}

TEST_F(KnownLists, AFolderOfListsIsReadListByList) {
  fs::create_directories(*this / "lists");
  fs::rename(*this / "moth.dat", *this / "lists/moth.dat");
  pack("lists/packed.zip", "kestrel");
  fs::rename(*this / "kestrel.dat", *this / "lists/kestrel.dat");
  write_file(*this / "lists/notes.txt", "some words");
  write_file(*this / "lists/broken.dat", "<?xml version=\"1.0\"?><datafile>");
  fs::create_directory_symlink(*this / "lists", *this / "lists/loop");
  const Outcome outcome = cli({"lists", "lists", "--json"});
  EXPECT_EQ(outcome.exit_code, 3) << outcome.err;
  const json document = outcome.json();
  EXPECT_EQ(document["results"].size(), 2U) << outcome.out;
  ASSERT_EQ(document["errors"].size(), 1U);
  EXPECT_TRUE(contains(document["errors"][0]["file"], "broken.dat"));
  EXPECT_EQ(cli({"lists", "lists/notes.txt"}).exit_code, 3);
  EXPECT_EQ(cli({"lists", "moth"}).exit_code, 3) << "there is none in it";
}

}  // namespace
}  // namespace opifex::testkit
