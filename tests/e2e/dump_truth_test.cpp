// Dumps that could lie: readings from the buffer, discs that are swapped, drives that are changed, gaps nobody tells.
#include <fmt/format.h>

#include "opifex/core/cd/sector.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

using nlohmann::json;

constexpr const char* kDataAndMusic =
    "{number = 1, mode = \"MODE1\", sectors = 600}, {number = 2, mode = \"AUDIO\", sectors = 450, pregap = 150}, "
    "{number = 3, mode = \"AUDIO\", sectors = 300}";
constexpr const char* kMusic =
    "{number = 1, mode = \"AUDIO\", sectors = 3000}, {number = 2, mode = \"AUDIO\", sectors = 2000}";

std::string drive(const std::string& features, const std::string& tracks, const std::string& defects = "") {
  return "[drive]\n" + features + "\n[disc]\nsessions = [{tracks = [" + tracks + "]}]\n" + defects;
}
std::string defect(const char* kind, int first, int last, const std::string& more = "") {
  return fmt::format("[[defects]]\nkind = \"{}\"\nlba = [{}, {}]\n{}\n", kind, first, last, more);
}

/// A track of Mode 2 without any form; `with_form1` sectors have one.
std::string without_checksums(std::uint64_t seed, int sectors, int with_form1 = 100) {
  Random random(seed);
  std::string track;
  for (int lba = 0; lba < sectors; ++lba) {
    cd::Sector s{};
    const Bytes noise = random.bytes(s.size());
    std::copy(noise.begin(), noise.end(), s.begin());
    cd::put_header(s, lba, 2);
    if (lba >= 100 && lba < 100 + with_form1)
      cd::make_form1(s, lba, cd::kForm1Data, std::span<const std::byte, cd::kUserBytes>(noise.data(), cd::kUserBytes));
    track += as_text(s);
  }
  return track;
}

class DumpTruth : public Program {
 protected:
  Outcome dump(const std::string& description, const std::string& out, std::vector<std::string> more = {}) {
    write_file(*this / "drive.toml", description);
    std::vector<std::string> words = {"dump", "sim:drive.toml", "--out", out, "--json"};
    words.insert(words.end(), more.begin(), more.end());
    return cli(words);
  }
  static json result(const Outcome& o) { return o.json()["results"][0]; }
  static std::string codes(const Outcome& o) {
    std::string text;
    const json r = result(o);
    for (const json& w : r["warnings"]) text += w["code"].get<std::string>() + " ";
    return text;
  }
  /// What a sound drive makes of the same disc.
  std::string truth(const std::string& tracks) {
    EXPECT_EQ(dump(drive("", tracks), "truth/x.cue", {"--overwrite"}).exit_code, 0);
    return read_file(*this / "truth/x.bin");
  }
  std::string bin(const std::string& folder_name) { return read_file(*this / (folder_name + "/x.bin")); }
};

TEST_F(DumpTruth, MusicInFrontOfDataIsMusic) {
  const Outcome run = dump(drive("",
                                 "{number = 1, mode = \"AUDIO\", sectors = 300}, {number = 2, mode = \"MODE1\", "
                                 "sectors = 450, pregap = 150}"),
                           "o/x.cue", {"--offset", "0"});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_EQ(result(run)["tracks"][0]["mode"], "AUDIO");
  EXPECT_LT(result(run)["drive_statistics"]["drive_seconds"], 20);
  EXPECT_TRUE(codes(run).empty()) << codes(run);
}

TEST_F(DumpTruth, ReadingsFromTheBufferAreNoSecondReadings) {
  std::string defects;
  for (int lba = 610; lba < 1340; lba += 18) defects += defect("silent", lba, lba, "p = 0.5\nbytes = 8");
  const std::string sound = truth(kDataAndMusic);
  const Outcome run =
      dump(drive("c2 = false\ncache_kib = 2048", kDataAndMusic, defects), "o/x.cue", {"--passes", "14"});
  EXPECT_EQ(result(run)["verdict"], "intact") << run.out;
  EXPECT_EQ(bin("o"), sound);
}

TEST_F(DumpTruth, ADiscThatFitsIntoTheBufferCannotBeConfirmed) {
  const Outcome run = dump(drive("cache_kib = 8192", kDataAndMusic), "o/x.cue");
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_EQ(result(run)["verdict"], "unsure");
  EXPECT_TRUE(contains(codes(run), "only_from_buffer"));
}

TEST_F(DumpTruth, ADriveThatSaysTooLittleOfItsBufferIsFoundOut) {
  // Two equal wrong readings of each sector, one of them from a buffer of 2 MiB that the drive calls 64 KiB.
  const std::string music = "{number = 1, mode = \"AUDIO\", sectors = 4000}";
  const std::string sound = truth(music);
  std::string defects;
  for (int lba = 100; lba < 3900; lba += 90) defects += defect("silent", lba, lba, "p = 0.5\nbytes = 8");
  const Outcome run =
      dump(drive("c2 = false\ncache_kib = 2048\ncache_told_kib = 64", music, defects), "o/x.cue", {"--passes", "14"});
  EXPECT_EQ(run.exit_code, 0) << codes(run);
  EXPECT_EQ(bin("o"), sound);
  // Nor is it believed on a disc on which that cannot be found out.
  const Outcome small = dump(drive("cache_kib = 4096\ncache_told_kib = 64", kDataAndMusic), "p/x.cue");
  EXPECT_EQ(small.exit_code, 1);
  EXPECT_TRUE(contains(codes(small), "only_from_buffer"));
}

TEST_F(DumpTruth, NothingIsConfirmedWhereTheBufferMayHoldMoreThanItIsSaidTo) {
  // A buffer of 892 sectors that is told as 223, on discs that fit into it, hardly do, and are larger: how many of the
  // wrong readings are called confirmed?
  for (const int length : {400, 600, 900, 1400}) {
    SCOPED_TRACE(length);
    const std::string music = fmt::format("{{number = 1, mode = \"AUDIO\", sectors = {}}}", length);
    const std::string name = "o" + std::to_string(length), sound = truth(music);
    std::string defects;
    for (int lba = 9; lba < length; lba += 17) defects += defect("silent", lba, lba, "p = 0.4\nbytes = 8");
    const Outcome run =
        dump(drive("c2 = false\ncache_kib = 2048\ncache_told_kib = 512\nreadahead = 75", music, defects),
             name + "/x.cue", {"--passes", "14"});
    if (run.exit_code == 0)
      EXPECT_EQ(bin(name), sound);
    else
      EXPECT_TRUE(contains(codes(run), "only_from_buffer")) << run.out;
    EXPECT_EQ(run.exit_code, length > 1000 ? 0 : 1) << "what can be shown is confirmed, and nothing else";
  }
}

TEST_F(DumpTruth, ADriveThatIsAsQuickFromTheDiscProvesNoMusic) {
  // Whether it reads the disc at all cannot be told from outside.
  const std::string quick = "[timing]\nseek_ms = 0\ncommand_ms = 0\n";
  const Outcome run = dump(quick + drive("cache_kib = 64", kDataAndMusic), "o/x.cue");
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(codes(run), "only_from_buffer")) << run.out;
}

TEST_F(DumpTruth, WhyDataOfAShortDiscStayUnsureIsSaidAfterAResumeAsWell) {
  // The drive does not tell of its buffer: it may hold all of the disc.
  write_file(*this / "data.raw", without_checksums(8, 700));
  const std::string track = "{number = 1, mode = \"MODE2\", file = \"data.raw\"}";
  const std::string features = "cache_kib = 128\ncache_told_kib = 0";
  EXPECT_TRUE(contains(codes(dump(drive(features, track), "whole/x.cue")), "only_from_buffer"));
  ASSERT_EQ(dump(drive(features, track, defect("eject", 500, 500)), "o/x.cue").exit_code, 5);
  const Outcome run = dump(drive(features, track), "o/x.cue");
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(codes(run), "only_from_buffer")) << codes(run);
  EXPECT_EQ(result(run)["drive_statistics"]["only_from_buffer"], 600) << "those read before it stopped as well";
}

TEST_F(DumpTruth, DataWithoutAChecksumIsReadAgainInOneGo) {
  // As films and voices lie on a disc: one sector of them in eight.
  std::string track;
  cd::Sector s{};
  Random random(5);
  for (int lba = 0; lba < 3000; ++lba) {
    const Bytes noise = random.bytes(cd::kForm2Bytes);
    const auto user = std::span<const std::byte, cd::kForm2Bytes>(noise);
    if (lba % 8 == 0)
      cd::make_form2(s, lba, {1, 0, 0x64, 1}, user);
    else
      cd::make_form1(s, lba, cd::kForm1Data, user.first<cd::kUserBytes>());
    if (lba % 8 == 0) std::fill(s.begin() + cd::kForm2EdcAt, s.end(), std::byte{0});
    track += as_text(s);
  }
  write_file(*this / "track.raw", track);
  const std::string tracks = "{number = 1, mode = \"MODE2\", file = \"track.raw\"}";
  const Outcome run = dump(drive("", tracks), "o/x.cue");
  EXPECT_EQ(run.exit_code, 0) << run.out;
  EXPECT_EQ(bin("o"), track);
  EXPECT_EQ(result(run)["map"]["counts"]["good"], 3000);
  EXPECT_LT(result(run)["drive_statistics"]["drive_seconds"], 20);
  // What nobody flagged is found by the second reading.
  const Outcome damaged = dump(drive("", tracks, defect("silent", 800, 800, "p = 0.5\nbytes = 9")), "p/x.cue");
  EXPECT_EQ(damaged.exit_code, 0) << damaged.out;
  EXPECT_EQ(bin("p"), track);
}

TEST_F(DumpTruth, WhatCameBeforeADiscWasChangedIsReadAgain) {
  // No sector of these discs tells which one it is of, but for some; and they have the same table of contents.
  write_file(*this / "a.raw", without_checksums(1, 700));
  write_file(*this / "b.raw", without_checksums(2, 700));
  const std::string second =
      "[[next_discs]]\nsessions = [{tracks = [{number = 1, mode = \"MODE2\", file = \"b.raw\"}]}]\n";
  for (const int at : {90, 150, 260, 640}) {
    const Outcome run =
        dump(drive("", "{number = 1, mode = \"MODE2\", file = \"a.raw\"}", second + defect("swap", at, at)), "o/x.cue",
             {"--overwrite", "--restart"});
    if (run.exit_code > 1) continue;  // it was noticed
    EXPECT_EQ(run.exit_code, 0) << "swapped at " << at;
    const std::string is = bin("o");
    EXPECT_TRUE(is == read_file(*this / "a.raw") || is == read_file(*this / "b.raw")) << "swapped at " << at;
  }
}

TEST_F(DumpTruth, ADiscWithoutAnyChecksumIsReadTwice) {
  const std::string track = without_checksums(6, 700, 0);
  write_file(*this / "a.raw", track);
  const std::string tracks = "{number = 1, mode = \"MODE2\", file = \"a.raw\"}";
  const Outcome run = dump(drive("", tracks), "o/x.cue");
  EXPECT_EQ(run.exit_code, 0) << run.out;
  EXPECT_EQ(bin("o"), track);
  const Outcome wrong = dump(drive("c2 = false", tracks, defect("silent", 300, 340, "p = 0.2\nbytes = 3")), "p/x.cue");
  EXPECT_EQ(wrong.exit_code, 0) << wrong.out;
  EXPECT_EQ(bin("p"), track);
}

TEST_F(DumpTruth, ADiscThatEndsEarlyIsReadToItsEnd) {
  // What has no checksum is read twice, and the hole that was jumped over is read, too.
  const std::string track = without_checksums(3, 900);
  write_file(*this / "a.raw", track);
  const std::string description =
      "[disc]\ntoc_excess = 187\nsessions = [{tracks = [{number = 1, mode = \"MODE2\", file = "
      "\"a.raw\"}]}]\n";
  const Outcome whole = dump(description, "o/x.cue");
  EXPECT_TRUE(contains(codes(whole), "toc_too_long"));
  EXPECT_EQ(result(whole)["map"]["counts"]["good"], 900) << whole.out;
  EXPECT_EQ(bin("o"), track);
  const Outcome scratched = dump(description + defect("unreadable", 452, 478), "p/x.cue");
  const json counts = result(scratched)["map"]["counts"];
  EXPECT_FALSE(counts.contains("untried"));
  EXPECT_EQ(counts["unreadable"], 27);
  EXPECT_EQ(counts.value("good", 0) + counts.value("retried", 0), 873) << counts;
}

TEST_F(DumpTruth, NoMusicIsFoundWhereAScratchHidesTheBorderToData) {
  // A pause that begins as music and goes on as data, and nobody can read where. Moved by more than a sector, music of
  // the sectors before would stand for data, twice the same.
  const Bytes music = Random(4).bytes(139 * cd::kRawBytes);
  std::string track(as_text(music));
  for (int lba = 632; lba < 1298; ++lba) {
    cd::Sector s{};
    const Bytes user = Random(static_cast<std::uint64_t>(lba)).bytes(cd::kUserBytes);
    cd::make_mode1(s, lba, std::span<const std::byte, cd::kUserBytes>(user));
    track += as_text(s);
  }
  write_file(*this / "data.raw", track);
  const std::string tracks =
      "{number = 1, mode = \"AUDIO\", sectors = 493}, {number = 2, mode = \"MODE1\", pregap = 150, file = "
      "\"data.raw\"}";
  const std::string sound = truth(tracks);
  const Outcome run = dump(
      drive("read_offset = -660\noverread = true\nsub = \"none\"", tracks, defect("slow_only", 478, 642, "kbs = 706")),
      "o/x.cue", {"--offset", "-660"});
  const std::string is = bin("o");
  const json ranges = result(run)["map"]["ranges"];
  for (const json& range : ranges) {
    const std::string state = range["state"];
    if (state == "audio-unsure" || state == "bad-edc" || state == "unreadable") continue;
    const std::size_t at = range["lba"].get<std::size_t>() * 2352, size = range["count"].get<std::size_t>() * 2352;
    EXPECT_EQ(is.substr(at, size), sound.substr(at, size)) << state << " from " << range["lba"];
  }
}

TEST_F(DumpTruth, TheOffsetIsFoundWhereDataCanBeReadAsMusic) {
  const auto warns = [&](const Outcome& run, const char* code) { return contains(codes(run), code); };
  const std::string able = "cdda_on_data = true\nread_offset = -102";
  const Outcome found = dump(drive(able, kDataAndMusic), "o/x.cue", {"--plan"});
  EXPECT_EQ(result(found)["found_offset"], -102);
  EXPECT_TRUE(warns(found, "offset_found"));
  EXPECT_TRUE(contains(found.out, "--offset -102 puts it in place")) << found.out;
  // Given, it is confirmed; another one is contradicted.
  const Outcome right = dump(drive(able, kDataAndMusic), "o/x.cue", {"--plan", "--offset", "-102"});
  EXPECT_FALSE(warns(right, "offset")) << codes(right);
  EXPECT_TRUE(warns(dump(drive(able, kDataAndMusic), "o/x.cue", {"--plan", "--offset", "6"}), "offset_differs"));
  // The pressing's own offset counts as well, and none is a finding, too.
  const std::string pressed =
      "[drive]\ncdda_on_data = true\nread_offset = 30\n[disc]\nwrite_offset = {}\n"
      "sessions = [{{tracks = [{}]}}]\n";
  for (const int write_offset : {-30, 0, 1100}) {
    const Outcome run = dump(fmt::format(fmt::runtime(pressed), write_offset, kDataAndMusic), "o/x.cue", {"--plan"});
    EXPECT_EQ(result(run)["found_offset"], 30 + write_offset);
    EXPECT_EQ(warns(run, "offset_found"), write_offset != -30);
  }
  // A drive that refuses, a stream that jitters and a disc of music alone tell nothing.
  for (const auto& [features, tracks] : {std::pair("read_offset = 6", kDataAndMusic),
                                         std::pair("cdda_on_data = true\naccurate_stream = false", kDataAndMusic),
                                         std::pair("cdda_on_data = true\nread_offset = 6", kMusic)}) {
    const Outcome run = dump(drive(features, tracks), "o/x.cue", {"--plan"});
    EXPECT_TRUE(result(run)["found_offset"].is_null()) << features;
    EXPECT_TRUE(warns(run, "offset_unknown")) << features;
  }
}

TEST_F(DumpTruth, MorePassesMendALongScratch) {
  const std::string sound = truth(kMusic);
  const Outcome run =
      dump(drive("", kMusic, defect("c2", 500, 3499, "p = 0.5\nbytes = 20")), "o/x.cue", {"--passes", "14"});
  EXPECT_EQ(run.exit_code, 0) << codes(run);
  EXPECT_EQ(bin("o"), sound);
}

TEST_F(DumpTruth, TheSubchannelBesideDamageIsThere) {
  const Outcome run = dump(drive("", kDataAndMusic, defect("after", 100, 100, "n = 3")), "o/x.cue", {"--subchannel"});
  EXPECT_EQ(run.exit_code, 0);
  const std::string sub = read_file(*this / "o/x.sub");
  ASSERT_EQ(sub.size(), 1350u * 96);
  for (std::size_t at = 0; at < sub.size(); at += 96)
    ASSERT_FALSE(all_zero(as_view(std::string_view(sub).substr(at, 96)))) << at / 96;
  // The image is opened, not what stands beside it.
  EXPECT_EQ(dump(drive("", kDataAndMusic), "c/x.chd", {"--subchannel"}).exit_code, 0);
  // A drive that has none makes no file of zeros.
  const Outcome none = dump(drive("sub = \"none\"", kDataAndMusic), "n/x.cue", {"--subchannel"});
  EXPECT_FALSE(fs::exists(*this / "n/x.sub"));
  EXPECT_EQ(codes(none).find("no_subchannel"), codes(none).rfind("no_subchannel")) << "said once";
}

TEST_F(DumpTruth, AnotherDiscOfTheSameSizeIsNoticed) {
  write_file(*this / "a.iso", as_text(Random(1).bytes(8 << 20)));
  write_file(*this / "b.iso", as_text(Random(2).bytes(8 << 20)));
  const std::string swap =
      "[drive]\nkind = \"dvd\"\n[disc]\nprofile = 16\nimage = \"a.iso\"\n[[next_discs]]\nprofile = 16\n"
      "image = \"b.iso\"\n" +
      defect("swap", 2000, 2000);
  const Outcome run = dump(swap, "o/x.iso");
  EXPECT_EQ(run.exit_code, 5);
  EXPECT_EQ(run.json()["errors"][0]["code"], "medium_changed");
  EXPECT_FALSE(fs::exists(*this / "o/x.iso"));
  // The first disc again: it goes on, and is that one's.
  const std::string first = "[drive]\nkind = \"dvd\"\n[disc]\nprofile = 16\nimage = \"a.iso\"\n";
  EXPECT_EQ(dump(first, "o/x.iso").exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "o/x.iso"), sha256_file(*this / "a.iso"));
}

TEST_F(DumpTruth, MusicIsNotContinuedByADriveThatReadsElsewhere) {
  const std::string sound = truth(kMusic);
  ASSERT_EQ(dump(drive("", kMusic, defect("dead", 4321, 4321)), "o/x.cue").exit_code, 5);
  const Outcome other = dump(drive("read_offset = 30", kMusic), "o/x.cue");
  EXPECT_EQ(other.exit_code, 4);
  EXPECT_EQ(other.json()["errors"][0]["code"], "other_dump");
  EXPECT_EQ(dump("seed = 99\n" + drive("", kMusic), "o/x.cue").exit_code, 4) << "another disc of the same length";
  EXPECT_EQ(dump(drive("", kMusic), "o/x.cue").exit_code, 0);
  EXPECT_EQ(bin("o"), sound);
}

TEST_F(DumpTruth, ADumpIsNotContinuedWithAnotherPressingsPause) {
  // The same music, other data, and another pause between them: all that was read before is from the first disc.
  const auto data_behind_pause = [&](std::uint64_t seed) {
    Random random(seed);
    std::string track(as_text(random.bytes(30 * 2352)));
    cd::Sector s{};
    for (int lba = 330; lba < 700; ++lba) {
      const Bytes user = random.bytes(cd::kUserBytes);
      cd::make_mode1(s, lba, std::span<const std::byte, cd::kUserBytes>(user));
      track += as_text(s);
    }
    return track;
  };
  write_file(*this / "first.raw", data_behind_pause(1));
  write_file(*this / "second.raw", data_behind_pause(2));
  const auto tracks = [](const std::string& file) {
    return "{number = 1, mode = \"AUDIO\", sectors = 300}, {number = 2, mode = \"MODE1\", pregap = 150, file = \"" +
           file + "\"}, {number = 3, mode = \"AUDIO\", sectors = 700}";
  };
  for (const char* features : {"", "sub = \"none\"", "read_offset = -650"}) {
    SCOPED_TRACE(features);
    ASSERT_EQ(dump(drive(features, tracks("second.raw")), "sound/x.cue", {"--overwrite"}).exit_code, 0);
    ASSERT_EQ(
        dump(drive(features, tracks("first.raw"), defect("eject", 400, 400)), "o/x.cue", {"--overwrite"}).exit_code, 5);
    EXPECT_EQ(dump(drive(features, tracks("second.raw")), "o/x.cue", {"--overwrite"}).exit_code, 0);
    EXPECT_EQ(bin("o"), bin("sound"));
  }
}

TEST_F(DumpTruth, AStateIsBelievedAsFarAsTheDataBearItOut) {
  const std::string sound = truth(kDataAndMusic);
  ASSERT_EQ(dump(drive("", kDataAndMusic, defect("dead", 1333, 1333)), "o/x.cue").exit_code, 5);
  // Sectors of data that the state calls good, and that are not.
  std::string data = read_file(*this / "o/x.opifex-dump");
  for (int lba = 300; lba < 340; ++lba) data[static_cast<std::size_t>(lba) * 2352 + 700] ^= 0x5A;
  write_file(*this / "o/x.opifex-dump", data);
  EXPECT_EQ(dump(drive("", kDataAndMusic), "o/x.cue").exit_code, 0);
  EXPECT_EQ(bin("o"), sound);
}

TEST_F(DumpTruth, GapsAreJudgedByContentWhereNobodyTellsThem) {
  const std::string sound = truth(kDataAndMusic);
  for (const char* features : {"sub = \"none\"", "sub = \"q\"", "max_blocks = 1", "max_blocks = 8"}) {
    const Outcome run = dump(drive(features, kDataAndMusic), "o/x.cue", {"--overwrite"});
    EXPECT_EQ(run.exit_code, 0) << features;
    EXPECT_EQ(bin("o"), sound) << features;
    EXPECT_EQ(result(run)["tracks"][1]["pregap_sectors"], 150) << features;
    EXPECT_EQ(contains(codes(run), "gap_judged"), std::string(features) == "sub = \"none\"") << codes(run);
  }
}

TEST_F(DumpTruth, AScratchAtItsEndDoesNotHideAGap) {
  // No Q, and the last sectors of the pause cannot be read: those in front of them still are music.
  const Outcome run =
      dump(drive("sub = \"none\"",
                 "{number = 1, mode = \"MODE1\", sectors = 477}, {number = 2, mode = \"AUDIO\", sectors = "
                 "690, pregap = 194}",
                 defect("unreadable", 632, 709)),
           "o/x.cue", {"--offset", "0"});
  EXPECT_EQ(result(run)["tracks"][1]["pregap_sectors"], 194);
  EXPECT_EQ(result(run)["map"]["counts"]["unreadable"], 78);
  EXPECT_EQ(result(run)["map"]["counts"]["audio-confirmed"], 612);
}

TEST_F(DumpTruth, AGapWhoseBeginningIsUnreadableIsCalledUncertain) {
  const std::string tracks =
      "{number = 1, mode = \"AUDIO\", sectors = 700}, {number = 2, mode = \"AUDIO\", sectors = 700, pregap = 137}";
  // Q cannot be read there, now or ever.
  const Outcome run = dump(drive("", tracks, defect("q_bad", 698, 702, "p = 1.0")), "o/x.cue");
  EXPECT_TRUE(contains(codes(run), "gap_uncertain")) << codes(run);
  // This time only: it is read again until it tells.
  const Outcome again = dump(drive("", tracks, defect("q_bad", 698, 702, "p = 0.5")), "p/x.cue");
  EXPECT_FALSE(contains(codes(again), "gap_uncertain")) << codes(again);
  EXPECT_EQ(result(again)["tracks"][1]["pregap_sectors"], 137);
  // Nothing of the track in front of it tells: all that is known is what the table of contents says.
  const Outcome all = dump(drive("", tracks, defect("q_bad", 0, 720, "p = 1.0")), "q/x.cue");
  EXPECT_TRUE(contains(codes(all), "gap_uncertain")) << codes(all);
  const Outcome all_at_last = dump(drive("", tracks, defect("after", 200, 720, "n = 4")), "r/x.cue");
  EXPECT_TRUE(contains(codes(all_at_last), "gap_uncertain") ||
              result(all_at_last)["tracks"][1]["pregap_sectors"] == 137)
      << codes(all_at_last);
}

TEST_F(DumpTruth, WhatTheTableOfContentsSaysIsNotWhatTheSectorsAre) {
  const Outcome run = dump(drive("", "{number = 1, mode = \"AUDIO\", control = 4, sectors = 700}"), "o/x.cue");
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_EQ(result(run)["tracks"][0]["mode"], "AUDIO");
  EXPECT_TRUE(contains(codes(run), "audio_called_data"));
  // Three sectors that cannot be read do not make Mode 1 of a track, and what stands for them has the track's mode.
  const Outcome mode2 =
      dump(drive("", "{number = 1, mode = \"MODE2\", sectors = 800}",
                 defect("unreadable", 0, 2) + defect("unreadable", 400, 400) + defect("unreadable", 796, 796)),
           "m/x.cue");
  EXPECT_EQ(result(mode2)["tracks"][0]["mode"], "MODE2/2352");
  EXPECT_EQ(bin("m")[15], 2);
  EXPECT_FALSE(contains(codes(mode2), "mode_unknown"));
}

TEST_F(DumpTruth, ADvdGroupThatGivesWayIsTakenWhole) {
  write_file(*this / "a.iso", as_text(Random(1).bytes(8 << 20)));
  const Outcome run = dump("log = \"log.txt\"\n[drive]\nkind = \"dvd\"\n[disc]\nprofile = 16\nimage = \"a.iso\"\n" +
                               defect("after", 1603, 1603, "n = 4"),
                           "o/x.iso");
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(sha256_file(*this / "o/x.iso"), sha256_file(*this / "a.iso"));
  // The stand-in counts its commands: once the group is read, none of its blocks is asked for again.
  EXPECT_TRUE(contains(read_file(*this / "log.txt"), " 28 1600 "));
  EXPECT_LT(result(run)["drive_statistics"]["drive_seconds"], 60);
}

TEST_F(DumpTruth, ASummaryNamesWhatIsHitAndWhatToDo) {
  write_file(*this / "tree/ALPHA.BIN", std::string(400'000, 'a'));
  write_file(*this / "tree/BETA.BIN", std::string(400'000, 'b'));
  ASSERT_EQ(cli({"build", "tree", "--as", "iso", "--out", "d.iso"}).exit_code, 0);
  const auto lba = cli({"files", "d.iso", "BETA.BIN", "--json"}).json()["results"][0]["entries"][0]["lba"].get<int>();
  write_file(*this / "drive.toml", "[drive]\nkind = \"dvd\"\n[disc]\nprofile = 16\nimage = \"d.iso\"\n" +
                                       defect("unreadable", lba + 40, lba + 40));
  const Outcome run = cli({"dump", "sim:drive.toml", "--out", "o/x.iso"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "Hits        BETA.BIN")) << run.out;
  EXPECT_TRUE(contains(run.out, "Try next")) << run.out;
  EXPECT_TRUE(contains(run.out, "by the error correction of the drive")) << run.out;
  // Between the files nothing is hit, and that is said; where the directories are lost, nobody can tell.
  const auto drive_of = [&](int first, int last) {
    write_file(*this / "drive.toml", "[drive]\nkind = \"dvd\"\n[disc]\nprofile = 16\nimage = \"padded.iso\"\n" +
                                         defect("unreadable", first, last));
    return cli({"dump", "sim:drive.toml", "--out", "p/x.iso", "--overwrite", "--restart"});
  };
  const std::string image = read_file(*this / "d.iso");
  write_file(*this / "padded.iso", image + std::string(64 * 2048, '\0'));
  const int end = static_cast<int>(image.size() / 2048);
  const Outcome between = drive_of(end + 32, end + 33);
  EXPECT_TRUE(contains(between.out, "Hits        no file")) << between.out;
  const Outcome blind = drive_of(17, 30);
  EXPECT_FALSE(contains(blind.out, "no file")) << blind.out;
}

TEST_F(DumpTruth, AnOldMapDoesNotStayBesideAWholeDump) {
  ASSERT_EQ(dump(drive("", kDataAndMusic, defect("unreadable", 50, 60)), "o/x.cue").exit_code, 1);
  ASSERT_TRUE(fs::exists(*this / "o/x.opifex-map"));
  EXPECT_EQ(dump(drive("", kDataAndMusic), "o/x.cue", {"--overwrite"}).exit_code, 0);
  EXPECT_FALSE(fs::exists(*this / "o/x.opifex-map"));
}

TEST_F(DumpTruth, AJoinTakesWhatEachDumpVouchesFor) {
  const std::string sound = truth(kDataAndMusic);
  // A whole dump leaves no map: its music is believed.
  ASSERT_EQ(dump(drive("", kDataAndMusic), "a/x.cue").exit_code, 0);
  ASSERT_EQ(dump(drive("", kDataAndMusic, defect("unreadable", 900, 920)), "b/x.cue").exit_code, 1);
  const Outcome joined = cli({"rescue", "b/x.cue", "a/x.cue", "--out", "j/x.cue", "--json"});
  EXPECT_EQ(joined.exit_code, 0) << joined.out;
  EXPECT_EQ(bin("j"), sound);
  // A dump that was cut off helps as far as it goes.
  write_file(*this / "whole.iso", as_text(Random(5).bytes(2 << 20)));
  std::string holed = read_file(*this / "whole.iso");
  holed.replace(100 * 2048, 4 * 2048, std::string(4 * 2048, 'U'));
  write_file(*this / "holed.iso", holed);
  write_file(*this / "cut.iso", read_file(*this / "whole.iso").substr(0, 300 * 2048));
  EXPECT_EQ(cli({"rescue", "holed.iso", "cut.iso", "--out", "k.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "k.iso"), sha256_file(*this / "whole.iso"));
}

}  // namespace
}  // namespace opifex::testkit
