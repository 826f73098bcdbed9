/// A cartridge reader that is not there: the same protocol as a real one, with faults of the cable and of the cartridge
/// behind it (shared facts: reader-protocol, section 8).
#pragma once

#include <deque>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/dump/ocr1.hpp"
#include "opifex/core/dump/sim_cartridge.hpp"
#include "opifex/core/formats/rom/systems.hpp"

namespace opifex::dump {

/// Not safe from several threads at once. Time is given by the caller.
class SimReader {
 public:
  /// Error (refused, "bad_simulation") for a fault that there is not.
  explicit SimReader(SimReaderSetup setup);

  /// Bytes from the host.
  void receive(ByteView bytes, std::uint64_t now_ms);
  /// Bytes for the host that are due: at most `most`.
  Bytes send(std::uint64_t now_ms, std::size_t most);
  /// When the next byte is due; nothing: the reader waits.
  std::optional<std::uint64_t> next_at() const;

  const Bytes& save() const { return cartridge_.save(); }
  std::uint64_t saves_written() const { return saves_written_; }

  /// The contacts are cleaned; the cartridge is taken out or put in, from outside.
  void clean();
  void unplug();
  void insert();
  /// Error as above.
  void set_fault(const ReaderFault& fault);

 private:
  struct Pending {
    std::uint64_t at_ms = 0;
    Bytes bytes;
    bool of_read = false;
  };
  struct Armed {
    std::string token;
    std::uint32_t at = 0, crc = 0;
    Bytes data;
    std::vector<bool> have;
    std::uint64_t last_put_ms = 0;
  };
  struct Range {
    SimCartridge::Space space = SimCartridge::Space::rom;
    std::uint32_t at = 0, bytes = 0;
  };
  using Pairs = std::vector<std::pair<std::string, std::string>>;

  void answer(const ocr1::LineParser::Result& line);
  void run(const ocr1::Line& line);
  void emit(ocr1::Frame frame);
  void done(const Pairs& fields);
  void fail(unsigned code, std::string_view word, std::uint32_t position = 0, std::string_view text = {});
  void event(std::string_view what);
  void lose_bus();
  void note_bus();

  void hello();
  void state();
  void choose_bus(const ocr1::Line& line);
  void power(const ocr1::Line& line);
  void mapper(const ocr1::Line& line);
  void header();
  void read(const ocr1::Line& line);
  void sum(const ocr1::Line& line);
  void chunk(const ocr1::Line& line);
  void arm(const ocr1::Line& line);
  void put(const ocr1::Line& line);
  void commit(const ocr1::Line& line);
  void cancel(const ocr1::Line& line);
  void simulate(const ocr1::Line& line);

  std::optional<Range> range_of(const ocr1::Line& line);
  bool ready_to_read();
  void data(const Range& range);
  void answer_with(const Range& range);
  bool read_busy() const;

  SimReaderSetup setup_;  // without the memories: those are the cartridge's
  SimCartridge cartridge_;
  ocr1::LineParser parser_;
  std::deque<Pending> queue_;
  std::uint64_t now_ = 0, line_at_ = 0;
  std::uint16_t tag_ = 0;
  std::uint8_t sequence_ = 0;
  std::string bus_ = "none", mapper_ = "none";
  bool present_ = true, powered_ = false, in_read_ = false;
  unsigned insertions_ = 1;
  std::uint16_t reading_ = 0;  // tag of the READ in work
  std::optional<Armed> armed_;
  std::uint64_t served_ = 0, sent_ = 0, frames_ = 0, lines_ = 0, saves_written_ = 0, tokens_ = 0;

  // Faults, by name.
  std::uint64_t exchange_after_ = 0, exchange_unseen_after_ = 0, most_read_ = 0;
  std::uint64_t unplug_after_ = 0, drop_ = 0, garbage_ = 0, corrupt_ = 0, duplicate_ = 0, silent_ = 0, slow_ms_ = 0,
                short_by_ = 0;
  bool lose_commit_ = false;
};

}  // namespace opifex::dump
