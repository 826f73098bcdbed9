/// From a cartridge in a reader to a ROM file and a save file: what is in it, reading it twice, and what came of it.
#pragma once

#include <array>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/progress.hpp"
#include "opifex/core/dump/reader_host.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/io/target.hpp"

namespace opifex::dump {

enum class CartridgePart { both, rom, save };

struct CartridgeRequest {
  std::filesystem::path out;                                     ///< a folder, or the file of the ROM
  const rom::Machine* machine = nullptr;                         ///< the user's word; null: by the header
  std::optional<std::uint64_t> rom_bytes = {}, save_bytes = {};  ///< the user's word
  std::string mapper = {};  ///< the user's word, as readers call them: "mbc5", "lorom", "nes:4"; empty: none
  std::optional<rom::NesWord> nes = {};  ///< the user's word; without the size of PRG and of saves
  bool character_unknown = false;        ///< of an NES cartridge nobody said whether it has a character ROM
  CartridgePart part = CartridgePart::both;
  Existing existing = Existing::keep;
  InputFiles inputs = {};
  std::string file_system = {};
  bool restart = false;
  std::vector<std::string> hashes = {"crc32", "md5", "sha1"};
  std::uint64_t save_every_ms = 5000;
};

/// Everything known before the first byte of the ROM is kept.
struct CartridgePlan {
  ReaderFacts reader;
  const rom::Machine* machine = nullptr;
  rom::Header header;                 ///< as far as its own bytes tell
  rom::BusHeader raw = {};            ///< empty: the machine's cartridges have none, or it is unreadable
  bool header_readable = true;        ///< false: the user's word alone says what it is
  std::uint64_t rom_bytes = 0;        ///< to be read; 0: none
  std::uint64_t character_bytes = 0;  ///< of rom_bytes: the last ones, which are in a space of their own
  bool more_behind = false;           ///< the chips may hold more than the user told
  Bytes front = {};                   ///< what its file has in front of the ROM: an NES header
  std::string sized_by;               ///< "the header", "what its bus shows", "your word"
  std::uint64_t save_bytes = 0;       ///< to be read; 0: none
  bool save_shows_later = false;      ///< the ROM itself may tell, once it is read
  std::uint64_t insertions = 0;
  std::filesystem::path rom_file, save_file, working, state;  ///< the last two: of an unfinished dump
  std::vector<PlannedFile> files = {};
  TargetFacts target = {};
  double expected_seconds = 0;  ///< at 115200 baud
  std::optional<double> resumes_at = {};
  std::vector<Warning> warnings = {};
};

enum class CartridgeVerdict {
  proved,  ///< both readings alike everywhere, and a checksum over the whole ROM is right
  agreed,  ///< both readings alike everywhere; the machine has no checksum over the whole that could confirm it
  unsure,  ///< readings differed, or a checksum is wrong
  damaged  ///< a line has no contact, or the size is wrong
};
std::string_view to_string(CartridgeVerdict verdict);

/// A file that was written.
struct CartridgeFile {
  std::filesystem::path path;
  std::uint64_t size_bytes = 0;
  std::string sha1;
};

/// Where two readings differed.
struct UnstablePlaces {
  static constexpr std::uint64_t kCellBytes = 256;
  static constexpr std::size_t kMostCells = 16'384;
  std::uint64_t bytes = 0;
  std::uint32_t data_bits = 0;
  std::vector<std::uint64_t> first_offsets = {};  ///< at most 16
  std::vector<std::uint64_t> cells = {};          ///< of kCellBytes, in order, at most kMostCells
  std::array<std::uint64_t, 16> by_line = {};     ///< bytes in which this data line differed
  std::vector<unsigned> address_bits_1 = {};      ///< that are 1 at every place
};

struct CartridgeResult {
  CartridgeVerdict verdict = CartridgeVerdict::proved;
  std::optional<rom::Examined> rom;  ///< nothing: only the save was read
  UnstablePlaces unstable, unstable_save;
  std::vector<NamedHash> rom_hashes, save_hashes;
  bool save_blank = false;
  std::optional<std::string> clock;  ///< the registers of the cartridge's clock, in hexadecimal
  std::vector<CartridgeFile> outputs;
  std::vector<Warning> warnings;
  double seconds = 0;
  bool resumed = false;
};

class CartridgeDump {
 public:
  /// Asks the reader what is in it. Error (device): "no_reader"; "no_cartridge"; "unreadable_header", with advice.
  CartridgeDump(CartridgeRequest request, ReaderLink& link, std::stop_token stop);
  const CartridgePlan& plan() const { return plan_; }
  /// Error (needs_word) for files that are there, too little room.
  void check_plan() const;
  /// Reads, compares, writes. On an Error, or when stopped, what was read is kept, and the next run goes on with it.
  CartridgeResult run(JobContext& context);
  /// The save memory, read twice, and its lines proved. Error (device): "save_unstable" if the readings differ;
  /// "line_stuck" for one that nothing reaches; "cart_lost".
  Bytes read_save_for_sure();
  /// Writes all of it, and reads it back twice. Never throws for what the cartridge did: the answer says what is in it.
  struct SaveWritten {
    bool right = false;
    std::string trouble = {};       ///< empty: none
    std::optional<Bytes> now = {};  ///< what the cartridge holds now; nothing: it could not be read
  };
  SaveWritten write_save(ByteView bytes);
  /// Ends what is in work and switches the cartridge off.
  void leave() noexcept { host_.leave(); }

 private:
  friend class CartridgePlanner;
  friend class CartridgeReading;
  CartridgeRequest request_;
  CartridgePlan plan_;
  ReaderHost host_;
};

/// Reads part of a cartridge twice. Error (device, "cart_lost") if the cartridge is gone.
struct TwiceRead {
  Bytes bytes;  ///< of readings that differ the majority
  UnstablePlaces unstable;
};
TwiceRead read_twice(ReaderHost& host, const ReaderFacts& reader, std::string_view space, std::uint32_t at,
                     std::uint32_t bytes, rom::BusOrder bus);

/// Lines of the bus that make no difference in some bytes: in those of a save nobody can tell a dead one from a save
/// that is so.
struct QuietLines {
  unsigned data = 0;          ///< of 8: the bit is the same in all of them
  std::uint64_t address = 0;  ///< below the size's: what lies so far apart is the same everywhere
  bool any() const { return data != 0 || address != 0; }
  std::string text() const;  ///< "data line D6, address line A10"
};
QuietLines quiet_lines(ByteView bytes);
/// Of the lines that a save leaves open those that make no difference in the ROM either, where it has something to tell
/// them by: nothing reaches the cartridge there, and the save is not what was read. Error (device, "cart_lost").
QuietLines dead_lines(ReaderHost& host, const CartridgePlan& plan, ByteView save);

}  // namespace opifex::dump
