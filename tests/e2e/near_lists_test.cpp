// What lists have in another form, and what they nearly have. "Known" would be false of a disc that has more, less or
// other bytes than the list's; "bad" would be false of one that merely leaves parts out.
#include "opifex/core/base/hash.hpp"
#include "opifex/core/cd/sector.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

#include "cartridges.hpp"
#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

class NearLists : public Program {
 protected:
  json check(const std::string& input, const std::string& list, int exit = 1) {
    const Outcome outcome = cli({"check", input, "--against", list, "--json"});
    EXPECT_EQ(outcome.exit_code, exit) << input << ": " << outcome.out << outcome.err;
    const json document = json::parse(outcome.out);
    return document["results"].empty() ? json() : document["results"][0]["known"];
  }
  void make_list(const std::string& of, const std::string& list) {
    ASSERT_EQ(cli({"lists", "--make", of, "--out", list}).exit_code, 0);
  }
  /// A disc of Mode 1 sectors, and the same as user data.
  void write_mode1(const std::string& bin, const std::string& iso) {
    demo::write_disc(demo::workshop_recipes()[1], *this / "disc", demo::Files::one_bin);
    ASSERT_EQ(cli({"convert", "disc", "--to", "iso", "--out", iso}).exit_code, 0);
    const Bytes user = to_bytes(read_file(*this / iso));
    const std::size_t sectors = user.size() / cd::kUserBytes;
    Bytes raw(sectors * cd::kRawBytes);
    for (std::size_t i = 0; i < sectors; ++i)
      cd::make_mode1(std::span(raw).subspan(i * cd::kRawBytes).first<cd::kRawBytes>(), static_cast<cd::Lba>(i),
                     ByteView(user).subspan(i * cd::kUserBytes).first<cd::kUserBytes>());
    write_file(*this / bin, as_text(raw));
    const fs::path sheet = fs::path(bin).replace_extension(".cue");
    write_file(*this / sheet.string(), fmt::format("FILE \"{}\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n",
                                                   fs::path(bin).filename().string()));
  }
  /// The music of Moth & Lantern in `to`, later by so many samples; what is shifted out is lost.
  void move_music(const std::string& to, std::int64_t samples) {
    std::vector<fs::path> files;
    for (const int track : {2, 3, 4}) files.push_back(*this / fmt::format("{}/moth (Track {}).bin", to, track));
    std::string all;
    for (const fs::path& file : files) all += read_file(file);
    const std::string silence(static_cast<std::size_t>(std::abs(samples)) * 4, '\0');
    const std::string moved =
        samples > 0 ? (silence + all).substr(0, all.size()) : all.substr(silence.size()) + silence;
    std::size_t at = 0;
    for (const fs::path& file : files) {
      const std::size_t size = fs::file_size(file);
      write_file(file, moved.substr(at, size));
      at += size;
    }
  }
  void make_moth() {
    auto recipe = demo::workshop_recipes()[0];
    recipe.stem = "moth";
    demo::write_disc(recipe, *this / "moth", demo::Files::bin_per_track);
    make_list("moth", "moth.dat");
  }
};

TEST_F(NearLists, ABinIsKnownByItsUserDataAndAnIsoByItsWholeSectors) {
  fs::create_directories(*this / "raw");
  fs::create_directories(*this / "cooked");
  write_mode1("raw/k.bin", "cooked/k.iso");
  make_list("raw", "raw.dat");
  make_list("cooked", "cooked.dat");
  EXPECT_EQ(check("raw/k.cue", "cooked.dat", 0)["through"], "its user data, as an ISO");
  EXPECT_EQ(check("cooked/k.iso", "raw.dat", 0)["through"], "its sectors made whole, as a bin");
  for (const auto& [from, list] : {std::pair("raw/k.cue", "cooked.dat"), std::pair("cooked/k.iso", "raw.dat")}) {
    ASSERT_EQ(cli({"convert", from, "--to", "chd", "--out", "k.chd", "--overwrite"}).exit_code, 0);
    EXPECT_EQ(check("k.chd", list, 0)["verdict"], "known") << from;
  }
  // One byte of the data; one sector more; a few bytes behind the last sector.
  flip_byte(*this / "cooked/k.iso", 100'000);
  const json changed = check("cooked/k.iso", "raw.dat");
  EXPECT_TRUE(changed["verdict"] == "not_known" || changed["verdict"] == "not_comparable") << changed;
  EXPECT_TRUE(contains(changed["why"].dump(), "subheaders")) << "such a size the list has";
  const std::string bin = read_file(*this / "raw/k.bin");
  write_file(*this / "raw/k.bin", bin + std::string(cd::kRawBytes, '\0'));
  EXPECT_NE(check("raw/k.cue", "cooked.dat")["verdict"], "known");
  write_file(*this / "raw/k.bin", bin + "more");
  const json surplus = check("raw/k.cue", "cooked.dat");
  EXPECT_TRUE(surplus["verdict"] == "not_known" || surplus["verdict"] == "differs") << surplus;
}

TEST_F(NearLists, JsonHasTheHashesOfEveryForm) {
  write_mode1("k.bin", "k.iso");
  const auto hashes_of = [&](const std::string& file) {
    return json::parse(cli({"check", file, "--json"}).out)["results"][0];
  };
  const json bin = hashes_of("k.cue"), iso = hashes_of("k.iso");
  ASSERT_EQ(bin["other_forms"].size(), 1U) << bin;
  ASSERT_EQ(iso["other_forms"].size(), 1U) << iso;
  EXPECT_EQ(bin["other_forms"][0]["hashes"], iso["hashes"]);
  EXPECT_EQ(iso["other_forms"][0]["hashes"], bin["hashes"]);
  make_moth();
  ASSERT_EQ(cli({"merge", "moth/moth.cue", "--out", "one/moth.cue"}).exit_code, 0);
  EXPECT_EQ(hashes_of("moth/moth.cue")["whole"]["hashes"], hashes_of("one/moth.cue")["hashes"]);
}

TEST_F(NearLists, TheDataOfADiscWithMusicIsNotTheDisc) {
  make_moth();
  fs::create_directories(*this / "data");
  ASSERT_EQ(cli({"convert", "moth/moth.cue", "--to", "iso", "--out", "data/moth.iso", "--accept", "audio,tracks,form2"})
                .exit_code,
            0);
  make_list("data", "data.dat");
  EXPECT_EQ(check("moth/moth.cue", "data.dat")["verdict"], "not_known");
}

TEST_F(NearLists, ACookedTrackBesideMusicIsKnownAsTheListHasIt) {
  fs::create_directories(*this / "raw");
  fs::create_directories(*this / "cooked");
  write_mode1("raw/d.bin", "cooked/d.iso");
  write_file(*this / "raw/m.bin", as_text(Random(5).bytes(cd::kRawBytes * 400)));
  fs::copy(*this / "raw/m.bin", *this / "cooked/m.bin");
  const auto sheet = [](const char* data, const char* mode) {
    return fmt::format(
        "FILE \"{}\" BINARY\n  TRACK 01 {}\n    INDEX 01 00:00:00\n"
        "FILE \"m.bin\" BINARY\n  TRACK 02 AUDIO\n    INDEX 00 00:00:00\n    INDEX 01 00:02:00\n",
        data, mode);
  };
  write_file(*this / "raw/d.cue", sheet("d.bin", "MODE1/2352"));
  write_file(*this / "cooked/d.cue", sheet("d.iso", "MODE1/2048"));
  make_list("raw", "raw.dat");
  const json as = check("cooked/d.cue", "raw.dat", 0);
  EXPECT_TRUE(as["verdict"] == "known" || as["verdict"] == "renamed") << as;
  flip_byte(*this / "cooked/m.bin", 400'000);
  const json other = check("cooked/d.cue", "raw.dat");
  EXPECT_TRUE(other["verdict"] == "differs" || other["verdict"] == "part_missing") << other;
}

TEST_F(NearLists, ARomIsKnownInAnyByteOrder) {
  Random random(9);
  fs::create_directories(*this / "list");
  write_file(*this / "list/quarry.z64", as_text(n64(random, 1 << 20)));
  make_list("list", "big.dat");
  for (const auto& [order, ending] : {std::pair("swapped", "v64"), std::pair("little", "n64")}) {
    const std::string file = fmt::format("{}/quarry.{}", order, ending);
    ASSERT_EQ(cli({"convert", "list/quarry.z64", "--to", "rom", "--byte-order", order, "--out", file}).exit_code, 0);
    make_list(order, std::string(order) + ".dat");
    EXPECT_NE(check(file, "big.dat", 0)["through"], json());
    EXPECT_NE(check("list/quarry.z64", std::string(order) + ".dat", 0)["through"], json());
  }
  EXPECT_NE(check("swapped/quarry.v64", "little.dat", 0)["through"], json());
  flip_byte(*this / "swapped/quarry.v64", 500'000);
  EXPECT_EQ(cli({"check", "swapped/quarry.v64", "--against", "big.dat"}).exit_code, 1);
}

TEST_F(NearLists, WhatLeavesPartsOutIsNotComparableAndNeverBad) {
  write_file(*this / "keys.toml", demo::demo_key_file());
  demo::WiiRecipe recipe;
  recipe.partitions.push_back({.type = 0,
                               .offset = 0x50000,
                               .clusters = 70,
                               .title = recipe.title,
                               .files = {{"coast.bin", 0x8000, 90'000}, {"maps/far.bin", 65 * 0x7C00, 5'000}}});
  recipe.disc_bytes = 8 << 20;
  demo::write_wii_disc(recipe, *this / "full/t.iso");
  make_list("full", "full.dat");
  fs::create_directories(*this / "less");
  ASSERT_EQ(cli({"convert", "full/t.iso", "--to", "iso", "--out", "less/t.iso", "--scrub", "--key-file", "keys.toml"})
                .exit_code,
            0);
  json as = check("less/t.iso", "full.dat");
  EXPECT_EQ(as["verdict"], "not_comparable");
  EXPECT_TRUE(contains(as["why"][0], "scrubbed")) << as;
  const json list = json::parse(cli({"check", "less", "--against", "full.dat", "--json"}).out)["lists"][0];
  EXPECT_EQ(list["files"][0]["verdict"], "not_comparable") << list;
  // What comes out of it is as long as a disc: with nothing but a CRC-32 to take that is soon done.
  write_file(*this / "full.sfv", "t.iso 12345678\n");
  ASSERT_EQ(cli({"convert", "less/t.iso", "--to", "wbfs", "--out", "less/t.wbfs"}).exit_code, 0);
  EXPECT_EQ(check("less/t.wbfs", "full.sfv")["verdict"], "not_comparable");
  // In a list of scrubbed images it is known.
  fs::remove(*this / "less/t.wbfs");
  make_list("less", "less.dat");
  EXPECT_EQ(check("less/t.iso", "less.dat", 0)["verdict"], "known");
}

TEST_F(NearLists, AGamePartitionAloneIsNotComparableWithTheWholeDisc) {
  fs::create_directories(*this / "x");
  fs::copy_file(vector_path("xbox/tiny.iso"), *this / "x/tiny.iso");
  write_file(*this / "whole.sfv", "tiny.iso 12345678\n");
  const json as = check("x/tiny.iso", "whole.sfv");
  EXPECT_EQ(as["verdict"], "not_comparable");
  EXPECT_TRUE(contains(as["why"][0], "trimmed")) << as;
  make_list("x", "x.dat");
  EXPECT_EQ(check("x/tiny.iso", "x.dat", 0)["verdict"], "known");
}

TEST_F(NearLists, MusicThatIsMovedIsToldWithItsOffset) {
  make_moth();
  for (const std::int64_t samples : {std::int64_t{12}, std::int64_t{-667}, std::int64_t{5000}}) {
    copy_folder(*this / "moth", *this / "moved");
    move_music("moved", samples);
    const json as = check("moved/moth.cue", "moth.dat");
    EXPECT_EQ(as["verdict"], "differs");
    int found = 0;
    for (const json& near : as["near"])
      if (near["kind"] == "audio_offset") {
        EXPECT_EQ(near["amount"], samples);
        EXPECT_EQ(near["proof"], "sha1");
        EXPECT_TRUE(contains(near["entry"], fmt::format("Track {}", near["track"].get<int>())));
        ++found;
      }
    EXPECT_GE(found, 2) << as;
    ASSERT_EQ(cli({"convert", "moved/moth.cue", "--to", "chd", "--out", "moved.chd", "--overwrite"}).exit_code, 0);
    EXPECT_FALSE(check("moved.chd", "moth.dat")["near"].empty());
    fs::remove_all(*this / "moved");
  }
  copy_folder(*this / "moth", *this / "moved");
  move_music("moved", 5001);
  const json as = check("moved/moth.cue", "moth.dat");
  EXPECT_TRUE(as["near"].empty()) << as["near"];
  EXPECT_TRUE(contains(as["tried"].dump(), "5 000 samples")) << as["tried"];
}

TEST_F(NearLists, SectorsTooManyAndPregapsTooFewAreCounted) {
  make_moth();
  const std::string last = "moth/moth (Track 4).bin";
  const std::string track = read_file(*this / last);
  write_file(*this / last, track + std::string(3 * cd::kRawBytes, '\0'));
  json as = check("moth/moth.cue", "moth.dat");
  ASSERT_EQ(as["near"].size(), 1U) << as;
  EXPECT_EQ(as["near"][0]["kind"], "too_long");
  EXPECT_EQ(as["near"][0]["amount"], 3 * cd::kRawBytes);
  EXPECT_EQ(as["near"][0]["filler"], "zeros");
  EXPECT_TRUE(contains(as["near"][0]["message"], "3 sectors behind its end"));
  EXPECT_TRUE(contains(as["why"].dump(), "track 4 differs: it begins at")) << as["why"];
  write_file(*this / last, track);
  // Of a list whose track begins with three silent sectors, which are not here.
  write_file(*this / last, std::string(3 * cd::kRawBytes, '\0') + track);
  make_list("moth", "gap.dat");
  write_file(*this / last, track);
  as = check("moth/moth.cue", "gap.dat");
  ASSERT_EQ(as["near"].size(), 1U) << as;
  EXPECT_EQ(as["near"][0]["kind"], "pregap");
  EXPECT_TRUE(contains(as["near"][0]["message"], "without 3 sectors of its pregap (silence)")) << as["near"];
  // And the other way round.
  write_file(*this / last, std::string(3 * cd::kRawBytes, '\0') + track);
  as = check("moth/moth.cue", "moth.dat");
  ASSERT_EQ(as["near"].size(), 1U) << as;
  EXPECT_EQ(as["near"][0]["kind"], "leading");
}

TEST_F(NearLists, AnotherRevisionIsToldByItsSerial) {
  make_moth();
  const json who = cli({"identify", "moth/moth.cue", "--json"}).json()["results"][0];
  ASSERT_TRUE(who["serial"].is_string());
  write_file(*this / "other.dat",
             fmt::format("<?xml version=\"1.0\"?><datafile><game name=\"Lantern (Rev 1)\"><serial>{}</serial><rom "
                         "name=\"a.bin\" size=\"5\" crc=\"12345678\"/></game></datafile>",
                         who["serial"].get<std::string>()));
  json as = check("moth/moth.cue", "other.dat");
  EXPECT_EQ(as["verdict"], "not_known");
  EXPECT_TRUE(contains(as["why"].dump(), "Lantern (Rev 1)")) << as;
  EXPECT_TRUE(contains(as["why"].dump(), "another revision")) << as;
  write_file(*this / "title.dat",
             "<?xml version=\"1.0\"?><datafile><game name=\"Moth (Rev 2)\"><rom name=\"a.bin\" size=\"5\" "
             "crc=\"12345678\"/></game></datafile>");
  as = check("moth/moth.cue", "title.dat");
  EXPECT_TRUE(contains(as["why"].dump(), "Moth (Rev 2)")) << as;
}

TEST_F(NearLists, AHeaderInFrontOfAFileIsCounted) {
  const Bytes rom = Random(4).bytes(70'000);
  write_file(*this / "firmware", as_text(rom));
  write_file(*this / "sums.dat",
             fmt::format("<?xml version=\"1.0\"?><datafile><game name=\"Firmware\"><rom name=\"firmware\" size=\"{}\" "
                         "sha1=\"{}\"/></game></datafile>",
                         rom.size(), digest_of("sha1", rom)));
  EXPECT_EQ(check("firmware", "sums.dat", 0)["verdict"], "known");
  write_file(*this / "firmware", std::string(512, 'h') + std::string(as_text(rom)));
  const json as = check("firmware", "sums.dat");
  ASSERT_EQ(as["near"].size(), 1U) << as;
  EXPECT_EQ(as["near"][0]["kind"], "leading");
  EXPECT_EQ(as["near"][0]["amount"], 512);
}

}  // namespace
}  // namespace opifex::testkit
