// Discs dumped from simulated drives, as a user would: the scripted set of tests/drives, each with its own trouble.

#include <chrono>
#include <csignal>
#include <fstream>
#include <thread>

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/base/hash.hpp"

#include "program.hpp"
#include "running.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;
using Ranges = std::vector<std::tuple<std::string, int, int>>;  // state, LBA, count

class Dumping : public Program {
 protected:
  void SetUp() override {
    demo::Recipe mixed = demo::workshop_recipes()[0];
    mixed.stem = "mixed";
    demo::write_disc(mixed, folder.path(), demo::Files::one_bin);
    for (const auto& entry : fs::directory_iterator(fs::path(OPIFEX_SOURCE) / "tests/drives"))
      fs::copy_file(entry.path(), folder.path() / entry.path().filename());
    original = read_file(*this / "mixed.bin");
  }
  Outcome dump(const std::string& drive, std::vector<std::string> more = {}, const std::string& out = "out/x.cue") {
    std::vector<std::string> words = {"dump", "sim:" + drive + ".toml", "--out", out, "--json"};
    words.insert(words.end(), more.begin(), more.end());
    return cli(words);
  }
  static json result(const Outcome& outcome) { return outcome.json()["results"][0]; }
  /// Ranges that are neither good nor confirmed.
  static Ranges troubled(const Outcome& outcome) {
    Ranges ranges;
    const json r0 = result(outcome);
    for (const json& r : r0["map"]["ranges"])
      if (r["state"] != "good" && r["state"] != "audio-confirmed" && r["state"] != "outside")
        ranges.emplace_back(r["state"], r["lba"], r["count"]);
    return ranges;
  }
  std::string dumped() const { return read_file(folder.path() / "out/x.bin"); }
  /// The sectors in which the dump differs from the disc.
  std::vector<int> differing() const {
    const std::string copy = dumped();
    std::vector<int> sectors;
    EXPECT_EQ(copy.size(), original.size());
    for (std::size_t at = 0; at + 2352 <= std::min(copy.size(), original.size()); at += 2352)
      if (copy.compare(at, 2352, original, at, 2352) != 0) sectors.push_back(static_cast<int>(at / 2352));
    return sectors;
  }

  std::string original;
};

TEST_F(Dumping, CleanDiscIsTheSameByteForByte) {
  const Outcome outcome = dump("clean");
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(dumped(), original);
  const json r = result(outcome);
  EXPECT_EQ(r["verdict"], "intact");
  EXPECT_EQ(r["medium"]["serial"], "PRXS-00101");
  EXPECT_EQ(r["medium"]["catalogue"], "4006381333931");
  EXPECT_EQ(r["hashes"]["sha1"], digest_of("sha1", as_view(original)));
  EXPECT_EQ(r["tracks"][1]["pregap_sectors"], 150) << "found in the Q channel";
  EXPECT_EQ(listing(folder / "out").size(), 2u) << "no working file stays behind";
  const json disc = cli({"identify", "out/x.cue", "--json"}).json()["results"][0];
  EXPECT_EQ(disc["tracks"][1]["start_lba"], 450);
  EXPECT_EQ(disc["catalogue"], "4006381333931");
}

TEST_F(Dumping, AnyFormatOfTheRegistryIsATarget) {
  ASSERT_EQ(dump("clean", {"--to", "cue-tracks"}, "tracks/").exit_code, 0);
  std::string joined;
  for (int n = 1; n <= 4; ++n)
    joined += read_file(folder.path() / fmt::format("tracks/MOTH_LANTERN (Track {}).bin", n));
  EXPECT_EQ(joined, original);
  ASSERT_EQ(dump("clean", {}, "disc.vcd").exit_code, 0);
  EXPECT_EQ(cli({"check", "disc.vcd"}).exit_code, 0);
  const Outcome iso = dump("clean", {}, "disc.iso");
  EXPECT_EQ(iso.exit_code, 4) << "the music would be lost";
  EXPECT_EQ(iso.json()["errors"][0]["code"], "loss");
  EXPECT_FALSE(fs::exists(*this / "disc.opifex-dump")) << "said before reading, not after";
  ASSERT_EQ(dump("clean", {"--accept", "audio,form2"}, "disc.iso").exit_code, 0);
  EXPECT_EQ(read_file(*this / "disc.iso").size(), 300u * 2048);
}

TEST_F(Dumping, ThePlanTellsWhatWouldHappenAndWritesNothing) {
  const Outcome plan = cli({"dump", "sim:clean.toml", "--out", "out/", "--plan"});
  EXPECT_EQ(plan.exit_code, 0) << plan.err;
  for (const char* part :
       {"1 data track + 3 audio tracks", "PRXS-00101", "out/MOTH_LANTERN.bin", "3 704 400 bytes", "free"})
    EXPECT_TRUE(contains(plan.out, part)) << part << " in\n" << plan.out;
  EXPECT_FALSE(fs::exists(*this / "out"));
  // The walls are met before anything is read.
  write_file(*this / "big.toml", "[drive]\nkind = \"dvd\"\n[disc]\nprofile = 16\nimage = \"big.iso\"\n");
  std::ofstream(*this / "big.iso").close();
  fs::resize_file(*this / "big.iso", 5'000'000'000 / 2048 * 2048);
  const Outcome fat = cli({"dump", "sim:big.toml", "--out", "out/", "--fs", "fat32", "--plan"});
  EXPECT_EQ(fat.exit_code, 4);
  EXPECT_TRUE(contains(fat.err, "fat32")) << fat.err;
}

TEST_F(Dumping, ScratchedRingLosesExactlyWhatIsReported) {
  const Outcome outcome = dump("scratched-ring");
  EXPECT_EQ(outcome.exit_code, 1);
  EXPECT_EQ(troubled(outcome), (Ranges{{"unreadable", 100, 40}, {"unreadable", 600, 21}}));
  std::vector<int> lost;
  for (int lba = 100; lba < 140; ++lba) lost.push_back(lba);
  for (int lba = 600; lba <= 620; ++lba) lost.push_back(lba);
  EXPECT_EQ(differing(), lost);
  // Never silently zero: a right header and a filler no EDC covers.
  const std::string sector = dumped().substr(100 * 2352, 2352);
  EXPECT_EQ(sector.substr(12, 4), std::string("\x00\x03\x25\x02", 4));
  EXPECT_EQ(sector.substr(16), std::string(2336, '\x55'));
  EXPECT_TRUE(fs::exists(*this / "out/x.opifex-map"));
  EXPECT_EQ(cli({"check", "out/x.cue"}).exit_code, 1);
}

TEST_F(Dumping, WeakSectorsAreReadInTheEnd) {
  const Outcome outcome = dump("weak");
  EXPECT_EQ(outcome.exit_code, 0) << outcome.out;
  EXPECT_EQ(dumped(), original);
  for (const auto& [state, lba, count] : troubled(outcome)) EXPECT_EQ(state, "retried") << lba;
  EXPECT_EQ(dump("weak", {"--passes", "0"}, "hasty/x.cue").exit_code, 1) << "it was the retries that did it";
}

TEST_F(Dumping, ADyingDriveKeepsWhatItReadAndAnotherGoesOn) {
  const Outcome dead = dump("dying");
  EXPECT_EQ(dead.exit_code, 5);
  EXPECT_EQ(dead.json()["errors"][0]["code"], "drive_gone");
  EXPECT_TRUE(fs::exists(*this / "out/x.opifex-dump"));
  EXPECT_FALSE(fs::exists(*this / "out/x.bin"));
  const Outcome again = dump("clean");
  EXPECT_EQ(again.exit_code, 0) << again.err;
  EXPECT_EQ(result(again)["resumed"], true);
  EXPECT_GT(result(again)["resumes_at"], 0.15);
  EXPECT_EQ(dumped(), original);
}

TEST_F(Dumping, ReadOffsetIsCorrected) {
  EXPECT_EQ(dump("offset", {"--offset", "667"}).exit_code, 0);
  EXPECT_EQ(dumped(), original);
  ASSERT_EQ(dump("offset", {}, "raw/x.cue").exit_code, 0);
  EXPECT_NE(read_file(*this / "raw/x.bin"), original) << "the drive does shift";
  EXPECT_TRUE(contains(cli({"dump", "sim:offset.toml", "--out", "plan/", "--plan"}).out, "read offset is not known"));
  // Early by 30 samples: in front of the music stand data, where no drive reads samples. Here they are silent, but who
  // knows that?
  const Outcome early = dump("early-offset", {"--offset", "-30"}, "early/x.cue");
  EXPECT_EQ(early.exit_code, 1);
  EXPECT_EQ(read_file(*this / "early/x.bin"), original);
  EXPECT_EQ(result(early)["drive_statistics"]["unreachable_samples"], 30);
  EXPECT_EQ(result(early)["verdict"], "unsure");
  // A drive that cannot go beyond the disc's end says how much it lacks.
  write_file(*this / "edge.toml", "[drive]\nread_offset = 12\n[disc]\nimage = \"mixed.cue\"\n");
  const Outcome edge = dump("edge", {"--offset", "12"}, "edge/x.cue");
  EXPECT_EQ(result(edge)["drive_statistics"]["unreachable_samples"], 12);
  const std::string bytes = read_file(*this / "edge/x.bin");
  EXPECT_EQ(bytes.substr(0, bytes.size() - 48), original.substr(0, original.size() - 48));
}

TEST_F(Dumping, JitterIsJoinedAway) {
  const Outcome outcome = dump("jitter");
  EXPECT_EQ(outcome.exit_code, 0) << outcome.out;
  EXPECT_EQ(dumped(), original);
}

TEST_F(Dumping, AWrongTableOfContentsIsCutWhereTheDiscEnds) {
  const Outcome outcome = dump("wrong-toc");
  EXPECT_EQ(outcome.exit_code, 0) << outcome.out;
  EXPECT_EQ(dumped(), original);
  EXPECT_TRUE(contains(result(outcome)["warnings"].dump(), "toc_too_long"));
}

TEST_F(Dumping, SessionsKeepTheirPlaces) {
  const Outcome outcome = dump("sessions");
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(dumped().size(), 1250u * 2352) << "the gap between the sessions is in no file";
  const json tracks = cli({"identify", "out/x.cue", "--json"}).json()["results"][0]["tracks"];
  EXPECT_EQ(tracks[1]["start_lba"], 500);
  EXPECT_EQ(tracks[1]["isrc"], "XXPAL2600002");
  EXPECT_EQ(tracks[2]["start_lba"], 900 + 11400);
  EXPECT_EQ(tracks[2]["session"], 2);
  EXPECT_EQ(cli({"check", "out/x.cue"}).exit_code, 0) << "the data sectors say so themselves";
  // An old drive that tells less reads the same bytes.
  const Outcome old = dump("short-toc", {}, "old/x.cue");
  ASSERT_EQ(old.exit_code, 0) << old.err;
  EXPECT_EQ(read_file(*this / "old/x.bin"), dumped());
  EXPECT_TRUE(contains(result(old)["warnings"].dump(), "gaps_unknown"));
}

TEST_F(Dumping, DualLayerDvdIsReadInBlocksAndSpoiledGroupsAreRetried) {
  write_file(*this / "dvd.iso", as_text(Random(3).bytes(1500 * 2048)));
  const Outcome outcome = dump("dual-layer", {}, "out/x.iso");
  EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(read_file(*this / "out/x.iso"), read_file(*this / "dvd.iso"));
  EXPECT_EQ(result(outcome)["medium"]["layers"], 2);
  EXPECT_EQ(result(outcome)["medium"]["layer_break_lba"], 1024);
  EXPECT_FALSE(troubled(outcome).empty()) << "the group of sector 500 needed a second try";
}

TEST_F(Dumping, ARemovedOrSwappedDiscStopsTheDump) {
  const Outcome removed = dump("removed");
  EXPECT_EQ(removed.exit_code, 5);
  EXPECT_EQ(removed.json()["errors"][0]["code"], "eject_pressed");
  demo::Recipe other = demo::workshop_recipes()[1];
  other.stem = "other";
  demo::write_disc(other, folder.path(), demo::Files::one_bin);
  const Outcome swapped = dump("swapped", {}, "swap/x.cue");
  EXPECT_EQ(swapped.exit_code, 5);
  EXPECT_EQ(swapped.json()["errors"][0]["code"], "medium_changed");
  // The other disc must not go on where the first one stopped.
  write_file(*this / "wrong.toml", "[disc]\nimage = \"other.cue\"\n");
  const Outcome wrong = dump("wrong");
  EXPECT_EQ(wrong.exit_code, 4);
  EXPECT_EQ(wrong.json()["errors"][0]["code"], "other_dump");
  EXPECT_EQ(dump("clean", {"--offset", "5"}).json()["errors"][0]["code"], "other_dump") << "other bytes would be read";
  EXPECT_EQ(dump("clean").exit_code, 0);
  EXPECT_EQ(dumped(), original);
}

TEST_F(Dumping, AHangingDriveIsWaitedForAndTheSpotLeftForLast) {
  const Outcome outcome = dump("hang");
  EXPECT_EQ(outcome.exit_code, 1);
  EXPECT_EQ(troubled(outcome), (Ranges{{"hang", 280, 1}}));
  EXPECT_EQ(differing(), (std::vector<int>{280}));
  EXPECT_GE(result(outcome)["drive_statistics"]["hangs"], 3);
}

TEST_F(Dumping, WrongBytesAreFoundByChecksumC2AndASecondReading) {
  const Outcome outcome = dump("noise");
  EXPECT_EQ(outcome.exit_code, 0) << outcome.out;
  EXPECT_EQ(dumped(), original);
  EXPECT_GT(result(outcome)["drive_statistics"]["flagged_sectors"], 0);
}

TEST_F(Dumping, ANervousDriveIsHandledWithPatience) {
  const Outcome outcome = dump("nervous");
  EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(dumped(), original);
}

TEST_F(Dumping, GivingUpLeavesTheRestMarked) {
  write_file(*this / "bad.toml",
             "[disc]\nimage = \"mixed.cue\"\n[[defects]]\nkind = \"unreadable\"\nlba = [50, 250]\n");
  const Outcome outcome = dump("bad", {"--give-up-after", "10s"});
  EXPECT_EQ(outcome.exit_code, 1);
  const json counts = result(outcome)["map"]["counts"];
  const int lost = counts.value("unreadable", 0) + counts.value("untried", 0);
  EXPECT_GE(lost, 201);
  EXPECT_EQ(lost + counts.value("good", 0), 300);
  EXPECT_LT(result(outcome)["drive_statistics"]["drive_seconds"], 200);
}

TEST_F(Dumping, CdTextNamesTheDiscAndItsTracks) {
  // Two packs as a drive returns them (type, track, number, block; 12 characters; no checksum).
  std::string packs;
  packs += std::string("\x80\x00\x00\x00", 4) + "Brass Orchar" + std::string(2, '\0');
  packs += std::string("\x80\x00\x01\x00", 4) + std::string("d\0Overture\0\0", 12) + std::string(2, '\0');
  write_file(*this / "packs.bin", packs);
  write_file(
      *this / "music.toml",
      "[disc]\ncdtext = \"packs.bin\"\n[[disc.sessions]]\n[[disc.sessions.tracks]]\nmode = \"AUDIO\"\nsectors = 500\n");
  ASSERT_EQ(dump("music", {}, "shelf/").exit_code, 0);
  const std::string sheet = read_file(*this / "shelf/Brass Orchard.cue");
  EXPECT_TRUE(contains(sheet, "TITLE \"Brass Orchard\"")) << sheet;
  EXPECT_TRUE(contains(sheet, "    TITLE \"Overture\"")) << sheet;
}

TEST_F(Dumping, TheSubchannelIsKeptOnRequest) {
  ASSERT_EQ(dump("clean", {"--subchannel"}).exit_code, 0);
  const std::string sub = read_file(*this / "out/x.sub");
  ASSERT_EQ(sub.size(), 1575u * 96);
  // ECMA-130, 22.3.2: control 0, track 02, index 00, counting down; packed: Q stands behind 12 bytes of P.
  const std::string q = sub.substr(310 * 96 + 12, 10);
  EXPECT_EQ(q, std::string("\x01\x02\x00\x00\x01\x65\x00\x00\x06\x10", 10));
}

TEST_F(Dumping, EncryptedDiscsAreDecryptedWithTheUsersKey) {
  fs::copy_file(vector_path("iso/ps3-encrypted.iso"), *this / "ps3-encrypted.iso");
  const json expected = vector_json("iso/ps3.json");
  const auto keys = [&](const std::string& name, const std::string& key) {
    write_file(*this / name, "[disc-keys]\n\"PRUS-30404\" = \"" + key + "\"\n");
  };
  keys("keys.toml", expected["key"]);
  keys("wrong.toml", expected["wrong_key"]);
  const Outcome outcome = dump("encrypted", {"--key-file", "keys.toml"}, "out/plain.iso");
  ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(sha256_file(*this / "out/plain.iso"), expected["decrypted_sha256"]);
  EXPECT_EQ(result(outcome)["decrypted"], true);
  EXPECT_FALSE(contains(outcome.out + outcome.err, expected["key"])) << "keys are never shown";
  const Outcome wrong = dump("encrypted", {"--key-file", "wrong.toml"}, "out/wrong.iso");
  EXPECT_EQ(wrong.exit_code, 3);
  EXPECT_EQ(wrong.json()["errors"][0]["code"], "wrong_key");
  EXPECT_FALSE(fs::exists(*this / "out/wrong.iso"));
  ASSERT_EQ(dump("encrypted", {}, "out/as-is.iso").exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "out/as-is.iso"), expected["encrypted_sha256"]);
}

TEST_F(Dumping, NextGoesOnWithDiscAfterDiscAndKeepsSetsTogether) {
  auto recipes = demo::workshop_recipes();
  recipes[1].stem = "kestrel1";
  recipes[2].stem = "kestrel2";
  demo::write_disc(recipes[1], folder.path(), demo::Files::one_bin);
  demo::write_disc(recipes[2], folder.path(), demo::Files::one_bin);
  const Outcome outcome = cli({"dump", "sim:changer.toml", "--out", "shelf/", "--next", "--discs", "3", "--json"});
  EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
  EXPECT_EQ(outcome.json()["results"].size(), 3u);
  EXPECT_EQ(read_file(*this / "shelf/KESTREL_CIRCUIT/KESTREL_CIRCUIT (Disc 1).bin"), read_file(*this / "kestrel1.bin"));
  EXPECT_EQ(read_file(*this / "shelf/KESTREL_CIRCUIT/KESTREL_CIRCUIT (Disc 2).bin"), read_file(*this / "kestrel2.bin"));
  EXPECT_EQ(read_file(*this / "shelf/MOTH_LANTERN.bin"), original);
}

TEST_F(Dumping, RecordAndFiguresStandBesideTheDump) {
  const Outcome outcome = dump("half-a", {"--record", "--report", "figures"});
  ASSERT_EQ(outcome.exit_code, 1) << outcome.err;
  EXPECT_TRUE(contains(read_file(*this / "out/x.dump.txt"), "Verdict     damaged"));
  const json record = json::parse(read_file(*this / "out/x.dump.json"));
  EXPECT_EQ(record["record"], "dump");
  EXPECT_EQ(record["verdict"], "damaged");
  for (const char* name : {"sector-map", "reading-speed", "readings"}) {
    EXPECT_EQ(read_file(folder.path() / "figures" / (std::string(name) + ".png")).substr(1, 3), "PNG");
    for (const char* extension : {".svg", ".dat", ".gp"})
      EXPECT_TRUE(fs::exists(folder.path() / "figures" / (std::string(name) + extension))) << name << extension;
  }
}

TEST_F(Dumping, TwoHalfBadCopiesMakeAWholeOne) {
  ASSERT_EQ(dump("half-a", {}, "a/x.cue").exit_code, 1);
  ASSERT_EQ(dump("half-b", {}, "b/x.cue").exit_code, 1);
  const Outcome joined = cli({"rescue", "a/x.cue", "b/x.cue", "--out", "out/x.cue", "--json"});
  EXPECT_EQ(joined.exit_code, 0) << joined.err;
  EXPECT_EQ(dumped(), original);
  const json r = result(joined);
  EXPECT_EQ(r["verdict"], "intact");
  EXPECT_EQ(r["ranges"][1]["lba"], 30);
  EXPECT_EQ(r["ranges"][1]["dumps"], json::array({2}));
  EXPECT_GT(r["only_from"][0]["sectors"], 0);
  // The order of the dumps does not matter.
  ASSERT_EQ(cli({"rescue", "b/x.cue", "a/x.cue", "--out", "again/x.cue"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "again/x.bin"), original);
  // Nothing is written over a dump.
  EXPECT_EQ(cli({"rescue", "a/x.cue", "b/x.cue", "--out", "a/x.cue", "--overwrite"}).exit_code, 4);
}

TEST_F(Dumping, RescueRefusesAnotherDiscAndSaysWhatStaysLost) {
  ASSERT_EQ(dump("half-a", {}, "a/x.cue").exit_code, 1);
  demo::Recipe other = demo::workshop_recipes()[0];
  other.stem = "other";
  other.seed = 99;
  demo::write_disc(other, folder.path(), demo::Files::one_bin);
  const Outcome refused = cli({"rescue", "a/x.cue", "other.cue", "--out", "out/x.cue", "--json"});
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_EQ(refused.json()["errors"][0]["code"], "different_discs");
  ASSERT_EQ(dump("scratched-ring", {}, "c/x.cue").exit_code, 1);
  const Outcome partly = cli({"rescue", "a/x.cue", "c/x.cue", "--out", "out/x.cue", "--json"});
  EXPECT_EQ(partly.exit_code, 0) << "31 sectors that one dump is unsure of are confirmed by the other";
  EXPECT_EQ(dumped(), original);
  // The same spots again: nothing is gained. One dump twice is no second one.
  ASSERT_EQ(dump("scratched-ring", {}, "d/x.cue").exit_code, 1);
  const Outcome alike = cli({"rescue", "c/x.cue", "d/x.cue", "--out", "lost/x.cue", "--json"});
  EXPECT_EQ(alike.exit_code, 1);
  EXPECT_EQ(result(alike)["counts"]["lost"], 61);
  copy_folder(*this / "c", *this / "copy");
  for (const char* twice : {"c/x.cue", "copy/x.cue"}) {
    const Outcome same = cli({"rescue", "c/x.cue", twice, "--out", "twice/x.cue", "--json"});
    EXPECT_EQ(same.exit_code, 2);
    EXPECT_EQ(same.json()["errors"][0]["code"], "same_dump");
  }
}

TEST_F(Dumping, AnImageOfBlocksAndAFolderAreSourcesToo) {
  write_file(*this / "blocks.img", as_text(Random(9).bytes(700 * 2048)));
  ASSERT_EQ(cli({"dump", "blocks.img", "--out", "copy.iso"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "copy.iso"), read_file(*this / "blocks.img"));
  EXPECT_EQ(cli({"dump", "mixed.bin", "--out", "no.iso"}).exit_code, 3) << "raw sectors are no blocks";

  fs::create_directories(*this / "disc/DATA");
  write_file(*this / "disc/SYSTEM.CNF", "BOOT = cdrom:\\PRXS_001.01;1\r\n");
  write_file(*this / "disc/DATA/WAVES.BIN", as_text(Random(5).bytes(3'000'000)));
  const Outcome copied = cli({"dump", "disc", "--out", "files", "--json"});
  ASSERT_EQ(copied.exit_code, 0) << copied.err;
  EXPECT_EQ(read_file(*this / "files/DATA/WAVES.BIN"), read_file(*this / "disc/DATA/WAVES.BIN"));
  EXPECT_TRUE(contains(result(copied)["warnings"].dump(), "no_mounted_disc"));
  const Outcome again = cli({"dump", "disc", "--out", "files", "--json"});
  EXPECT_EQ(result(again)["outputs"][0]["was_there"], true);
  write_file(*this / "files/SYSTEM.CNF", "something else");
  EXPECT_EQ(cli({"dump", "disc", "--out", "files"}).exit_code, 4) << "another file of that name is not touched";
}

TEST_F(Dumping, MistakesGetAnAnswer) {
  EXPECT_EQ(cli({"dump", "sim:clean.toml"}).exit_code, 2) << "no --out";
  EXPECT_EQ(cli({"dump", "sim:none.toml", "--out", "x/"}).exit_code, 3);
  EXPECT_EQ(cli({"dump", "/dev/no-such-drive", "--out", "x/"}).exit_code, 3);
  write_file(*this / "typo.toml", "[disc]\nimage = \"mixed.cue\"\nlayers = 2\n");
  const Outcome typo = dump("typo");
  EXPECT_EQ(typo.exit_code, 3);
  EXPECT_EQ(typo.json()["errors"][0]["line"], 3);
  write_file(*this / "empty.toml", "[start]\nmedium = false\n[disc]\nimage = \"mixed.cue\"\n");
  EXPECT_EQ(dump("empty").json()["errors"][0]["code"], "no_medium");
  EXPECT_EQ(dump("clean", {"--give-up-after", "soon"}).exit_code, 2);
  fs::create_directories(*this / "out");
  write_file(*this / "out/x.bin", "mine");
  EXPECT_EQ(dump("clean").exit_code, 4);
  EXPECT_EQ(read_file(*this / "out/x.bin"), "mine");
  // A damaged state is not believed.
  fs::remove(*this / "out/x.bin");
  write_file(*this / "out/x.opifex-dump-state", "opifex sector map 1\nsectors 0 5\n");
  const Outcome broken = dump("clean");
  EXPECT_EQ(broken.json()["errors"][0]["code"], "bad_sector_map");
  EXPECT_EQ(dump("clean", {"--restart"}).exit_code, 0);
  EXPECT_EQ(dumped(), original);
}

TEST_F(Dumping, KilledAtTwentyRandomMomentsItStillComesToTheSameBytes) {
  // About two seconds of real time for the whole disc, so that there is something to kill.
  write_file(
      *this / "slow.toml",
      "seed = 5\n[timing]\npace = 0.4\nerror_ms = 40\nseek_ms = 5\nspinup_ms = 10\n[drive]\nspeeds = [176, 706]\n"
      "cache_kib = 64\n[disc]\nimage = \"mixed.cue\"\n[[defects]]\nkind = \"weak\"\nlba = [50, 90]\np = 0.5\n");
  const std::vector<std::string> words = {"dump",         "sim:slow.toml", "--out",    "out/x.cue",
                                          "--save-every", "20ms",          "--hashes", "none"};
  const std::uint64_t seed = static_cast<std::uint64_t>(::getpid());
  SCOPED_TRACE(fmt::format("seed {}", seed));
  Random random(seed);
  int killed = 0;
  for (int i = 0; i < 20; ++i) {
    const Running run(folder.path(), words);
    std::this_thread::sleep_for(std::chrono::milliseconds(20 + random.below(280)));
    run.kill(SIGKILL);
    killed += run.wait() == -SIGKILL ? 1 : 0;
    // Whatever has its final name is whole.
    if (fs::exists(*this / "out/x.cue")) {
      ASSERT_EQ(dumped(), original) << "after run " << i;
      fs::remove_all(*this / "out");
    }
  }
  EXPECT_GE(killed, 15) << "too few were still running to prove anything";
  EXPECT_EQ(Running(folder.path(), words).wait(), 0);
  EXPECT_EQ(dumped(), original);
  EXPECT_EQ(listing(folder / "out").size(), 2u);
}

TEST_F(Dumping, CtrlCKeepsWhatIsReadAndTheSameCommandGoesOn) {
  write_file(*this / "slow.toml",
             "[timing]\npace = 0.5\n[drive]\nspeeds = [176]\ncache_kib = 64\n[disc]\nimage = \"mixed.cue\"\n");
  const std::vector<std::string> words = {"dump", "sim:slow.toml", "--out", "out/x.cue", "--save-every", "20ms"};
  const Running run(folder.path(), words);
  for (int i = 0; i < 200 && !fs::exists(*this / "out/x.opifex-dump"); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  std::this_thread::sleep_for(std::chrono::milliseconds(500));
  run.kill(SIGINT);
  EXPECT_EQ(run.wait(), 130);
  EXPECT_TRUE(fs::exists(*this / "out/x.opifex-dump-state"));
  const Outcome again = dump("clean");
  EXPECT_EQ(again.exit_code, 0) << again.err;
  EXPECT_EQ(result(again)["resumed"], true);
  EXPECT_EQ(dumped(), original);
}

}  // namespace
}  // namespace opifex::testkit
