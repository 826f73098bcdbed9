// The simulated reader, verb by verb and error by error (reader-protocol, sections 4 to 6), and the file that describes
// it.
#include <gtest/gtest.h>

#include "opifex/core/dump/reader_source.hpp"

#include "cartridges.hpp"

namespace opifex::dump {
namespace {

using namespace testkit;

class SimVerbs : public testing::Test {
 protected:
  void make(SimReaderSetup setup) { reader = std::make_unique<SimReader>(std::move(setup)); }
  /// The last frame that answers the line; its fields are looked at.
  ocr1::Frame say(const std::string& body) {
    reader->receive(as_view(ocr1::line_of(++tag, body)), now);
    now += 2000;
    ocr1::FrameParser parser;
    parser.add(reader->send(now, 1 << 22));
    ocr1::Frame last;
    data.clear();
    while (auto frame = parser.next()) {
      if (frame->kind == 'D') data.insert(data.end(), frame->payload.begin(), frame->payload.end());
      if (frame->tag == tag) last = std::move(*frame);
    }
    return last;
  }
  std::string code_of(const std::string& body) {
    const ocr1::Frame frame = say(body);
    return frame.kind == 'X' ? frame.fields()["code"] : std::string(1, frame.kind);
  }
  std::string field(const std::string& body, std::string_view key) {
    const ocr1::Fields fields = say(body).fields();
    const auto at = fields.find(key);
    return at == fields.end() ? "(none)" : at->second;
  }
  void SetUp() override { make({.rom = rom, .save = Bytes(1024)}); }

  const Bytes rom = Random(95).bytes(32 << 10);
  std::unique_ptr<SimReader> reader;
  Bytes data;
  std::uint16_t tag = 0;
  std::uint64_t now = 0;
};

TEST_F(SimVerbs, NothingTouchesTheCartridgeWithoutABus) {
  for (const char* body : {"READ rom - 0 16", "SUM rom - 0 16", "HEADER", "ARM ram - 0 16 00000000", "POWER on"})
    EXPECT_EQ(code_of(body), "20") << body;
  EXPECT_EQ(code_of("BUS gbx"), "13");
  EXPECT_EQ(code_of("BUS gb"), "A");
  EXPECT_EQ(field("STATE", "power"), "on");
  EXPECT_EQ(code_of("BUS none"), "A");
  EXPECT_EQ(field("STATE", "power"), "off");
}

TEST_F(SimVerbs, RangesAreHeldAgainstBanksAndSpaces) {
  say("BUS gb");
  EXPECT_EQ(code_of("READ rom - 0 65536"), "A");
  EXPECT_EQ(code_of("READ rom - 0 65537"), "14");
  EXPECT_EQ(code_of("READ rom - 0 0"), "14");
  EXPECT_EQ(code_of("READ rom 1 0x3FFF 1"), "A");
  EXPECT_EQ(code_of("READ rom 1 0x3FFF 2"), "14");
  EXPECT_EQ(code_of("READ ram - 0 1024"), "A");
  EXPECT_EQ(code_of("READ ram - 1 1024"), "14");
  EXPECT_EQ(code_of("READ rtc - 0 5"), "13") << "it has no clock";
  EXPECT_EQ(code_of("READ chr - 0 16"), "13") << "nor has a Game Boy that memory";
  EXPECT_EQ(code_of("READ rom - 0x4000000 16"), "14") << "past 64 MiB";
  EXPECT_EQ(code_of("READ rom - zero 16"), "13");
  EXPECT_EQ(code_of("READ rom - 0"), "13");
  say("READ rom 1 0x10 16");
  EXPECT_EQ(data, Bytes(rom.begin() + 0x4010, rom.begin() + 0x4020)) << "a bank is a place of the whole";
}

TEST_F(SimVerbs, PastTheChipTheBusShowsWhatItDoes) {
  say("BUS gb");
  say("READ rom - 0x8000 64");
  EXPECT_EQ(data, Bytes(rom.begin(), rom.begin() + 64)) << "it repeats";
  make({.rom = rom, .bus = "gba"});
  say("BUS gba");
  say("READ rom - 0x8000 8");
  EXPECT_EQ(hex(data), "0040014002400340") << "half of the address comes back";
  say("BUS md");
  say("READ rom - 0 4");
  EXPECT_EQ(hex(data), "ffffffff") << "another machine's cartridge does not answer";
}

TEST_F(SimVerbs, ChunksAreOfTheSizeThatWasChosen) {
  say("BUS gb");
  EXPECT_EQ(code_of("CHUNK 63"), "13");
  EXPECT_EQ(code_of("CHUNK 4097"), "13");
  EXPECT_EQ(code_of("CHUNK 4096"), "A");
  reader->receive(as_view(ocr1::line_of(++tag, "READ rom - 0 8192")), now);
  ocr1::FrameParser parser;
  parser.add(reader->send(now, 1 << 20));
  std::vector<std::size_t> sizes;
  std::vector<std::uint32_t> places;
  while (const auto frame = parser.next())
    if (frame->kind == 'D') sizes.push_back(frame->payload.size()), places.push_back(frame->position);
  EXPECT_EQ(sizes, (std::vector<std::size_t>{4096, 4096}));
  EXPECT_EQ(places, (std::vector<std::uint32_t>{0, 4096}));
}

TEST_F(SimVerbs, OneCommandAtATimeAndItCanBeCancelled) {
  make({.rom = rom, .bytes_per_second = 11'520});
  say("BUS gb");
  const std::uint16_t read_tag = ++tag;
  reader->receive(as_view(ocr1::line_of(read_tag, "READ rom - 0 32768")), now);
  reader->send(now + 100, 1 << 20);
  reader->receive(as_view(ocr1::line_of(++tag, "STATE")), now + 100);
  reader->receive(as_view(ocr1::line_of(++tag, fmt::format("CANCEL {:04X}", read_tag))), now + 200);
  now += 5000;
  ocr1::FrameParser parser;
  parser.add(reader->send(now, 1 << 20));
  std::map<std::uint16_t, std::string> ends;
  while (const auto frame = parser.next())
    if (frame->kind == 'A' || frame->kind == 'X') ends[frame->tag] += frame->kind + frame->fields()["word"];
  EXPECT_EQ(ends[read_tag], "Xcancelled");
  EXPECT_EQ(ends[static_cast<std::uint16_t>(tag - 1)], "Xbusy");
  EXPECT_EQ(ends[tag].substr(0, 1), "A");
  EXPECT_EQ(field("CANCEL 0001", "cancelled"), "none");
}

TEST_F(SimVerbs, ATokenIsSpentByWhatTheProtocolNames) {
  const std::string crc = "EFB5AF2E";  // of 1024 zeros
  const auto arm = [&] { return field("ARM ram - 0 1024 " + crc, "token"); };
  say("BUS gb");
  std::string token = arm();
  EXPECT_EQ(code_of("PUT FFFF 0 00"), "31");
  EXPECT_EQ(code_of("COMMIT " + token), "33") << "not all bytes are there";
  EXPECT_EQ(code_of("PUT " + token + " 1023 0000"), "14");
  EXPECT_EQ(code_of("PUT " + token + " 0 0"), "13") << "half a byte";
  say("SYNC WORD");
  EXPECT_EQ(code_of("PUT " + token + " 0 00"), "30");
  token = arm();
  now += 40'000;
  EXPECT_EQ(code_of("PUT " + token + " 0 00"), "30") << "thirty seconds are over";
  token = arm();
  say("BUS gb");
  EXPECT_EQ(code_of("PUT " + token + " 0 00"), "30");
  token = arm();
  say("DISARM");
  EXPECT_EQ(code_of("COMMIT " + token), "30");
  EXPECT_EQ(reader->saves_written(), 0u);
  EXPECT_EQ(code_of("ARM rom - 0 16 00000000"), "36") << "ROMs are never written";
}

TEST_F(SimVerbs, TheContentsHaveToHaveTheChecksumThatWasSaid) {
  say("BUS gb");
  const std::string token = field("ARM ram - 0 16 00000001", "token");
  say("PUT " + token + " 0 " + std::string(32, '0'));
  EXPECT_EQ(code_of("COMMIT " + token), "34");
  EXPECT_EQ(code_of("COMMIT " + token), "34") << "it stays good";
  EXPECT_EQ(reader->saves_written(), 0u);
}

TEST_F(SimVerbs, CleaningAndPullingCountInsertions) {
  make({.rom = rom, .faults = {{"no-contact", ""}, {"dirty", "0=1"}}});
  say("BUS gb");
  say("READ rom - 0 16");
  EXPECT_EQ(hex(data), std::string(32, 'f'));
  EXPECT_EQ(code_of("SIM clean"), "A");
  EXPECT_EQ(field("STATE", "insertions"), "2");
  EXPECT_EQ(field("STATE", "bus"), "none");
  say("BUS gb");
  say("READ rom - 0 16");
  EXPECT_EQ(data, Bytes(rom.begin(), rom.begin() + 16));
  say("SIM unplug");
  EXPECT_EQ(field("STATE", "cart"), "none");
  say("SIM insert");
  EXPECT_EQ(field("STATE", "insertions"), "3");
  EXPECT_EQ(code_of("SIM fault stuck-data:3=1"), "A");
  EXPECT_EQ(code_of("SIM fault rust:3"), "13");
  EXPECT_EQ(code_of("SIM dance"), "13");
  EXPECT_EQ(code_of("SPEED 230400"), "41");
}

TEST_F(SimVerbs, TheSameSeedGivesTheSameErrors) {
  const auto read = [&](std::uint64_t seed) {
    make({.rom = rom, .faults = {{"dirty", "5=0.01"}}, .seed = seed});
    say("BUS gb");
    say("READ rom - 0 8192");
    return data;
  };
  EXPECT_EQ(read(1), read(1));
  EXPECT_NE(read(1), read(2));
  EXPECT_NE(read(1), Bytes(rom.begin(), rom.begin() + 8192));
}

TEST(ReaderFiles, SayWhatIsWrongWithThem) {
  const TempFolder folder;
  Random random(96);
  write_file(folder / "a.gb", as_text(game_boy(random, 0)));
  write_file(folder / "a.sav", std::string(8192, 'x'));
  const auto load = [&](const std::string& text) {
    write_file(folder / "r.toml", text);
    return load_reader(folder / "r.toml");
  };
  const ReaderDescription good = load(
      "seed = 9\nfaults = [\"drop:900\", \"dirty:5=0.1\"]\n[cartridge]\nrom = \"a.gb\"\nsave = \"a.sav\"\nclock = "
      "\"0102030400\"\n[reader]\nchunk = 128\nsums = false\nbytes_per_second = 11520\n");
  EXPECT_EQ(good.setup.bus, "gb");
  EXPECT_EQ(good.setup.save.size(), 8192u);
  EXPECT_EQ(good.setup.clock.size(), 5u);
  EXPECT_EQ(good.setup.faults.size(), 2u);
  EXPECT_EQ(good.setup.chunk, 128u);
  EXPECT_FALSE(good.setup.sums);
  for (const char* bad :
       {"[cartridge]\n", "seed = 1\n", "[cartridge]\nrom = 5\n", "[cartridge]\nrom = \"a.gb\"\ncolour = \"red\"\n",
        "[cartridge]\nrom = \"a.gb\"\nclock = \"12\"\n", "faults = [1]\n[cartridge]\nrom = \"a.gb\"\n",
        "[cartridge]\nrom = \"a.gb\"\n[reader]\nchunk = 7\n", "[cartridge]\nrom = \"a.gb\"\nsystem = \"toaster\"\n",
        "not toml"})
    EXPECT_EQ(error_code([&] { load(bad); }), "bad_simulation") << bad;
  EXPECT_NE(error_code([&] { load("[cartridge]\nrom = \"missing.gb\"\n"); }), "");
  load("[cartridge]\nrom = \"a.gb\"\n");
  EXPECT_TRUE(is_reader("sim:" + (folder / "r.toml").string()));
  write_file(folder / "drive.toml", "[disc]\nimage = \"x.cue\"\n");
  EXPECT_FALSE(is_reader("sim:" + (folder / "drive.toml").string()));
  EXPECT_FALSE(is_reader("sim:" + (folder / "nowhere.toml").string()));
  EXPECT_FALSE(is_reader((folder / "a.gb").string()));
  EXPECT_FALSE(is_reader("/dev/null"));
}

}  // namespace
}  // namespace opifex::dump
