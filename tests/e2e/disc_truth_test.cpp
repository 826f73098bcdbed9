// What a disc says of itself, against what is on it: directories that lie, marks that contradict each other.
#include "opifex/core/cd/parity.hpp"
#include "opifex/core/cd/sector.hpp"
#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

#if defined(__SANITIZE_ADDRESS__)
constexpr int kTurns = 20;  // each run takes ten times as long
#else
constexpr int kTurns = 60;
#endif

class DiscTruth : public Program {
 protected:
  nlohmann::json first(const std::vector<std::string>& words) { return cli(words).json()["results"][0]; }
  std::uint64_t lba_of(const std::string& image, const std::string& path) {
    return first({"files", image, path, "--json"})["entries"][0]["lba"];
  }
  void put_be32(std::string& bytes, std::size_t at, std::uint64_t value) {
    for (std::size_t i = 0; i < 4; ++i) bytes[at + i] = static_cast<char>(value >> (24 - 8 * i) & 255);
  }
};

/// Where the files of an image lie, as its directories have it.
std::string places_of(const nlohmann::json& files) {
  std::vector<std::string> places;
  for (const auto& e : files["results"][0]["entries"])
    if (e["kind"] == "file") places.push_back(e["size_bytes"].dump() + e["extents"].dump());
  std::sort(places.begin(), places.end());
  std::string all;
  for (const std::string& p : places) all += p + "\n";
  return all;
}

TEST_F(DiscTruth, ADirectoryThatListsOtherFilesIsNeverIntact) {
  // The model is the image before the damage: whatever bit turns, a list that changed must not be called intact.
  Random random(7);
  for (const char* vector : {"iso/plain.iso", "iso/joliet.iso", "iso/rockridge.iso", "iso/udf-1.02.iso.gz",
                             "iso/udf-2.50.iso.gz", "iso/multi-extent.iso", "iso/interleave.iso"}) {
    const bool packed = std::string(vector).ends_with(".gz");
    const std::string whole = packed ? gunzip(vector_path(vector)) : read_file(vector_path(vector));
    write_file(*this / "d.iso", whole);
    const auto list = cli({"files", "d.iso", "--json"}).json();
    const std::string before = places_of(list);
    ASSERT_FALSE(before.empty()) << vector;
    ASSERT_EQ(cli({"check", "d.iso", "--hashes", "none"}).exit_code, 0) << vector;
    std::vector<std::size_t> used;  // bytes of the tables: in front of the first file
    std::size_t first = whole.size();
    for (const auto& e : list["results"][0]["entries"])
      if (e["kind"] == "file" && e["size_bytes"] > 0) first = std::min(first, e["lba"].get<std::size_t>() * 2048);
    for (std::size_t i = 16 * 2048; i < std::min(first, whole.size()); ++i)
      if (whole[i] != 0) used.push_back(i);
    for (int turn = 0; turn < kTurns; ++turn) {
      std::string damaged = whole;
      const std::size_t at = used[random.below(used.size())];
      damaged[at] = static_cast<char>(damaged[at] ^ (1 << random.below(8)));
      write_file(*this / "d.iso", damaged);
      const Outcome listed = cli({"files", "d.iso", "--json"});
      const bool same = listed.exit_code == 0 && places_of(listed.json()) == before;
      if (same) continue;
      EXPECT_NE(cli({"check", "d.iso", "--hashes", "none"}).exit_code, 0)
          << vector << ", sector " << at / 2048 << ", byte " << at % 2048;
    }
  }
}

TEST_F(DiscTruth, APackageThatListsOtherFilesIsNeverIntact) {
  // Its tables are in the hash tree: every bit of them counts.
  Random random(11);
  const std::string whole = read_file(vector_path("xbox/stfs/ARCADE"));
  write_file(*this / "P", whole);
  const std::string before = places_of(cli({"files", "P", "--json"}).json());
  ASSERT_FALSE(before.empty());
  ASSERT_EQ(cli({"check", "P", "--hashes", "none"}).exit_code, 0);
  for (int turn = 0; turn < 2 * kTurns; ++turn) {
    std::string damaged = whole;
    const std::size_t at = random.below(whole.size());
    damaged[at] = static_cast<char>(damaged[at] ^ (1 << random.below(8)));
    write_file(*this / "P", damaged);
    const Outcome listed = cli({"files", "P", "--json"});
    if (listed.exit_code == 0 && places_of(listed.json()) == before) continue;
    EXPECT_NE(cli({"check", "P", "--hashes", "none"}).exit_code, 0) << "byte " << at;
  }
}

TEST_F(DiscTruth, AnOperaDirectoryThatListsOtherFilesIsNeverIntact) {
  // Where a file begins and how much of its last block it uses is said once: what is said twice is compared.
  const std::string whole = read_file(vector_path("iso/3do.iso"));
  const auto told_twice = [](const nlohmann::json& files) {
    std::string all;
    for (const auto& e : files["results"][0]["entries"])
      all += e["kind"].get<std::string>() + std::to_string((e["size_bytes"].get<std::uint64_t>() + 2047) / 2048) + "\n";
    return all;
  };
  write_file(*this / "d.iso", whole);
  const std::string before = told_twice(cli({"files", "d.iso", "--json"}).json());
  ASSERT_EQ(cli({"check", "d.iso", "--hashes", "none"}).exit_code, 0);
  // Of both entries: not the places, which are the last four of 72 bytes.
  for (std::size_t entry : {20u, 92u})
    for (std::size_t byte = 0; byte < 68; ++byte)
      for (const int bit : {0, 3, 7}) {
        if (kSanitized && bit != 3) continue;
        std::string damaged = whole;
        char& target = damaged[2048 + entry + byte];
        target = static_cast<char>(target ^ (1 << bit));
        write_file(*this / "d.iso", damaged);
        const Outcome listed = cli({"files", "d.iso", "--json"});
        if (listed.exit_code == 0 && told_twice(listed.json()) == before) continue;
        EXPECT_NE(cli({"check", "d.iso", "--hashes", "none"}).exit_code, 0) << entry << " + " << byte;
      }
}

TEST_F(DiscTruth, ReservedBytesThatAreUsedAreToldThoughTheirParityIsRight) {
  std::string bin(20 * 2352, '\0');
  Bytes user(2048, std::byte{7});
  for (int lba = 0; lba < 20; ++lba) {
    const cd::SectorSpan sector(std::span(reinterpret_cast<std::byte*>(bin.data()) + lba * 2352, 2352));
    cd::make_mode1(sector, lba, std::span<const std::byte, cd::kUserBytes>(user));
    if (lba != 9) continue;
    sector[2070] = std::byte{1};
    cd::regenerate_parity(sector, cd::SectorKind::mode1);
  }
  write_file(*this / "d.bin", bin);
  write_file(*this / "d.cue", "FILE \"d.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n");
  const Outcome run = cli({"check", "d.cue", "--json"});
  EXPECT_TRUE(contains(run.out, "reserved")) << run.out;
  EXPECT_EQ(run.exit_code, 0) << "odd, and nothing is lost";
}

TEST_F(DiscTruth, AnEncryptedDiscIsKnownByOtherFilesThanItsParameters) {
  const auto key = vector_json("iso/ps3.json")["key"].get<std::string>();
  write_file(*this / "d.key", key);
  ASSERT_EQ(cli({"convert", vector_path("iso/ps3-encrypted.iso").string(), "--key-file", "d.key", "--to", "iso",
                 "--out", "d.iso"})
                .exit_code,
            0);
  EXPECT_EQ(first({"identify", "d.iso", "--json"})["state"], "decrypted");
  const std::size_t eboot = lba_of("d.iso", "PS3_GAME/USRDIR/EBOOT.BIN");
  std::string bytes = read_file(*this / "d.iso");
  // Everything is plain but the sector of the program.
  put_be32(bytes, 0, 2);
  put_be32(bytes, 8, 0);
  put_be32(bytes, 12, eboot - 1);
  put_be32(bytes, 16, eboot + 1);
  put_be32(bytes, 20, bytes.size() / 2048 - 1);
  write_file(*this / "d.iso", bytes);
  EXPECT_EQ(first({"identify", "d.iso", "--json"})["state"], "decrypted");
  bytes.replace(eboot * 2048, 4, "\x9A\x13\x77\xE0");
  write_file(*this / "d.iso", bytes);
  EXPECT_EQ(first({"identify", "d.iso", "--json"})["state"], "encrypted");
  // Not even that: nothing tells.
  put_be32(bytes, 12, eboot + 1);
  put_be32(bytes, 16, eboot + 3);
  write_file(*this / "d.iso", bytes);
  EXPECT_EQ(first({"identify", "d.iso", "--json"})["state"], "unknown");
}

TEST_F(DiscTruth, RegionsThatDisagreeAreBothTold) {
  std::string bytes = read_file(vector_path("iso/ps1.iso"));
  ASSERT_EQ(first({"identify", vector_path("iso/ps1.iso").string(), "--json"})["region"], "North America");
  const std::string licence = "          Licensed by the people of Europe" + std::string(40, ' ');
  bytes.replace(4 * 2048, licence.size(), licence);
  write_file(*this / "d.iso", bytes);
  const auto result = first({"identify", "d.iso", "--json"});
  ASSERT_EQ(result["warnings"].size(), 1u) << result.dump(1);
  EXPECT_EQ(result["warnings"][0]["code"], "regions_disagree");
  EXPECT_TRUE(contains(cli({"identify", "d.iso"}).out, "the licence text says Europe"));
}

TEST_F(DiscTruth, APackageCutBehindItsLastByteLosesNothing) {
  const std::string whole = read_file(vector_path("xbox/stfs/ARCADE"));
  write_file(*this / "P", whole);
  const auto files = first({"files", "P", "--json"})["entries"];
  ASSERT_EQ(cli({"extract", "P", "--into", "all"}).exit_code, 0);
  std::uint64_t unused = 4096;  // of the last block
  for (std::size_t end = whole.size(); end > 0 && whole[end - 1] == 0; --end)
    unused = std::min<std::uint64_t>(4096, whole.size() - end + 1);
  write_file(*this / "P", whole.substr(0, whole.size() - unused));
  const Outcome run = cli({"extract", "P", "--into", "cut"});
  for (const auto& [name, size] : listing(*this / "all"))
    EXPECT_EQ(read_file(*this / ("all/" + name)), read_file(*this / ("cut/" + name))) << name << size;
  EXPECT_EQ(run.exit_code, 1) << "its hash cannot be right any more";
}

TEST_F(DiscTruth, OfDiscsThatContradictTheirNumberOnlyTheNumberIsTold) {
  EXPECT_EQ(disc_text(3, 2), "3");
  EXPECT_EQ(disc_text(2, 3), "2 of 3");
  EXPECT_EQ(disc_text(1, 1), "");
  EXPECT_EQ(disc_text(0, 2), "");
}

TEST_F(DiscTruth, ACutWiiDiscIsNotPaddedWithoutItsKey) {
  demo::WiiRecipe recipe;
  recipe.partitions.push_back({.type = 0,
                               .offset = 0x50000,
                               .clusters = 20,
                               .title = recipe.title,
                               .files = {{"coast.bin", 0x8000, 90'000}, {"maps/far.bin", 15 * 0x7C00, 5'000}}});
  demo::write_wii_disc(recipe, *this / "cut.iso");
  fs::resize_file(*this / "cut.iso", 0x50000 + 0x20000 + 12 * 0x8000 + 5'000);
  write_file(*this / "keys.toml", demo::demo_key_file());
  const Outcome blind = cli({"convert", "cut.iso", "--to", "wbfs", "--out", "a.wbfs", "--json"});
  EXPECT_EQ(blind.exit_code, 3);
  EXPECT_EQ(blind.json()["errors"][0]["code"], "short_unknown");
  EXPECT_FALSE(fs::exists(*this / "a.wbfs"));
  // With it the loss is told, and seen again in what was written.
  EXPECT_EQ(cli({"convert", "cut.iso", "--to", "wbfs", "--out", "b.wbfs", "--key-file", "keys.toml"}).exit_code, 1);
  EXPECT_EQ(cli({"check", "b.wbfs", "--hashes", "none", "--key-file", "keys.toml"}).exit_code, 1);
}

TEST_F(DiscTruth, AWrongChecksumOfAChdDoesNotBecomeARightOne) {
  struct Place {
    const char* vector;
    std::size_t sum;  // of the data, in the header (formats/chd/README.md)
  };
  constexpr std::size_t kV3Md5 = 44, kV3 = 80, kV4 = 88, kV5 = 64, kSumBytes = 20;
  write_file(*this / "parent.chd", read_file(vector_path("chd/parent.chd")));
  for (const Place& place :
       {Place{"cd-mixed.chd", kV5}, Place{"cd-subcode.chd", kV5}, Place{"gd-pad.chd", kV5}, Place{"gd-old-le.chd", kV5},
        Place{"dvd.chd", kV5}, Place{"hd.chd", kV5}, Place{"child.chd", kV5}, Place{"v4.chd", kV4},
        Place{"cd-v4-chtr.chd", kV4}, Place{"cd-v4-chcd-be.chd", kV4}, Place{"v3.chd", kV3},
        Place{"cd-v3-chcd.chd", kV3}, Place{"v3.chd", kV3Md5}}) {
    std::string bytes = read_file(vector_path(std::string("chd/") + place.vector));
    bytes[place.sum + 3] = static_cast<char>(bytes[place.sum + 3] ^ 16);
    if (place.sum == kV3Md5) std::fill_n(bytes.begin() + kV3, kSumBytes, '\0');
    write_file(*this / "in.chd", bytes);
    fs::remove(*this / "out.chd");
    ASSERT_EQ(cli({"check", "in.chd"}).exit_code, 1) << place.vector;
    const Outcome copied = cli({"convert", "in.chd", "--to", "chd", "--out", "out.chd", "--json"});
    if (copied.exit_code == 3) {
      EXPECT_EQ(copied.json()["errors"][0]["code"], "damaged_source") << place.vector;
      EXPECT_FALSE(fs::exists(*this / "out.chd")) << place.vector;
      continue;
    }
    EXPECT_EQ(copied.exit_code, 1) << place.vector;
    EXPECT_EQ(cli({"check", "out.chd"}).exit_code, 1) << place.vector;
  }
}

TEST_F(DiscTruth, AJobThatReadsAPartOfAChdStillTellsItsWrongChecksum) {
  demo::write_disc(demo::workshop_recipes()[0], *this / "d", demo::Files::one_bin);
  const std::string cue = "d/" + demo::workshop_recipes()[0].stem + ".cue";
  ASSERT_EQ(cli({"convert", cue, "--to", "chd", "--out", "good.chd"}).exit_code, 0);
  // The checksum of the data is wrong; that of the file fits it.
  std::string bytes = read_file(*this / "good.chd");
  const auto chd = chd::Chd::open(open_file(*this / "good.chd"), {});
  chd::Sha1 raw = *chd->header().raw_sha1;
  raw[5] ^= std::byte{1};
  const chd::Sha1 overall = chd->overall_sha1(raw);
  std::copy_n(reinterpret_cast<const char*>(raw.data()), raw.size(), bytes.begin() + 64);
  std::copy_n(reinterpret_cast<const char*>(overall.data()), overall.size(), bytes.begin() + 84);
  write_file(*this / "wrong.chd", bytes);
  for (const auto& [file, code] : {std::pair("good.chd", 0), std::pair("wrong.chd", 1)}) {
    const std::string into = std::string(file) + ".files";
    EXPECT_EQ(
        cli({"convert", file, "--to", "iso", "--out", std::string(file) + ".iso", "--accept", "audio,tracks,form2"})
            .exit_code,
        code);
    EXPECT_EQ(cli({"extract", file, "--into", into}).exit_code, code);
    EXPECT_EQ(cli({"extract", file, "SYSTEM.CNF", "--into", into + "2"}).exit_code, code);
  }
}

TEST_F(DiscTruth, UdfBesideIso9660IsToldToo) {
  std::string bytes = read_file(vector_path("iso/ps2.iso"));
  const auto also = [&] {
    write_file(*this / "d.iso", bytes);
    return first({"identify", "d.iso", "--json"})["also"].dump();
  };
  EXPECT_FALSE(contains(also(), "udf"));
  bytes.replace(17 * 2048 + 1, 5, "NSR02");
  EXPECT_TRUE(contains(also(), "udf"));
}

}  // namespace
}  // namespace opifex::testkit
