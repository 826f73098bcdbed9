// The protocol of cartridge readers, held against the samples of another implementation, and the host against a reader
// with every fault.
#include <deque>
#include <sstream>

#include <gtest/gtest.h>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/dump/sim_port.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

using namespace testkit;
using nlohmann::json;
using ocr1::Frame;

Bytes unhex(const std::string& digits) { return digits.empty() ? Bytes() : *ocr1::parse_hex(digits); }

json samples() { return vector_json("floppycart/ocr1.json"); }

void expect_frame(const Frame& frame, const json& told) {
  EXPECT_EQ(std::string(1, frame.kind), told["kind"]);
  EXPECT_EQ(frame.sequence, told["seq"]);
  EXPECT_EQ(frame.tag, told["tag"]);
  EXPECT_EQ(frame.position, told["position"]);
  EXPECT_EQ(hex(frame.payload), told["payload"]);
}

TEST(Ocr1, LinesAndFramesAreTheSamplesToTheByte) {
  const json all = samples();
  EXPECT_EQ(crc16(as_view("123456789"), 0xFFFF), 0x29B1);
  for (const json& line : all["lines"])
    EXPECT_EQ(as_view(ocr1::line_of(line["tag"], line["body"].get<std::string>())).size(),
              line["bytes"].get<std::string>().size() / 2);
  for (const json& line : all["lines"])
    EXPECT_EQ(to_bytes(ocr1::line_of(line["tag"], line["body"].get<std::string>())), unhex(line["bytes"]));
  for (const json& told : all["frames"]) {
    const Frame frame{.kind = told["kind"].get<std::string>()[0],
                      .sequence = told["seq"],
                      .tag = told["tag"],
                      .position = told["position"],
                      .payload = unhex(told["payload"])};
    EXPECT_EQ(encode(frame), unhex(told["bytes"]));
  }
}

TEST(Ocr1, FramesAreFoundInEveryStreamHoweverItIsCut) {
  const json all = samples();
  for (const json& stream : all["streams"]) {
    SCOPED_TRACE(stream["note"].get<std::string>());
    const Bytes bytes = unhex(stream["bytes"]);
    for (const std::size_t step : {std::size_t{1}, std::size_t{7}, bytes.size()}) {
      ocr1::FrameParser parser;
      std::vector<Frame> found;
      for (std::size_t at = 0; at < bytes.size(); at += step) {
        parser.add(ByteView(bytes).subspan(at, std::min(step, bytes.size() - at)));
        while (auto frame = parser.next()) found.push_back(std::move(*frame));
      }
      // A pause at the end gives up what was cut.
      while (parser.is_within_frame()) {
        parser.gap();
        while (auto frame = parser.next()) found.push_back(std::move(*frame));
      }
      ASSERT_EQ(found.size(), stream["frames"].size()) << step;
      for (std::size_t i = 0; i < found.size(); ++i) expect_frame(found[i], stream["frames"][i]);
    }
  }
}

/// What a session's reader holds.
SimReaderSetup setup_of(const std::string& note) {
  SimReaderSetup setup{.rom = to_bytes(read_file(vector_path("floppycart/ocr1-rom.gb"))), .save = Bytes(32)};
  if (note.find("pulled") != std::string::npos) setup.faults.push_back({"unplug", "512"});
  return setup;
}

TEST(Ocr1, TheSimulatedReaderAnswersAsTheSampleSessionsDo) {
  const json all = samples();
  for (const json& session : all["sessions"]) {
    SimReader reader(setup_of(session["note"]));
    for (const json& step : session["steps"]) {
      SCOPED_TRACE(session["note"].get<std::string>() + ": " + step["host_text"].get<std::string>());
      reader.receive(unhex(step["host"]), 0);
      ocr1::FrameParser wanted, got;
      wanted.add(unhex(step["device"]));
      got.add(reader.send(10'000, 1 << 20));
      while (const auto frame = wanted.next()) {
        const auto mine = got.next();
        ASSERT_TRUE(mine) << "a frame of kind " << frame->kind << " is missing";
        EXPECT_EQ(mine->kind, frame->kind);
        EXPECT_EQ(mine->tag, frame->tag);
        EXPECT_EQ(mine->sequence, frame->sequence);
        EXPECT_EQ(mine->position, frame->position);
        if (frame->kind == 'D') {
          EXPECT_EQ(mine->payload, frame->payload);
        } else {
          ocr1::Fields ours = mine->fields(), theirs = frame->fields();
          ours.erase("text");
          theirs.erase("text");
          EXPECT_EQ(ours, theirs);
        }
      }
      EXPECT_FALSE(got.next()) << "more than the sample has";
    }
  }
}

std::string body_of(const json& step) {
  const std::string text = step["host_text"];
  return text.substr(6, text.find(" ;") - 6);
}

/// The samples' reader, played back: it answers each line with the sample's bytes, whatever the tag; a line that comes
/// again with the next answer to it, at the end with the last one.
class Recorded final : public ReaderLink {
 public:
  explicit Recorded(const json& session) {
    for (const json& step : session["steps"]) {
      if (step["host_text"].get<std::string>().starts_with('@'))
        answers_[body_of(step)].push_back(unhex(step["device"]));
    }
  }
  void write(ByteView bytes) override {
    for (const auto& line : parser_.add(bytes)) {
      std::string body = line.line.verb;
      for (const std::string& a : line.line.arguments) body += " " + a;
      if (line.line.verb == "SYNC") {
        reply({{"nonce", line.line.arguments[0]}}, line.line.tag);
        continue;
      }
      ocr1::FrameParser recorded;
      std::deque<Bytes>& answers = answers_[body];
      if (answers.empty()) continue;
      recorded.add(answers.front());
      if (answers.size() > 1) answers.pop_front();
      while (auto frame = recorded.next()) {
        if (frame->tag != 0) frame->tag = line.line.tag;
        const Bytes encoded = encode(*frame);
        out_.insert(out_.end(), encoded.begin(), encoded.end());
      }
    }
  }
  std::size_t read(std::span<std::byte> out, unsigned timeout_ms) override {
    const std::size_t n = std::min(out.size(), out_.size());
    std::copy_n(out_.begin(), n, out.begin());
    out_.erase(out_.begin(), out_.begin() + static_cast<std::ptrdiff_t>(n));
    if (n == 0) now_ += timeout_ms;
    return n;
  }
  std::uint64_t now_ms() const override { return now_; }
  void wait(unsigned ms) override { now_ += ms; }

 private:
  void reply(const std::vector<std::pair<std::string, std::string>>& fields, std::uint16_t tag) {
    const Bytes encoded = ocr1::encode(Frame{.kind = 'A', .tag = tag, .payload = to_bytes(ocr1::text_of(fields))});
    out_.insert(out_.end(), encoded.begin(), encoded.end());
  }
  ocr1::LineParser parser_;
  std::map<std::string, std::deque<Bytes>> answers_;
  Bytes out_;
  std::uint64_t now_ = 0;
};

TEST(Ocr1, TheHostUnderstandsTheRecordedReader) {
  const json all = samples();
  Recorded link(all["sessions"][0]);
  ReaderHost host(link, {}, 7);
  const ReaderFacts facts = host.begin();
  EXPECT_EQ(facts.most_read, 65536u);
  EXPECT_TRUE(facts.sums && facts.writes_saves);
  EXPECT_EQ(host.state().insertions, 1u);
  EXPECT_TRUE(host.ask("BUS gb").done());
  const Bytes rom = to_bytes(read_file(vector_path("floppycart/ocr1-rom.gb")));
  const auto header = host.header();
  ASSERT_TRUE(header);
  EXPECT_EQ(header->bytes, Bytes(rom.begin(), rom.begin() + 0x150));
  const auto read = host.read("rom", 0, 600);
  EXPECT_EQ(read.bytes, Bytes(rom.begin(), rom.begin() + 600));
  EXPECT_EQ(host.sum("rom", 0, 600), "B0B353DA");
}

/// The frames of a recorded answer: its data in order, and its last one.
std::pair<Bytes, Frame> recorded_answer(const json& step) {
  ocr1::FrameParser parser;
  parser.add(unhex(step["device"]));
  Bytes data;
  Frame last;
  while (auto frame = parser.next()) {
    if (frame->kind == 'D') data.insert(data.end(), frame->payload.begin(), frame->payload.end());
    last = std::move(*frame);
  }
  return {data, last};
}

TEST(Ocr1, TheHostUnderstandsEveryAnswerOfTheRecordedSessions) {
  const json all = samples();
  constexpr unsigned kBadCrc = 11;
  for (const json& session : all["sessions"]) {
    Recorded link(session);
    ReaderHost host(link, {}, 7);
    for (const json& step : session["steps"]) {
      SCOPED_TRACE(session["note"].get<std::string>() + ": " + step["host_text"].get<std::string>());
      const std::string text = step["host_text"];
      if (!text.starts_with('@') || text.find("SYNC") != std::string::npos) continue;
      const auto [data, last] = recorded_answer(step);
      const std::string body = body_of(step);
      const ocr1::Fields fields = last.fields();
      if (body.starts_with("READ rom - ") && !data.empty()) {
        std::istringstream words(body.substr(11));
        std::string at;
        std::uint32_t bytes = 0;
        words >> at >> bytes;
        const auto got = host.read("rom", *ocr1::parse_number(at), bytes);
        EXPECT_TRUE(std::equal(data.begin(), data.end(), got.bytes.begin()));
        EXPECT_EQ(got.cart_lost, last.kind == 'X');
        EXPECT_EQ(static_cast<std::size_t>(std::count(got.have.begin(), got.have.end(), true)), data.size());
        continue;
      }
      if (last.kind == 'X' && fields.at("code") == std::to_string(kBadCrc)) {
        // A line that came spoilt is repeated: if it goes on so, that is said.
        if (body == "STATE") {
          EXPECT_EQ(host.state().cartridge, "present");
        }
        if (body != "STATE") {
          EXPECT_EQ(error_code([&] { host.ask(body); }), "reader_silent");
        }
        continue;
      }
      const ReaderReply reply = host.ask(body);
      EXPECT_EQ(reply.done(), last.kind == 'A');
      if (last.kind == 'A') {
        EXPECT_EQ(reply.fields, fields);
      }
      if (last.kind == 'X') {
        EXPECT_EQ(std::to_string(reply.code), fields.at("code"));
      }
      if (last.kind == 'X') {
        EXPECT_EQ(reply.word, fields.at("word"));
      }
    }
  }
}

TEST(Ocr1, LinesOfEveryLengthAndShapeAreTakenOrAnswered) {
  ocr1::LineParser parser;
  const auto faults = [&](const std::string& text) {
    std::vector<ocr1::LineFault> out;
    for (const auto& r : parser.add(as_view(text))) out.push_back(r.fault);
    return out;
  };
  using enum ocr1::LineFault;
  const std::string good = ocr1::line_of(1, "STATE");
  EXPECT_EQ(faults(good), std::vector{none});
  EXPECT_EQ(faults(good.substr(0, good.size() - 1) + "\r\n"), std::vector{none});
  EXPECT_EQ(faults("noise\n\n"), std::vector<ocr1::LineFault>{});
  EXPECT_EQ(faults("@0001 STA" + good), std::vector{none}) << "@ begins a new line";
  EXPECT_EQ(faults("@0001 STATE ;0000\n"), std::vector{bad_crc});
  EXPECT_EQ(faults("@0001 STATE ;----\n"), std::vector{none});
  EXPECT_EQ(faults("@0001 COMMIT 5A11 ;----\n"), std::vector{bad_crc}) << "what writes needs its checksum";
  EXPECT_EQ(faults("@0000 STATE ;----\n"), std::vector{bad_line});
  EXPECT_EQ(faults("@0001  STATE ;----\n"), std::vector{bad_line});
  EXPECT_EQ(faults("@0001 STATE\x07 ;----\n"), std::vector{bad_line});
  // 240 bytes with the LF are allowed, one more is not.
  const auto of_length = [&](std::size_t n) {
    std::string body = "PUT 5A11 0 " + std::string(126, '0') + " " + std::string(64, '0');
    std::string line = ocr1::line_of(1, body);
    while (line.size() < n) line = ocr1::line_of(1, body += "0");
    return line;
  };
  EXPECT_EQ(of_length(240).size(), 240u);
  EXPECT_EQ(faults(of_length(240)), std::vector{none});
  EXPECT_EQ(faults(of_length(241)), std::vector{bad_line});
}

// ---- the host against readers with faults

Bytes some_rom(std::size_t bytes = 32 << 10) { return Random(5).bytes(bytes); }

/// Reads everything in blocks, as a dump does.
Bytes read_all(ReaderHost& host, std::size_t bytes, const char* space = "rom") {
  Bytes all;
  constexpr std::uint32_t kEach = 4096;
  for (std::uint32_t at = 0; at < bytes; at += kEach) {
    const auto block = host.read(space, at, std::min<std::uint32_t>(kEach, static_cast<std::uint32_t>(bytes) - at));
    all.insert(all.end(), block.bytes.begin(), block.bytes.end());
  }
  return all;
}

TEST(ReaderCable, NoFaultOfItEverChangesAByte) {
  const Bytes rom = some_rom();
  const std::vector<ReaderFault> faults = {{"drop", "997"},    {"garbage", "5"}, {"corrupt", "7"},
                                           {"duplicate", "4"}, {"silent", "6"},  {"slow", "40"}};
  for (std::size_t a = 0; a < faults.size(); ++a)
    for (std::size_t b = a; b < faults.size(); ++b) {
      SCOPED_TRACE(faults[a].name + " and " + faults[b].name);
      SimReaderSetup setup{.rom = rom, .faults = {faults[a]}, .bytes_per_second = 11'520};
      if (b != a) setup.faults.push_back(faults[b]);
      SimReader reader(setup);
      SimLink link(reader);
      ReaderHost host(link, {}, 1);
      host.begin();
      host.require("BUS gb");
      EXPECT_EQ(read_all(host, rom.size()), rom);
      EXPECT_EQ(host.sum("rom", 0, 4096), to_upper_ascii(digest_of("crc32", ByteView(rom).first(4096))));
    }
}

TEST(ReaderCable, AReaderThatNeverDeliversAllIsGivenUp) {
  SimReader reader({.rom = some_rom(), .faults = {{"short", "100"}}});
  SimLink link(reader);
  ReaderHost host(link, {}, 1);
  host.begin();
  host.require("BUS gb");
  EXPECT_EQ(error_code([&] { host.read("rom", 0, 4096); }), "reader_gives_up");
}

TEST(ReaderCable, WhereNobodyAnswersThatIsSaidSoon) {
  SimReader reader({.rom = some_rom(), .faults = {{"silent", "1"}}});
  SimLink link(reader);
  ReaderHost host(link, {}, 1);
  EXPECT_EQ(error_code([&] { host.begin(); }), "no_reader");
  EXPECT_LT(link.now_ms(), 15'000u);
}

TEST(ReaderCable, StopEndsWithinTwoSeconds) {
  SimReader reader({.rom = some_rom(), .bytes_per_second = 11'520});
  SimLink link(reader);
  std::stop_source stop;
  ReaderHost host(link, stop.get_token(), 1);
  host.begin();
  host.require("BUS gb");
  stop.request_stop();
  EXPECT_EQ(error_code([&] { host.read("rom", 0, 32 << 10); }), "interrupted");
  const std::uint64_t at = link.now_ms();
  host.leave();
  EXPECT_LT(link.now_ms() - at, 2000u);
  reader.receive(as_view(ocr1::line_of(9, "STATE")), link.now_ms());
  EXPECT_NE(as_text(reader.send(link.now_ms() + 1000, 4096)).find("power=off"), std::string_view::npos);
}

TEST(ReaderCable, ACartridgeThatIsPulledIsToldWithWhatWasReadOfIt) {
  const Bytes rom = some_rom();
  SimReader reader({.rom = rom, .faults = {{"unplug", "5000"}}});
  SimLink link(reader);
  ReaderHost host(link, {}, 1);
  host.begin();
  host.require("BUS gb");
  EXPECT_TRUE(host.read("rom", 0, 4096).whole());
  const auto cut = host.read("rom", 4096, 4096);
  EXPECT_TRUE(cut.cart_lost);
  EXPECT_FALSE(cut.whole());
  for (std::size_t i = 0; i < 5000 - 4096; ++i) {
    ASSERT_TRUE(cut.have[i]);
    ASSERT_EQ(cut.bytes[i], rom[4096 + i]);
  }
  EXPECT_TRUE(host.cart_was_removed());
  EXPECT_EQ(host.state().cartridge, "none");
}

class SaveWriting : public testing::Test {
 protected:
  ReaderHost::Written write(std::vector<ReaderFault> faults, const Bytes& wanted) {
    reader = std::make_unique<SimReader>(
        SimReaderSetup{.rom = some_rom(), .save = Bytes(8192, std::byte{0x11}), .faults = std::move(faults)});
    link = std::make_unique<SimLink>(*reader);
    ReaderHost host(*link, {}, 1);
    host.begin();
    host.require("BUS gb");
    return host.write_save(0, wanted);
  }
  std::unique_ptr<SimReader> reader;
  std::unique_ptr<SimLink> link;
};

TEST_F(SaveWriting, WhatIsReadBackDecides) {
  const Bytes wanted = Random(6).bytes(8192);
  const auto fine = write({}, wanted);
  EXPECT_TRUE(fine.right);
  EXPECT_EQ(reader->save(), wanted);
  EXPECT_EQ(reader->saves_written(), 1u);
  // The answer to COMMIT is lost: it is not repeated, and found to have happened.
  const auto lost = write({{"lost-commit", ""}}, wanted);
  EXPECT_TRUE(lost.right);
  EXPECT_FALSE(lost.trouble.empty());
  EXPECT_EQ(reader->saves_written(), 1u);
  const auto bad = write({{"verify", "100"}}, wanted);
  EXPECT_FALSE(bad.right);
  EXPECT_EQ(bad.first_wrong, 100u);
  EXPECT_EQ(bad.trouble, "verify-failed");
}

TEST(ReaderPort, TheSimulatedReaderIsReachedThroughATerminalLikeARealOne) {
  const Bytes rom = some_rom();
  SimReaderPort port({.rom = rom, .save = Bytes(256)});
  const auto link = open_port(port.path());
  ReaderHost host(*link, {}, 1);
  EXPECT_EQ(host.begin().model, "Opifex simulated reader");
  host.require("BUS gb");
  EXPECT_EQ(read_all(host, rom.size()), rom);
  const Bytes save = Random(8).bytes(256);
  EXPECT_TRUE(host.write_save(0, save).right);
  EXPECT_EQ(port.save(), save);
}

TEST(ReaderPort, WhatIsNoPortIsSaidToBeNone) {
  const TempFolder folder;
  write_file(folder / "plain", "no terminal");
  EXPECT_EQ(error_code([&] { open_port(folder / "plain"); }), "no_port");
  EXPECT_EQ(error_code([&] { open_port(folder / "nowhere"); }), "no_port");
}

}  // namespace
}  // namespace opifex::dump
