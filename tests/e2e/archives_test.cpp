// Dumps that come in archives, in parts, or with a shelf full of others: as users give them to the program.
#include <fstream>
#include <set>

#include "opifex/demo/workshop.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class Archives : public Program {
 protected:
  Archives() {
    auto recipes = demo::workshop_recipes();
    recipes[0].stem = "moth";
    recipes[1].stem = "kestrel (Disc 1)";
    recipes[2].stem = "kestrel (Disc 2)";
    for (std::size_t i = 0; i < 3; ++i)
      demo::write_disc(recipes[i], folder.path(), i == 0 ? demo::Files::bin_per_track : demo::Files::one_bin);
  }
  /// An independent program packs: the archive's kind is told by its name.
  void pack(const std::string& archive, const std::string& files) const {
    ASSERT_EQ(
        std::system(fmt::format("cd '{}' && bsdtar -a -cf '{}' {}", folder.path().string(), archive, files).c_str()),
        0);
  }
  static json first(const Outcome& outcome) { return outcome.json()["results"][0]; }
};

TEST_F(Archives, ConvertingStraightFromAnArchiveGivesTheSameFile) {
  ASSERT_EQ(cli({"convert", "moth.cue", "--to", "chd", "--effort", "fast", "--out", "direct.chd"}).exit_code, 0);
  const std::string direct = read_file(*this / "direct.chd");
  for (const char* kind : {"7z", "zip", "tar", "tar.gz", "tar.xz", "tar.zst"}) {
    SCOPED_TRACE(kind);
    pack(fmt::format("moth.{}", kind), "moth*.bin moth.cue");
    const Outcome outcome = cli({"convert", fmt::format("moth.{}", kind), "--to", "chd", "--effort", "fast", "--out",
                                 "packed.chd", "--overwrite", "--prove"});
    ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
    EXPECT_TRUE(read_file(*this / "packed.chd") == direct);
  }
}

TEST_F(Archives, OnePackedImageIsAnImage) {
  ASSERT_EQ(cli({"convert", "moth.cue", "--to", "iso", "--accept", "audio,form2", "--out", "moth.iso"}).exit_code, 0);
  ASSERT_EQ(std::system(fmt::format("cd '{}' && gzip -k moth.iso && xz -k moth.iso", folder.path().string()).c_str()),
            0);
  for (const char* name : {"moth.iso.gz", "moth.iso.xz"}) {
    const Outcome outcome = cli({"convert", name, "--to", "iso", "--out", "again.iso", "--overwrite"});
    ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
    EXPECT_TRUE(read_file(*this / "again.iso") == read_file(*this / "moth.iso"));
  }
  const json found = cli({"identify", "moth.iso.gz", "--json"}).json()["results"];
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0]["archive"]["kind"], "gz");
  EXPECT_EQ(found[1]["format"], "iso");
  EXPECT_EQ(found[1]["serial"], "PRXS-00101");
}

TEST_F(Archives, SeveralImagesGoInTurnOrAreChosen) {
  pack("both.7z", "kestrel* moth*");
  const Outcome all = cli({"convert", "both.7z", "--to", "chd", "--effort", "fast", "--out", "all/"});
  ASSERT_EQ(all.exit_code, 0) << all.err;
  EXPECT_TRUE(fs::exists(*this / "all/moth.chd"));
  EXPECT_TRUE(fs::exists(*this / "all/kestrel (Disc 1).chd"));
  const Outcome one =
      cli({"convert", "both.7z", "--to", "chd", "--effort", "fast", "--pick", "*(Disc 2)*", "--out", "one/"});
  ASSERT_EQ(one.exit_code, 0) << one.err;
  EXPECT_FALSE(fs::exists(*this / "one/moth.chd"));
  EXPECT_TRUE(fs::exists(*this / "one/kestrel (Disc 2).chd"));
  const Outcome file = cli({"convert", "both.7z", "--to", "chd", "--out", "x.chd"});
  EXPECT_EQ(file.exit_code, 2);
  const Outcome merge = cli({"merge", "both.7z", "--out", "merged/", "--json"});
  EXPECT_EQ(merge.exit_code, 0) << merge.err;
  EXPECT_TRUE(fs::exists(*this / "merged/moth.cue"));
  const Outcome rescue = cli({"rescue", "both.7z", "moth.cue", "--out", "x.cue", "--json"});
  EXPECT_EQ(rescue.exit_code, 2);
  EXPECT_EQ(rescue.json()["errors"][0]["code"], "several_images") << "a dump is one image";
  EXPECT_EQ(cli({"check", "both.7z", "--pick", "nothing"}).exit_code, 2);
}

TEST_F(Archives, MembersAreListedAndExtracted) {
  pack("moth.tar.gz", "moth*.bin moth.cue");
  const json files = first(cli({"files", "moth.tar.gz", "--json"}));
  EXPECT_EQ(files["volumes"][0]["system"], "archive-tar.gz");
  EXPECT_EQ(files["entries"].size(), 5u);
  const Outcome outcome = cli({"extract", "moth.tar.gz", "--into", "out", "--check"});
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_TRUE(read_file(*this / "out/moth.cue") == read_file(*this / "moth.cue"));
  const Outcome again = cli({"extract", "moth.tar.gz", "--into", "out"});
  EXPECT_EQ(again.exit_code, 0) << "what is there already is left alone";
  const json inside = first(cli({"files", "moth.tar.gz", "--pick", "moth.cue", "--json"}));
  EXPECT_EQ(inside["volumes"][0]["label"], "MOTH_LANTERN");
}

TEST_F(Archives, PartsOpenFromAnyOfThemAndMissingOnesAreNamed) {
  pack("moth.7z", "moth*.bin moth.cue");
  ASSERT_EQ(std::system(fmt::format("cd '{}' && split -b 300000 -d -a 3 --numeric-suffixes=1 moth.7z moth.7z.",
                                    folder.path().string())
                            .c_str()),
            0);
  const Outcome whole = cli({"check", "moth.7z.002", "--hashes", "none"});
  EXPECT_EQ(whole.exit_code, 0) << whole.err;
  fs::remove(*this / "moth.7z.002");
  const Outcome gap = cli({"convert", "moth.7z.001", "--to", "chd", "--out", "never.chd", "--json"});
  EXPECT_EQ(gap.exit_code, 3);
  EXPECT_EQ(gap.json()["errors"][0]["code"], "missing_part");
  EXPECT_TRUE(contains(gap.err, "moth.7z.002"));
  EXPECT_FALSE(fs::exists(*this / "never.chd"));
}

TEST_F(Archives, SplitImagesAreReadAsOne) {
  ASSERT_EQ(cli({"convert", "moth.cue", "--to", "iso", "--accept", "audio,form2", "--out", "moth.iso"}).exit_code, 0);
  ASSERT_EQ(std::system(fmt::format("cd '{}' && split -b 200000 -d -a 3 --numeric-suffixes=1 moth.iso tide.iso.",
                                    folder.path().string())
                            .c_str()),
            0);
  const Outcome outcome = cli({"convert", "tide.iso.001", "--to", "iso", "--out", "joined/"});
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_TRUE(read_file(*this / "joined/tide.iso") == read_file(*this / "moth.iso"));
  EXPECT_EQ(first(cli({"identify", "tide.iso.002", "--json"}))["state"], "split");
  fs::remove(*this / "tide.iso.002");
  EXPECT_EQ(cli({"identify", "tide.iso.001"}).exit_code, 3);
}

TEST_F(Archives, DamageIsToldAndNothingIsLeft) {
  for (const char* name : {"damaged.zip", "damaged-rar4.rar", "damaged-rar5.rar", "cut-rar5.rar"}) {
    SCOPED_TRACE(name);
    fs::copy_file(vector_path(std::string("archives/") + name), *this / name);
    const Outcome outcome = cli({"extract", name, "--into", "out", "--json"});
    EXPECT_EQ(outcome.exit_code, 3);
    EXPECT_EQ(outcome.json()["errors"][0]["code"], "archive_damaged");
    EXPECT_FALSE(fs::exists(*this / "out/disc/Moth & Lantern.bin"));
  }
  for (const char* name : {"encrypted-rar5.rar", "encrypted-headers-rar4.rar"}) {
    fs::copy_file(vector_path(std::string("archives/") + name), *this / name);
    EXPECT_EQ(cli({"identify", name, "--json"}).json()["errors"][0]["code"], "archive_encrypted") << name;
  }
}

TEST_F(Archives, NamesThatLeadElsewhereAreLeftOutAndTold) {
  fs::copy_file(vector_path("archives/evil.zip"), *this / "evil.zip");
  fs::create_directories(*this / "deep/er");
  const Outcome outcome = cli({"extract", "evil.zip", "--into", "deep/er/out", "--json"});
  EXPECT_EQ(outcome.exit_code, 1) << "not everything came out";
  EXPECT_EQ(first(outcome)["skipped"].size(), 9u) << first(outcome)["skipped"];
  EXPECT_TRUE(fs::exists(*this / "deep/er/out/ok/one.bin"));
  for (const auto& entry : fs::recursive_directory_iterator(*this / "deep"))
    EXPECT_TRUE(entry.is_directory() || entry.path().filename() == "one.bin") << entry.path();
  EXPECT_FALSE(fs::exists(*this / "up.bin"));
}

class Shelf : public Archives {};

TEST_F(Shelf, AFolderIsATableOfGamesAndOfWhatIsInTheWay) {
  fs::remove(*this / "kestrel (Disc 2).cue");
  fs::create_directories(*this / "old");
  for (const char* name : {"kestrel (Disc 1).bin", "kestrel (Disc 1).cue"})
    fs::copy_file(*this / name, *this / "old" / name);
  ASSERT_EQ(cli({"convert", "moth.cue", "--to", "iso", "--accept", "audio,form2"}).exit_code, 0);
  fs::copy(vector_path("iso/ps4-folder"), *this / "quarry", fs::copy_options::recursive);
  write_file(*this / "notes.txt", "bought in 1999\n");
  pack("more.7z", "moth.cue");
  const Outcome outcome = cli({"identify", ".", "--json"});
  EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
  const json shelf = first(outcome);
  EXPECT_EQ(shelf["format"], "folder");
  EXPECT_EQ(shelf["other_files"], 1);
  std::map<std::string, json> games;
  for (const json& g : shelf["games"]) games[fs::path(g["path"].get<std::string>()).lexically_normal()] = g;
  EXPECT_EQ(games.size(), 7u) << "bins that a sheet names are no games of their own";
  EXPECT_EQ(games["moth.cue"]["warnings"][0]["code"], "leftover_sheet");
  EXPECT_EQ(games["moth.cue"]["files"].size(), 5u);
  EXPECT_EQ(games["kestrel (Disc 1).cue"]["disc"], "1 of 2");
  EXPECT_EQ(games["kestrel (Disc 2).bin"]["warnings"][0]["code"], "no_sheet");
  EXPECT_EQ(games["quarry"]["kind"], "game folder");
  EXPECT_EQ(games["quarry"]["title"], "Quarry Lights");
  EXPECT_EQ(games["more.7z"]["format"], "7z");
  ASSERT_EQ(shelf["warnings"].size(), 1u) << shelf["warnings"];
  EXPECT_EQ(shelf["warnings"][0]["code"], "duplicate");
}

TEST_F(Shelf, MissingDiscsAndFilesAndTheDrivesLimitsAreTold) {
  fs::rename(*this / "kestrel (Disc 2).bin", *this / "kestrel (Disc 3).bin");
  fs::remove(*this / "kestrel (Disc 2).cue");
  fs::remove(*this / "moth (Track 1).bin");
  write_file(*this / "odd:name?.iso", "x");
  std::ofstream(*this / "large.bin").put('x');
  fs::resize_file(*this / "large.bin", std::uint64_t{5} << 30);
  const Outcome outcome = cli({"identify", ".", "--fs", "fat32", "--json"});
  EXPECT_EQ(outcome.exit_code, 1) << "a set is incomplete";
  std::multiset<std::string> codes;
  const json shelf = first(outcome);
  for (const json& w : shelf["warnings"]) codes.insert(w["code"]);
  EXPECT_EQ(codes, (std::multiset<std::string>{"file_too_large", "missing_disc", "odd_name"}));
}

TEST_F(Shelf, TheUsersOwnTitlesNameWhatHasOnlyAnId) {
  write_file(*this / "titles.csv", "id,title\r\n# mine\r\nPRXS_001.01,\"Moth & Lantern, \"\"museum\"\" edition\"\r\n");
  const json named = first(cli({"identify", "moth.cue", "--titles", "titles.csv", "--json"}));
  EXPECT_EQ(named["title"], "Moth & Lantern, \"museum\" edition");
  write_file(*this / "bad.csv", "PRXS-00101\n");
  const Outcome bad = cli({"identify", "moth.cue", "--titles", "bad.csv"});
  EXPECT_EQ(bad.exit_code, 2);
  EXPECT_TRUE(contains(bad.err, "bad.csv line 1")) << bad.err;
  write_file(*this / "open.csv", "PRXS-00101,\"never closed\n");
  EXPECT_EQ(cli({"identify", "moth.cue", "--titles", "open.csv"}).exit_code, 2);
}

TEST_F(Shelf, EncryptedDiscsConvertWithTheUsersKey) {
  fs::copy_file(vector_path("iso/ps3-encrypted.iso"), *this / "brass.iso");
  const json expected = vector_json("iso/ps3.json");
  write_file(*this / "keys.toml", "[disc-keys]\n\"PRUS-30404\" = \"" + expected["key"].get<std::string>() + "\"\n");
  write_file(*this / "wrong.toml",
             "[disc-keys]\n\"PRUS-30404\" = \"" + expected["wrong_key"].get<std::string>() + "\"\n");
  write_file(*this / "other.toml", "[disc-keys]\n\"PRUS-99999\" = \"" + expected["key"].get<std::string>() + "\"\n");
  const json before = first(cli({"identify", "brass.iso", "--json"}));
  EXPECT_EQ(before["state"], "encrypted");
  EXPECT_EQ(before["encrypted_regions"].size(), 2u);
  for (const char* keys : {"wrong.toml", "other.toml"})
    EXPECT_EQ(cli({"convert", "brass.iso", "--to", "iso", "--key-file", keys, "--out", "plain.iso"}).exit_code, 3);
  ASSERT_FALSE(fs::exists(*this / "plain.iso"));
  const Outcome outcome =
      cli({"convert", "brass.iso", "--to", "iso", "--key-file", "keys.toml", "--out", "plain.iso", "--prove"});
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(sha256_file(*this / "plain.iso"), expected["decrypted_sha256"]);
  EXPECT_EQ(first(cli({"identify", "plain.iso", "--json"}))["state"], "decrypted");
  // Disc to folder to disc: the same files.
  ASSERT_EQ(cli({"extract", "brass.iso", "--key-file", "keys.toml", "--into", "folder"}).exit_code, 0);
  EXPECT_EQ(first(cli({"identify", "folder", "--json"}))["title"], "Brass Orchard");
  ASSERT_EQ(cli({"build", "folder", "--as", "iso", "--out", "again.iso"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "again.iso", "--same-as", "folder"}).exit_code, 0);
}

TEST_F(Shelf, AFolderOfAPs3GameBecomesAPlainDisc) {
  copy_folder(vector_path("iso/ps3-folder"), *this / "moth");
  const Outcome half = cli({"build", "moth", "--as", "iso", "--out", "moth.iso", "--json"});
  EXPECT_EQ(half.exit_code, 3) << "a part of MUSIC.DAT is missing";
  EXPECT_EQ(half.json()["errors"][0]["code"], "missing_part");
  fs::remove(*this / "moth/PS3_GAME/USRDIR/MUSIC.DAT.66600");
  const Outcome outcome = cli({"build", "moth", "--as", "iso", "--out", "moth.iso", "--fixed-dates=2001-07-02"});
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  const json expected = vector_json("iso/expected.json")["ps3"]["ps3-folder-without-MUSIC.DAT"];
  EXPECT_EQ(sha256_file(*this / "moth.iso"), expected["image_sha256"]);
  write_file(*this / "moth/PS3_GAME/USRDIR/LEVEL1.DAT", "whole");
  EXPECT_EQ(cli({"build", "moth", "--as", "iso", "--out", "twice.iso"}).exit_code, 3) << "whole and in parts";
}

TEST_F(Shelf, XboxImagesAreListedAndTakenOut) {
  fs::copy_file(vector_path("xbox/orchard.iso"), *this / "orchard.iso");
  EXPECT_EQ(first(cli({"identify", "orchard.iso", "--json"}))["platform"], "xbox");
  const json files = first(cli({"files", "orchard.iso", "--json"}));
  EXPECT_EQ(files["volumes"][0]["system"], "xdvdfs");
  EXPECT_EQ(files["entries"].size(), 71u);
  ASSERT_EQ(cli({"extract", "orchard.iso", "--into", "out", "--check"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(*this / "out/big.bin"), 10241u);
  EXPECT_EQ(cli({"check", "orchard.iso", "--same-as", "out"}).exit_code, 0);
}

class Parts : public Archives {
 protected:
  /// A Wii disc of 9 MiB with holes; the image of a trimmed dump.
  void make_wii() {
    Random random(5);
    std::string disc(std::size_t{9} << 20, '\0');
    for (const std::size_t at : {std::size_t{0}, std::size_t{4} << 20, (std::size_t{9} << 20) - 6000}) {
      const Bytes some = random.bytes(6000);
      disc.replace(at, some.size(), as_text(some));
    }
    disc.replace(0, 6, "ZG1EPR");
    disc.replace(0x18, 8, std::string("\x5D\x1C\x9E\xA3\0\0\0\0", 8));
    disc.replace(0x20, 64, std::string("Brass Orchard") + std::string(51, '\0'));
    write_file(*this / "brass.iso", disc);
  }
};

TEST_F(Parts, AWiiDiscGoesIntoBlocksAndPartsAndBack) {
  make_wii();
  const std::string disc = read_file(*this / "brass.iso");
  ASSERT_EQ(cli({"convert", "brass.iso", "--to", "wbfs", "--out", "brass.wbfs", "--prove"}).exit_code, 1)
      << "it has no partitions, and that is told";
  EXPECT_EQ(fs::file_size(*this / "brass.wbfs"), std::uint64_t{4} << 21) << "block 0 and three of five";
  const json found = first(cli({"identify", "brass.wbfs", "--json"}));
  EXPECT_EQ(found["format"], "wbfs");
  EXPECT_EQ(found["title"], "Brass Orchard");
  ASSERT_EQ(cli({"split", "brass.wbfs", "--limit", "3MiB", "--out", "parts/"}).exit_code, 0);
  EXPECT_EQ(fs::file_size(*this / "parts/brass.wbf1"), std::uint64_t{3} << 20);
  EXPECT_FALSE(fs::exists(*this / "parts/brass.wbf3"));
  // Never joined first: the parts are an image.
  const Outcome back = cli({"convert", "parts/brass.wbf2", "--to", "iso", "--out", "back.iso"});
  ASSERT_EQ(back.exit_code, 1) << back.err;
  EXPECT_EQ(fs::file_size(*this / "back.iso"), 4'699'979'776u) << "the whole disc, with holes";
  std::string start(disc.size(), '\0');
  std::ifstream(*this / "back.iso", std::ios::binary).read(start.data(), static_cast<std::streamsize>(start.size()));
  EXPECT_TRUE(start == disc);
  ASSERT_EQ(cli({"merge", "parts/brass.wbf1", "--out", "joined/"}).exit_code, 1);
  EXPECT_TRUE(read_file(*this / "joined/brass.wbfs") == read_file(*this / "brass.wbfs"));
  fs::remove(*this / "parts/brass.wbf1");
  EXPECT_EQ(cli({"identify", "parts/brass.wbfs"}).exit_code, 3);
  EXPECT_EQ(cli({"merge", "parts/brass.wbfs", "--out", "never/"}).exit_code, 3);
}

TEST_F(Parts, IsosAndOtherFilesAreCutByTheCustomsOfTheirKind) {
  make_wii();
  ASSERT_EQ(cli({"split", "brass.iso", "--limit", "4MiB", "--out", "parts/"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "parts/brass.part2.iso"));
  ASSERT_EQ(cli({"merge", "parts/brass.part0.iso", "--out", "joined/"}).exit_code, 1) << "it has no partitions";
  EXPECT_TRUE(read_file(*this / "joined/brass.iso") == read_file(*this / "brass.iso"));
  fs::rename(*this / "brass.iso", *this / "brass.dat");
  ASSERT_EQ(cli({"split", "brass.dat", "--limit", "4MiB", "--out", "parts/"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "parts/brass.dat.003"));
  EXPECT_EQ(cli({"split", "brass.dat", "--limit", "fat32", "--out", "parts/"}).exit_code, 2) << "it fits already";
  EXPECT_EQ(cli({"split", "brass.dat", "--limit", "1KiB", "--out", "parts/"}).exit_code, 2);
}

TEST_F(Parts, OnlyWiiDiscsGoIntoTheContainer) {
  const Outcome outcome = cli({"convert", "moth.cue", "--to", "wbfs", "--accept", "audio,form2", "--json"});
  EXPECT_EQ(outcome.exit_code, 3);
  EXPECT_EQ(outcome.json()["errors"][0]["code"], "no_wii_disc");
}

}  // namespace
}  // namespace opifex::testkit
