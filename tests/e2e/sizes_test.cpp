// The greatest disc of every medium, as sparse files: looked at, checked, converted and back.
#include <fstream>

#include <sys/stat.h>

#include "opifex/demo/wii_disc.hpp"

#include "program.hpp"

namespace opifex::testkit {
namespace {

class Sizes : public Program {
 protected:
  /// A file of so many bytes of which only `head`, at `at`, is on the drive.
  void make_sparse(const std::string& name, std::uint64_t bytes, const std::string& head, std::uint64_t at = 0) {
    write_file(*this / name, "");
    fs::resize_file(*this / name, bytes);
    put(name, at, head);
  }
  void put(const std::string& name, std::uint64_t at, const std::string& head) {
    std::fstream file(*this / name, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(at));
    file.write(head.data(), static_cast<std::streamsize>(head.size()));
  }
  std::uint64_t on_drive(const std::string& name) const {
    struct stat facts {};
    return ::stat((*this / name).c_str(), &facts) == 0 ? static_cast<std::uint64_t>(facts.st_blocks) * 512 : 0;
  }
  void expect_done(const std::vector<std::string>& words) {
    const Outcome run = cli(words);
    EXPECT_EQ(run.exit_code, 0) << words.front() << "\n" << run.out << run.err;
  }
  /// Looked at and checked: of the size it has, and nothing wrong with it.
  void expect_intact(const std::string& name, std::uint64_t bytes) {
    const Outcome identified = cli({"identify", name, "--json"});
    ASSERT_EQ(identified.exit_code, 0) << identified.err;
    EXPECT_EQ(identified.json()["results"][0]["size_bytes"], bytes);
    expect_done({"check", name, "--hashes", "none"});
  }
  void expect_same_size(const std::string& a, const std::string& b) {
    EXPECT_EQ(fs::file_size(*this / a), fs::file_size(*this / b));
  }
};

constexpr std::uint64_t kMebi = 1 << 20;

TEST_F(Sizes, DiscsOfBlocks) {
  struct Medium {
    const char* name;
    std::uint64_t bytes;
  };
  constexpr Medium kMedia[] = {{"dvd-5", 4'707'319'808},  {"dvd-9", 8'543'666'176},  {"bd-25", 25'025'314'816},
                               {"bd-50", 50'050'629'632}, {"bd-66", 66'571'993'088}, {"bd-100", 100'103'356'416}};
  const std::string plain = read_file(vector_path("iso/plain.iso"));
  for (const Medium& medium : kMedia) {
    SCOPED_TRACE(medium.name);
    const std::string last(2048, 'z');  // nothing may be lost at the far end
    make_sparse("a.iso", medium.bytes, plain);
    put("a.iso", medium.bytes - last.size(), last);
    expect_intact("a.iso", medium.bytes);
    if (fs::space(folder.path()).available < 2 * medium.bytes) continue;  // holes are no promise: it would be refused
    expect_done({"split", "a.iso", "--limit", "fat32", "--out", "parts/"});
    std::string first;
    for (const auto& [name, size] : listing(*this / "parts")) {
      EXPECT_LE(size, 0xFFFF'FFFFu);
      if (first.empty() || name < first) first = name;
    }
    expect_intact("parts/" + first, medium.bytes);
    expect_done({"merge", "parts/" + first, "--out", "b.iso"});
    expect_same_size("a.iso", "b.iso");
    EXPECT_LT(on_drive("b.iso"), 64 * kMebi) << "still sparse";
    expect_done({"check", "b.iso", "--same-as", "a.iso"});
    for (const char* used : {"a.iso", "b.iso", "parts"}) fs::remove_all(*this / used);
  }
}

TEST_F(Sizes, DiscsOfXbox) {
  // The game's partition where the pressed discs of each kind have it.
  struct Medium {
    std::uint64_t bytes, game;
  };
  constexpr Medium kMedia[] = {{7'825'162'240, 405'798'912}, {7'835'492'352, 265'879'552}, {8'738'846'720, 34'078'720}};
  const std::string game = read_file(vector_path("xbox/tiny.iso"));
  for (const Medium& medium : kMedia) {
    make_sparse("a.iso", medium.bytes, game, medium.game);
    expect_intact("a.iso", medium.bytes);
    expect_done({"convert", "a.iso", "--to", "xiso", "--accept", "partitions", "--out", "b.iso"});
    expect_done({"check", "b.iso", "--same-as", vector_path("xbox/tiny.iso").string()});
    fs::remove(*this / "a.iso");
    fs::remove(*this / "b.iso");
  }
}

TEST_F(Sizes, ADiscOfWiiWithTwoLayers) {
  constexpr std::uint64_t kTwoLayers = 8'511'160'320;
  write_file(*this / "keys.toml", demo::demo_key_file());
  make_sparse("a.iso", kTwoLayers, read_file(vector_path("wii/wii-tiny.iso")));
  put("a.iso", kTwoLayers - 2048, std::string(2048, 'z'));
  expect_intact("a.iso", kTwoLayers);
  expect_done({"convert", "a.iso", "--to", "wbfs", "--out", "b.wbfs", "--key-file", "keys.toml"});
  EXPECT_LT(fs::file_size(*this / "b.wbfs"), 64 * kMebi);
  expect_done({"convert", "b.wbfs", "--to", "iso", "--out", "c.iso", "--key-file", "keys.toml"});
  expect_same_size("a.iso", "c.iso");
  expect_done({"check", "c.iso", "--same-as", "a.iso", "--key-file", "keys.toml"});
}

TEST_F(Sizes, ACdThatIsOverburnt) {
  constexpr std::uint64_t kSectors = 99 * 60 * 75 + 59 * 75 + 75;  // as long as the times of a sheet reach
  make_sparse("music.bin", kSectors * 2352, "a first sample", 5 * 2352);
  write_file(*this / "a.cue",
             "FILE \"music.bin\" BINARY\n  TRACK 01 AUDIO\n    INDEX 01 00:00:00\n"
             "  TRACK 02 AUDIO\n    INDEX 00 99:40:00\n    INDEX 01 99:42:00\n");
  expect_intact("a.cue", kSectors * 2352);
  expect_done({"convert", "a.cue", "--to", "cue-tracks", "--out", "tracks/", "--prove"});
  expect_done({"convert", "tracks/a.cue", "--to", "cue", "--out", "b/"});
  EXPECT_EQ(fs::file_size(*this / "b/a.bin"), kSectors * 2352);
  expect_done({"check", "b/a.cue", "--same-as", "a.cue"});
  fs::resize_file(*this / "music.bin", (kSectors + 1) * 2352);
  const Outcome longer = cli({"check", "a.cue", "--hashes", "none"});
  EXPECT_EQ(longer.exit_code, 3) << "nothing has a sector behind 99:59:74";
  EXPECT_TRUE(contains(longer.err, "99:59:74")) << longer.err;
}

TEST_F(Sizes, AGdRomThatIsFull) {
  constexpr std::uint64_t kData = 504'150, kLow = 450;
  make_sparse("track01.iso", kLow * 2048, read_file(vector_path("iso/plain.iso")).substr(0, 16 * 2048));
  make_sparse("track02.raw", kLow * 2352, "");
  make_sparse("track03.iso", kData * 2048, "");
  write_file(*this / "a.gdi",
             "3\n1 0 4 2048 track01.iso 0\n2 600 0 2352 track02.raw 0\n3 45000 4 2048 track03.iso 0\n");
  const std::uint64_t bytes = kLow * (2048 + 2352) + kData * 2048;
  expect_intact("a.gdi", bytes);
  expect_done({"convert", "a.gdi", "--to", "cue-tracks", "--out", "set/"});
  expect_done({"check", "set/a.cue", "--hashes", "none"});
  expect_done({"check", "set/a.cue", "--same-as", "a.gdi"});
}

}  // namespace
}  // namespace opifex::testkit
