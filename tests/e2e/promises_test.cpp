// What must never happen: an input that is written, a half set, damage that is washed away, text that steers.
#include <functional>

#include <sys/stat.h>

#include "program.hpp"

namespace opifex::testkit {
namespace {

class Promises : public Program {
 protected:
  fs::path take(const std::string& vector, const std::string& name) {
    fs::copy_file(vector_path(vector), *this / name);
    fs::permissions(*this / name, fs::perms::owner_write, fs::perm_options::add);
    return *this / name;
  }
  Outcome shell(const std::string& line) { return run_program("/bin/sh", {"-c", line, OPIFEX_PROGRAM}, folder.path()); }
  Outcome with_fault(const std::string& fault, const std::string& words) {
    return shell("ASAN_OPTIONS=verify_asan_link_order=0 LD_PRELOAD='" OPIFEX_FAULTS "' OPIFEX_FAULT_BELOW='" +
                 folder.path().string() + "' OPIFEX_FAULT=" + fault + " \"$0\" " + words);
  }
  void make_workshop_in(const std::string& name) { demo::build_workshop(*this / name, Existing::keep); }
  std::string first_serial(const std::string& image) {
    return cli({"identify", image, "--json"}).json()["results"][0]["serial"];
  }
  /// The one file of a container that is no data file.
  fs::path header_below(const fs::path& place) {
    for (const auto& entry : fs::recursive_directory_iterator(place))
      if (entry.is_regular_file() && !entry.path().filename().string().starts_with("Data")) return entry.path();
    return {};
  }
};

TEST_F(Promises, NothingThatIsReadIsEverWritten) {
  make_workshop();
  take("iso/plain.iso", "plain.iso");
  ASSERT_EQ(cli({"convert", "plain.iso", "--to", "chd", "--out", "p.chd"}).exit_code, 0);
  const std::string parent = read_file(*this / "p.chd");
  fs::create_hard_link(*this / "p.chd", *this / "alias.chd");
  fs::create_symlink("p.chd", *this / "link.chd");
  for (const char* out : {"p.chd", "alias.chd", "link.chd"}) {
    const Outcome run = cli({"convert", "plain.iso", "--to", "chd", "--parent", "p.chd", "--out", out, "--overwrite"});
    EXPECT_EQ(run.exit_code, 4) << out << run.err;
    EXPECT_TRUE(contains(run.err, "overwrite its own input")) << run.err;
  }
  EXPECT_EQ(read_file(*this / "p.chd"), parent);
  write_file(*this / "keys.toml", "[common-keys]\nwii = \"4c616e7465726e5374726565744b6579\"\n");
  EXPECT_EQ(cli({"convert", "plain.iso", "--to", "iso", "--key-file", "keys.toml", "--out", "keys.toml", "--overwrite"})
                .exit_code,
            4);
  const std::string sheet = read_file(*this / moth);
  EXPECT_EQ(cli({"check", moth, "--hashes", "none", "--log", moth}).exit_code, 4);
  EXPECT_EQ(read_file(*this / moth), sheet);
  const std::string bin = read_file(*this / "Moth & Lantern (Track 1).bin");
  EXPECT_EQ(cli({"check", moth, "--hashes", "none", "--log", "Moth & Lantern (Track 1).bin"}).exit_code, 4);
  EXPECT_EQ(read_file(*this / "Moth & Lantern (Track 1).bin"), bin);
}

TEST_F(Promises, ExtractingNeverReplacesItsOwnImage) {
  write_file(*this / "t/self.iso", "a file of the image's own name");
  ASSERT_EQ(cli({"build", "t", "--as", "iso", "--out", "self.iso"}).exit_code, 0);
  const std::string image = read_file(*this / "self.iso");
  EXPECT_EQ(cli({"extract", "self.iso", "--into", ".", "--overwrite"}).exit_code, 4);
  EXPECT_EQ(read_file(*this / "self.iso"), image);
}

TEST_F(Promises, WhatIsNoPlainFileIsNeverReplaced) {
  take("iso/plain.iso", "plain.iso");
  ASSERT_EQ(::mkfifo((*this / "pipe").c_str(), 0600), 0);
  EXPECT_EQ(cli({"convert", "plain.iso", "--to", "iso", "--out", "pipe", "--overwrite"}).exit_code, 4);
  EXPECT_TRUE(fs::is_fifo(*this / "pipe"));
  fs::create_directory(*this / "out.iso.opifex-part");
  const Outcome busy = cli({"convert", "plain.iso", "--to", "iso", "--out", "out.iso"});
  EXPECT_EQ(busy.exit_code, 4);
  EXPECT_TRUE(contains(busy.err, "no plain file")) << busy.err;
}

TEST_F(Promises, AResultThatReachesNobodyIsNoSuccess) {
  take("iso/plain.iso", "plain.iso");
  EXPECT_EQ(shell("\"$0\" check plain.iso --json > /dev/full").exit_code, 5);
  EXPECT_EQ(shell("\"$0\" check plain.iso >&-").exit_code, 5);
  EXPECT_EQ(shell("\"$0\" formats | true; exit 0").exit_code, 0);
  ASSERT_EQ(shell("\"$0\" convert plain.iso --to chd --out a.chd --progress 2>&- <&-").exit_code, 0);
  EXPECT_EQ(cli({"check", "a.chd"}).exit_code, 0) << "no progress line in the output";
  EXPECT_EQ(shell("ulimit -f 8; \"$0\" convert plain.iso --to vcd --out v.vcd").exit_code, 5);
  EXPECT_FALSE(fs::exists(*this / "v.vcd"));
}

TEST_F(Promises, ASetIsPutInPlaceWholeWhereverItIsInterrupted) {
  make_workshop();
  ASSERT_EQ(cli({"convert", moth, "--to", "cue-tracks", "--out", "wanted/"}).exit_code, 0);
  for (const std::string kind : {"rename", "sync", "unlink"})
    for (int n = 1; n <= 9; ++n) {
      SCOPED_TRACE(kind + " " + std::to_string(n));
      for (const char* action : {"eio", "kill"}) {
        fs::remove_all(*this / "out");
        for (const auto& [name, size] : listing(*this / "wanted")) write_file(*this / "out" / name, "older");
        const auto older = listing(*this / "out");
        with_fault(kind + ":" + std::to_string(n) + ":" + action,
                   "convert 'Moth & Lantern.cue' --to cue-tracks --out out/ --overwrite");
        if (std::string(action) == "eio" && kind != "unlink") {
          // A journal that waits for the next run is no part of the set.
          auto left = listing(*this / "out");
          std::erase_if(left, [](const auto& file) { return contains(file.first, ".opifex-"); });
          EXPECT_TRUE(left == older || left == listing(*this / "wanted")) << "a mix of old and new";
        }
        const Outcome again = cli({"convert", moth, "--to", "cue-tracks", "--out", "out/", "--overwrite"});
        ASSERT_EQ(again.exit_code, 0) << again.err;
        ASSERT_EQ(listing(*this / "out"), listing(*this / "wanted"));
      }
    }
}

TEST_F(Promises, ARenamingThatWasKilledIsFinished) {
  for (int n = 1; n <= 6; ++n) {
    SCOPED_TRACE(n);
    fs::remove_all(*this / "set");
    make_workshop_in("set");
    with_fault("rename:" + std::to_string(n) + ":kill", "rename 'set/Moth & Lantern.cue' Brass");
    const Outcome again = cli({"rename", "set/Moth & Lantern.cue", "Brass"});
    if (again.exit_code != 0) {
      EXPECT_TRUE(contains(again.err, "no file of this name")) << again.err;
    }
    const Outcome check = cli({"check", "set/Brass.cue", "--hashes", "none"});
    EXPECT_EQ(check.exit_code, 0) << check.err << check.out;
    EXPECT_FALSE(fs::exists(*this / "set/Moth & Lantern.cue"));
  }
}

TEST_F(Promises, PackedStreamsAreHeldAgainstTheirChecksums) {
  make_workshop();
  for (const char* packer : {"gzip", "lz4 -q", "xz", "zstd -q", "bzip2"}) {
    SCOPED_TRACE(packer);
    const std::string name = std::string("k.") + std::string(packer).substr(0, 2);
    ASSERT_EQ(shell(std::string("cat 'Kestrel Circuit (Disc 2).bin' | ") + packer + " -c > " + name).exit_code, 0);
    ASSERT_EQ(cli({"check", name, "--hashes", "none"}).exit_code, 0);
    Random random(7);
    const std::uint64_t size = fs::file_size(*this / name);
    for (int i = 0; i < 6; ++i) {
      const std::uint64_t at = size / 4 + random.below(size / 2);
      const auto mask = static_cast<unsigned char>(1u << random.below(8));
      flip_byte(*this / name, at, mask);
      EXPECT_NE(cli({"check", name, "--hashes", "none"}).exit_code, 0) << "byte " << at;
      EXPECT_NE(cli({"convert", name, "--to", "cue", "--out", "o/"}).exit_code, 0) << "byte " << at;
      flip_byte(*this / name, at, mask);
    }
    EXPECT_FALSE(fs::exists(*this / "o"));
  }
}

TEST_F(Promises, NoMemberOfAnArchiveVanishes) {
  for (const char* n : {"1", "2", "3", "4"})
    write_file(*this / ("f" + std::string(n) + ".bin"), std::string(3000, 'x'));
  ASSERT_EQ(shell("tar cf a.tar f1.bin f2.bin f3.bin f4.bin && tar czf a.tar.gz f1.bin f2.bin").exit_code, 0);
  ASSERT_EQ(cli({"extract", "a.tar", "--into", "whole"}).exit_code, 0);
  ASSERT_EQ(cli({"extract", "a.tar.gz", "--into", "packed"}).exit_code, 0);
  const std::string tar = read_file(*this / "a.tar");
  flip_byte(*this / "a.tar", tar.find("f2.bin"), 1);
  EXPECT_EQ(cli({"extract", "a.tar", "--into", "x"}).exit_code, 3);
  write_file(*this / "b.tar", tar.substr(0, 2 * (512 + 3072)));
  EXPECT_EQ(cli({"extract", "b.tar", "--into", "y"}).exit_code, 3) << "cut between two members";
  for (const char* rar : {"one-rar5.rar", "one-rar4.rar"}) {
    const std::string whole = read_file(vector_path("archives/" + std::string(rar)));
    for (std::size_t cut = 40; cut < whole.size(); cut += 173) {
      write_file(*this / "c.rar", whole.substr(0, cut));
      EXPECT_NE(cli({"extract", "c.rar", "--into", "z"}).exit_code, 0) << rar << " cut at " << cut;
    }
  }
  const std::string zip = read_file(vector_path("archives/stored.zip"));
  for (std::size_t cut = 100; cut < zip.size(); cut += 997) {
    write_file(*this / "c.zip", zip.substr(0, cut));
    EXPECT_NE(cli({"extract", "c.zip", "--into", "q"}).exit_code, 0) << "zip cut at " << cut;
  }
}

TEST_F(Promises, DamageIsNotWashedAway) {
  copy_folder(vector_path("xbox/god-plain"), *this / "g");
  const fs::path header = header_below(*this / "g");
  flip_byte(header.string() + ".data/Data0000", 0x13d44, 4);
  for (const char* target : {"iso", "xiso", "chd"}) {
    SCOPED_TRACE(target);
    const Outcome run = cli({"convert", header, "--to", target, "--out", std::string("o-") + target + "/"});
    EXPECT_EQ(run.exit_code, 1) << run.err;
    EXPECT_TRUE(contains(run.out, "the input is damaged")) << run.out;
    EXPECT_EQ(cli({"convert", header, "--to", target, "--out", std::string("s-") + target + "/", "--strict"}).exit_code,
              3);
    EXPECT_FALSE(fs::exists(*this / (std::string("s-") + target)));
  }
  EXPECT_EQ(cli({"extract", header, "--into", "x"}).exit_code, 1);
  take("xbox/stfs/ARCADE", "ARCADE");
  ASSERT_EQ(cli({"extract", "ARCADE", "--into", "sound"}).exit_code, 0);
  flip_byte(*this / "ARCADE", 0x11d1a, 4);
  EXPECT_EQ(cli({"extract", "ARCADE", "--into", "y"}).exit_code, 1);
  EXPECT_EQ(cli({"rescue", "ARCADE", "ARCADE", "--out", "r/"}).exit_code, 3);
}

TEST_F(Promises, AChdWithAWrongSha1IsNotCopiedAsSound) {
  take("chd/bad-sha1-raw.chd", "b.chd");
  const Outcome run = cli({"convert", "b.chd", "--to", "chd", "--out", "n.chd"});
  EXPECT_EQ(run.exit_code, 1) << run.out << run.err;
  take("chd/cd-mixed.chd", "good.chd");
  EXPECT_FALSE(contains(cli({"convert", "good.chd", "--to", "cue", "--out", "o/"}).out, "SHA-1"));
}

TEST_F(Promises, WhatIsMissingAtTheEndStaysVisible) {
  const std::string whole = read_file(vector_path("xbox/modern.iso"));
  write_file(*this / "modern.iso", whole.substr(0, 118480));
  EXPECT_EQ(cli({"convert", "modern.iso", "--to", "xiso", "--out", "o/"}).exit_code, 1);
  EXPECT_EQ(cli({"check", "o/modern.iso", "--hashes", "none"}).exit_code, 1);
  write_file(*this / "t.iso", read_file(vector_path("iso/plain.iso")).substr(0, 43008));
  ASSERT_EQ(cli({"convert", "t.iso", "--to", "chd", "--out", "t.chd"}).exit_code, 1);
  EXPECT_EQ(cli({"check", "t.chd", "--hashes", "none"}).exit_code, 1);
}

TEST_F(Promises, PartsThatAreCutOrMissingAreTold) {
  for (const char* n : {"1", "2", "3"}) write_file(*this / "t" / n, std::string(3'000'000, *n));
  ASSERT_EQ(cli({"build", "t", "--as", "iso", "--out", "d.iso"}).exit_code, 0);
  ASSERT_EQ(cli({"split", "d.iso", "--limit", "3M", "--out", "p/", "--prove"}).exit_code, 0);
  ASSERT_EQ(cli({"merge", "p/d.part0.iso", "--out", "whole.iso", "--prove"}).exit_code, 0);
  EXPECT_EQ(read_file(*this / "whole.iso"), read_file(*this / "d.iso"));
  fs::resize_file(*this / "p/d.part1.iso", 1'000'000);
  EXPECT_EQ(cli({"merge", "p/d.part0.iso", "--out", "a.iso"}).exit_code, 1);
  EXPECT_EQ(cli({"merge", "p/d.part0.iso", "--out", "s.iso", "--strict"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "s.iso"));
  fs::remove_all(*this / "p");
  ASSERT_EQ(cli({"split", "d.iso", "--limit", "3M", "--out", "p/"}).exit_code, 0);
  fs::remove(*this / "p/d.part2.iso");
  EXPECT_EQ(cli({"merge", "p/d.part0.iso", "--out", "b.iso"}).exit_code, 1) << "the last part is missing";
}

TEST_F(Promises, ADiscThatAFormatCannotHoldIsRefusedInWords) {
  take("promises/gd.chd", "gd.chd");
  take("promises/cd-2.chd", "cd-2.chd");
  for (const char* target : {"cue", "cue-tracks", "vcd"}) {
    const Outcome run = cli({"convert", "gd.chd", "--to", target, "--out", "o/"});
    EXPECT_EQ(run.exit_code, 3) << target << run.out;
    EXPECT_TRUE(contains(run.err, "try:")) << run.err;
    EXPECT_FALSE(fs::exists(*this / "o")) << target;
  }
  EXPECT_EQ(cli({"convert", "cd-2.chd", "--to", "cue-tracks", "--out", "p/"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "p"));
}

TEST_F(Promises, ADeviceThatFailsIsNoAnswerOfAFormat) {
  take("chd/cd-mixed.chd", "m.chd");
  take("iso/joliet.iso", "j.iso");
  for (int n = 1; n <= 60; n += 2) {
    SCOPED_TRACE(n);
    fs::remove_all(*this / "o");
    const Outcome run = with_fault("read:" + std::to_string(n) + ":eio", "convert m.chd --to cue --out o/ --threads 1");
    // The disc of this sample has two bad sectors, and is not damaged otherwise.
    EXPECT_TRUE(run.exit_code == 1 || run.exit_code == 5) << run.exit_code << run.err;
    EXPECT_FALSE(contains(run.out, "sheet_ignored")) << run.out;
    fs::remove_all(*this / "x");
    const Outcome taken = with_fault("read:" + std::to_string(n) + ":eio", "extract j.iso --into x --threads 1");
    EXPECT_TRUE(taken.exit_code == 0 || taken.exit_code == 5) << taken.exit_code << taken.out << taken.err;
    if (taken.exit_code == 0) {
      EXPECT_FALSE(fs::exists(*this / "x/NO_EXTENSION"));
    }
  }
}

TEST_F(Promises, ADiscOfFullSizeIsRead) {
  const auto sparse = [&](const char* name, std::uint64_t sectors) {
    write_file(*this / name, std::string(16, '\0'));
    fs::resize_file(*this / name, sectors * 2352);
  };
  sparse("track01.bin", 600);
  sparse("track02.bin", 1200);
  sparse("track03.bin", 504150);
  write_file(*this / "full.gdi",
             "3\n1 0 4 2352 track01.bin 0\n2 600 0 2352 track02.bin 0\n3 45000 4 2352 track03.bin 0\n");
  const Outcome run = cli({"identify", "full.gdi", "--json"});
  ASSERT_TRUE(run.exit_code == 0) << run.err;
  EXPECT_EQ(run.json()["results"][0]["tracks"][2]["length_sectors"], 504150);
  EXPECT_EQ(cli({"convert", "full.gdi", "--to", "chd", "--plan", "--out", "full.chd"}).exit_code, 0);
  sparse("track03.bin", 504152);
  EXPECT_EQ(cli({"identify", "full.gdi"}).exit_code, 3) << "behind the end of any disc";
}

TEST_F(Promises, TextFromOutsideSteersNothing) {
  take("wii/gc-moth.iso", "t.iso");
  std::string image = read_file(*this / "t.iso");
  image.replace(0x20, 24, std::string("a\x1B[31mred\rX\x7F\xC2\x9B\xE2\x80\xAE`touch x`").substr(0, 24));
  write_file(*this / "t.iso", image);
  for (const char* words : {"identify t.iso", "identify t.iso --json", "check t.iso", "files t.iso", "identify ."}) {
    SCOPED_TRACE(words);
    const Outcome run = shell(std::string("\"$0\" ") + words);
    for (const std::string& text : {run.out, run.err}) {
      EXPECT_EQ(text.find('\x1B'), std::string::npos);
      EXPECT_EQ(text.find('\r'), std::string::npos);
      EXPECT_EQ(text.find('\x7F'), std::string::npos);
      EXPECT_EQ(text.find("\xC2\x9B"), std::string::npos);
      EXPECT_EQ(text.find("\xE2\x80\xAE"), std::string::npos);
    }
  }
}

TEST_F(Promises, ALabelRunsNoCommand) {
  write_file(*this / "t/a.txt", "a");
  ASSERT_EQ(cli({"build", "t", "--as", "iso", "--out", "x.iso"}).exit_code, 0);
  std::string image = read_file(*this / "x.iso");
  std::string label = "`touch hit`'; system(\"touch hit\"";
  label.resize(32, ' ');
  image.replace(0x8028, label.size(), label);
  write_file(*this / "x.iso", image);
  ASSERT_EQ(cli({"dump", "x.iso", "--out", "d/", "--report", "r'`touch hit`"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "r'`touch hit`/sector-map.png"));
  for (const auto& entry : fs::recursive_directory_iterator(folder.path())) EXPECT_NE(entry.path().filename(), "hit");
  EXPECT_EQ(cli({"dump", "x.iso", "--out", "e/", "--report", "r'`touch hit`"}).exit_code, 4) << "figures are kept";
}

TEST_F(Promises, NamesThatNoSheetCanHoldAreReplacedInBoth) {
  make_workshop();
  const Outcome run = cli({"convert", moth, "--to", "cue", "--out", "o/a\"b.cue"});
  ASSERT_EQ(run.exit_code, 0) << run.err;
  EXPECT_TRUE(contains(run.out, "another name")) << run.out;
  EXPECT_EQ(cli({"check", "o/a\"b.cue", "--hashes", "none"}).exit_code, 0);
}

TEST_F(Promises, RenamingTakesWholeSetsOnly) {
  make_workshop();
  ASSERT_EQ(cli({"convert", moth, "--to", "cue", "--out", "m/m.cue"}).exit_code, 0);
  fs::rename(*this / "m/m.bin", *this / "m/merged.bin");
  std::string sheet = read_file(*this / "m/m.cue");
  sheet.replace(sheet.find("m.bin"), 5, "merged.bin");
  write_file(*this / "m/m.cue", sheet);
  ASSERT_EQ(cli({"rename", "m/m.cue", "Brass"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "m/Brass.bin")) << "and not Brasserged.bin";
  for (const char* n : {"0", "1"}) write_file(*this / ("d.part" + std::string(n) + ".iso"), std::string(4096, 'x'));
  ASSERT_EQ(cli({"rename", "d.part0.iso", "new"}).exit_code, 0);
  EXPECT_TRUE(fs::exists(*this / "new.part0.iso") && fs::exists(*this / "new.part1.iso"));
  copy_folder(vector_path("xbox/god-plain"), *this / "g");
  EXPECT_EQ(cli({"rename", header_below(*this / "g"), "new"}).exit_code, 3);
}

TEST_F(Promises, NumbersBelowZeroAreRefused) {
  take("iso/plain.iso", "plain.iso");
  for (const char* words :
       {"rename plain.iso x --limit=-1", "check plain.iso --threads=-1", "split plain.iso --out o/ --limit=-1"})
    EXPECT_EQ(shell(std::string("\"$0\" ") + words).exit_code, 2) << words;
}

TEST_F(Promises, WhatNothingRecognisesIsUnknown) {
  Random random(3);
  write_file(*this / "any.dat", as_text(random.bytes(20 * 2048)));
  for (const char* command : {"identify", "check"}) {
    const Outcome run = cli({command, "any.dat"});
    EXPECT_NE(run.exit_code, 0) << command << run.out;
  }
  std::string xiso = read_file(vector_path("xbox/tiny.iso"));
  xiso[0x10002] = 'x';
  write_file(*this / "nearly.iso", xiso);
  const Outcome run = cli({"check", "nearly.iso", "--hashes", "none"});
  EXPECT_EQ(run.exit_code, 1);
  EXPECT_TRUE(contains(run.out, "nearly the game partition")) << run.out;
}

/// ISO 9660 of 1 MiB whose every sector is a folder that reaches to the end, full of entries.
std::string overlapping_folders() {
  constexpr std::uint32_t kSectors = 512;
  std::string image(kSectors * 2048, '\0');
  const auto both = [](std::string& r, std::size_t at, std::uint32_t n) {
    for (std::size_t i = 0; i < 4; ++i) r[at + i] = r[at + 7 - i] = static_cast<char>(n >> (8 * i) & 255);
  };
  const auto record = [&](const std::string& name, std::uint32_t sector, std::uint32_t bytes, char flags) {
    std::string r(33 + name.size() + (name.size() % 2 == 0 ? 1 : 0), '\0');
    r[0] = static_cast<char>(r.size());
    both(r, 2, sector);
    both(r, 10, bytes);
    r[18] = 100, r[19] = r[20] = r[28] = r[31] = 1;
    r[25] = flags;
    r[32] = static_cast<char>(name.size());
    return r.replace(33, name.size(), name);
  };
  std::string d(2048, '\0');
  d.replace(0, 7,
            "\x01"
            "CD001\x01");
  both(d, 80, kSectors);
  d[129] = d[130] = 8;  // blocks of 2048 bytes
  d.replace(156, 34, record(std::string(1, '\0'), 18, (kSectors - 18) * 2048, 2));
  image.replace(16 * 2048, d.size(), d);
  image.replace(17 * 2048, 7,
                "\xFF"
                "CD001\x01");
  for (std::uint32_t s = 18; s + 1 < kSectors; ++s) {
    std::string sector = record(std::string(1, '\0'), s, (kSectors - s) * 2048, 2) + record("\x01", 18, 2048, 2) +
                         record("D" + std::to_string(s), s + 1, (kSectors - s - 1) * 2048, 2);
    for (int i = 0; sector.size() < 1950; ++i) sector += record(fmt::format("F{}X{}", s, i), 20, 2048, 0);
    image.replace(s * 2048, sector.size(), sector);
  }
  return image;
}

TEST_F(Promises, TablesThatMultiplyWhatIsThereAreRefused) {
  write_file(*this / "hostile.iso", overlapping_folders());
  const Outcome files = cli({"files", "hostile.iso"});
  EXPECT_EQ(files.exit_code, 3);
  EXPECT_TRUE(contains(files.err, "list more than an image of this size can hold")) << files.err;
  EXPECT_EQ(cli({"check", "hostile.iso", "--hashes", "none"}).exit_code, 1);
  EXPECT_EQ(cli({"extract", "hostile.iso", "--into", "x"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "x"));
}

/// Runs every command on each image; the number of runs.
int run_everything(const std::function<Outcome(const std::vector<std::string>&)>& cli, const fs::path& folder,
                   const std::vector<std::string>& images) {
  int runs = 0;
  for (const std::string& image : images) {
    std::vector<std::vector<std::string>> jobs = {{"identify", image},
                                                  {"check", image, "--hashes", "none"},
                                                  {"check", image, "--repair", "--out", "r/"},
                                                  {"files", image},
                                                  {"extract", image, "--into", "x/"},
                                                  {"merge", image, "--out", "m/"},
                                                  {"split", image, "--out", "s/"},
                                                  {"split", image, "--limit", "1MiB", "--out", "l/"},
                                                  {"rename", image, "new", "--plan"},
                                                  {"rescue", image, image, "--out", "j/"},
                                                  {"check", image, "--same-as", image},
                                                  {"dump", image, "--out", "d/", "--plan"}};
    for (const char* to : {"cue", "cue-tracks", "iso", "chd", "vcd", "bin", "wbfs", "xiso", "god"})
      jobs.push_back({"convert", image, "--to", to, "--out", "c/", "--prove", "--accept",
                      "audio,tracks,form2,subchannel,raw-headers,sessions,partitions"});
    for (const auto& job : jobs) {
      const Outcome run = cli(job);
      ++runs;
      EXPECT_TRUE(run.exit_code >= 0 && run.exit_code <= 4)
          << job[0] << " " << image << ": " << run.exit_code << run.err;
      EXPECT_FALSE(contains(run.err, "internal fault")) << job[0] << " " << image << run.err;
      if (run.exit_code > 1) {
        EXPECT_TRUE(contains(run.err, "opifex: ")) << job[0] << " " << image;
      }
      for (const char* made : {"r", "x", "m", "s", "l", "j", "d", "c"}) fs::remove_all(folder / made);
    }
  }
  return runs;
}

TEST_F(Promises, EveryCommandEndsWellOnEveryKindOfCd) {
  make_workshop();
  for (const char* vector : {"chd/cd-mixed.chd", "iso/plain.iso", "iso/3do.iso"})
    take(vector, fs::path(vector).filename().string());
  copy_folder(vector_path("iso/dreamcast"), *this / "gd");
  ASSERT_EQ(cli({"convert", moth, "--to", "vcd", "--out", "m.vcd"}).exit_code, 0);
  const auto run = [this](const std::vector<std::string>& words) { return cli(words); };
  EXPECT_GT(run_everything(run, folder.path(),
                           {moth, kestrel2, "cd-mixed.chd", "plain.iso", "3do.iso", "m.vcd", "gd/disc.gdi"}),
            140);
}

TEST_F(Promises, EveryCommandEndsWellOnEveryOtherKindOfImage) {
  for (const char* vector : {"chd/dvd.chd", "chd/hd.chd", "iso/ps3-encrypted.iso", "xbox/tiny.iso", "xbox/stfs/ARCADE",
                             "wii/wii-tiny.iso", "wii/gc-moth.iso"})
    take(vector, fs::path(vector).filename().string());
  copy_folder(vector_path("xbox/god-plain"), *this / "g");
  const auto run = [this](const std::vector<std::string>& words) { return cli(words); };
  EXPECT_GT(run_everything(run, folder.path(),
                           {"dvd.chd", "hd.chd", "ps3-encrypted.iso", "tiny.iso", "ARCADE", "gc-moth.iso",
                            "wii-tiny.iso", header_below(*this / "g").string()}),
            160);
}

TEST_F(Promises, NamesThatAreTooLongAreShortenedAndTold) {
  const std::string name = std::string(240, 'x') + "\xC3\xA4\xC3\xA4\xC3\xA4\xC3\xA4\xC3\xA4\xC3\xA4\xC3\xA4.bin";
  ASSERT_EQ(shell("python3 -c \"import zipfile,sys; z=zipfile.ZipFile('long.zip','w'); z.writestr('" + name +
                  "','a'); z.writestr('b','b')\"")
                .exit_code,
            0);
  const Outcome run = cli({"extract", "long.zip", "--into", "x"});
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_EQ(listing(*this / "x").size(), 2u);
  EXPECT_TRUE(contains(run.out, "is written as")) << run.out;
}

TEST_F(Promises, KeysAreTakenAsPeopleHaveThem) {
  take("iso/ps3-encrypted.iso", "game.iso");
  const std::string text = vector_json("iso/ps3.json")["key"];
  std::string key;
  for (std::size_t i = 0; i < text.size(); i += 2) key += static_cast<char>(std::stoi(text.substr(i, 2), nullptr, 16));
  const std::string id = first_serial("game.iso");
  write_file(*this / "bare.key", key);
  write_file(*this / "hex.txt", text + "\r\n");
  write_file(*this / "keys" / (id + ".dkey"), text);
  write_file(*this / "keys/other.dkey", std::string(32, '0'));
  write_file(*this / "named/game.key", key);
  for (const char* place : {"bare.key", "hex.txt", "keys", "named"}) {
    const Outcome run = cli({"extract", "game.iso", "--key-file", place, "--into", std::string("x-") + place});
    EXPECT_EQ(run.exit_code, 0) << place << run.err;
    EXPECT_EQ(listing(*this / ("x-" + std::string(place))), listing(*this / "x-bare.key"));
  }
  fs::create_directory(*this / "none");
  const Outcome none = cli({"extract", "game.iso", "--key-file", "none", "--into", "y"});
  EXPECT_EQ(none.exit_code, 3);
  EXPECT_TRUE(contains(none.err, "a folder of 0 files") && contains(none.err, id)) << none.err;
  write_file(*this / "wrong.key", std::string(16, 'x'));
  EXPECT_EQ(cli({"extract", "game.iso", "--key-file", "wrong.key", "--into", "y"}).exit_code, 3);
  write_file(*this / "long.key", std::string(17, 'x'));
  EXPECT_EQ(cli({"extract", "game.iso", "--key-file", "long.key", "--into", "y"}).exit_code, 3);
  EXPECT_FALSE(fs::exists(*this / "y"));
}

}  // namespace
}  // namespace opifex::testkit
