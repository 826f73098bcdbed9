/// What a ROM's header says, whether its checksums are right, whether it was read at its true size, and which contacts
/// were bad (shared facts: cartridge dumps).
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "opifex/core/formats/rom/container.hpp"
#include "opifex/core/formats/rom/systems.hpp"

namespace opifex::rom {

/// Nothing, a flag, a number, or text (Latin-1 made UTF-8; what came from the ROM is not made printable here).
using Value = std::variant<std::monostate, bool, std::uint64_t, std::string>;

struct HeaderFact {
  std::string key;    ///< stable, lower case with underscores
  std::string label;  ///< for people; empty: of no use to them
  Value value;
  std::string text = {};  ///< the value for people, if it is not plain
};

enum class SumState { right, wrong, not_checked };

struct Checksum {
  std::string key;   ///< "header_checksum", "crc" ...
  std::string name;  ///< for people: "the checksum of the header"
  SumState state = SumState::not_checked;
  std::string found = {}, expected = {};  ///< found: what the bytes give; expected: what the header says
  bool whole = false;                     ///< over (nearly) the whole ROM: if it is right, the ROM was read right
  std::string why_not = {};               ///< of one that was not checked
};

/// How the logo compares with the one that the console wants to see, by hash.
enum class Logo { none, right, first_half, other };

struct SaveMarker {
  std::string text, kind;  ///< "FLASH1M_V103", "flash"
  std::uint64_t offset = 0;
  std::vector<std::uint64_t> sizes;  ///< one of them
};

struct SaveMemory {
  std::optional<std::uint64_t> bytes;  ///< that a battery keeps; nothing: the header does not tell
  std::optional<std::uint64_t> ram_bytes;
  bool clock = false;
  std::vector<SaveMarker> markers = {};  ///< of machines whose header says nothing about it
  std::string interleaved = {};          ///< "odd", "even": on these addresses of a 16-bit bus only
};

struct Header {
  std::string title, code, region, maker, version;
  std::vector<HeaderFact> facts;
  std::vector<Checksum> checks;
  Logo logo = Logo::none;
  std::optional<std::uint64_t> declared_bytes;
  SaveMemory save;
};

/// `rom` as unpacked() makes it; the machine's fields that lie outside are left out.
Header read_header(const Machine& machine, ByteView rom);

/// Of a cartridge in a reader: bytes of its header at their address on the bus, and nothing else.
struct BusHeader {
  std::uint32_t at = 0;
  Bytes bytes = {};
};
/// Whether it is one of this machine's, and what it says; nothing if it is none.
std::optional<Header> read_bus_header(const Machine& machine, const BusHeader& raw);
/// Two machines may share a bus: the one that the header tells.
const Machine& machine_by_header(const Machine& machine, const Header& header);
/// Where the ROM has what its bus shows as the header.
std::uint64_t bus_header_in_rom(const Machine& machine, ByteView rom);

/// The verdict on the size (shared facts: section 10).
enum class SizeStatus {
  exact,
  mirrored,              ///< of the size told, but its halves are alike
  overdump,              ///< longer than the chip: the rest is no data
  larger_than_declared,  ///< and the rest is data: usual for this machine
  oversize,              ///< and the rest is data: a wrong header, several games, garbage
  trimmed,               ///< padding makes the checksum right
  underdump,
  possible_overdump,  ///< ends in a long run of FF or 00
  odd_size,           ///< no power of two, and nothing tells the size
  plausible,          ///< nothing tells the size, and nothing speaks against it
  unknown
};
std::string_view to_string(SizeStatus status);

/// What a ROM that is too long has behind its end.
enum class Filler { none, mirror, ff, zero, tail_mirror, open_bus };
std::string_view to_string(Filler filler);

struct SizeVerdict {
  SizeStatus status = SizeStatus::unknown;
  Filler filler = Filler::none;             ///< of overdump, trimmed, possible_overdump, mirrored
  std::optional<std::uint64_t> true_bytes;  ///< of the chip, without a trainer
  std::string detail = {};                  ///< stable, for JSON

  /// The file may be cut to `true_bytes` without the loss of data.
  bool can_be_trimmed() const { return status == SizeStatus::overdump && true_bytes.has_value(); }
};

SizeVerdict judge_size(const Machine& machine, ByteView rom, const Header& header);

/// Bits of the bus that never change: "all-ff", "all-00", "all-same:5A", "data-bit-high:3", "data-bit-low:6",
/// "address-bit:9" (of the byte address). `machine` may be null: then a bus of 8 bits. Exact: what only flickers is
/// found by reading twice.
std::vector<std::string> read_faults(const Machine* machine, ByteView rom);
/// For people, with the likely cause.
std::string fault_text(const std::string& fault, const Machine* machine);

/// All of the above.
struct Examined {
  const Machine* machine = nullptr;  ///< null: unrecognised
  Container container;
  std::uint64_t rom_bytes = 0;
  Header header;
  SizeVerdict size;
  std::vector<std::string> faults;
  /// Of a ROM of the wrong length: the checksum over the whole is right once it is cut or padded to its true size.
  bool right_at_true_size = false;

  /// Every byte is the same: nothing of the header means anything.
  bool is_blank() const { return !faults.empty() && faults.front().starts_with("all-"); }
  /// A checksum over the whole ROM is right, so that no bit of what it covers was misread.
  bool is_confirmed() const;
};

/// What is wrong, in a few words each: for lists. The check says more (check/rom_judge.hpp).
struct Problem {
  std::string code, message;
};
std::vector<Problem> problems_of(const Examined& rom);

/// Reads the whole file and undoes the container, but for the header of an NES file: that tells the sizes of what
/// follows. Error (refused, "too_large") above most_file_bytes().
Bytes read_rom(const ByteSource& file, const Container& container);
/// The file as it is. Error as above.
Bytes read_file(const ByteSource& file);
inline constexpr std::size_t kNesHeaderBytes = 16;
/// What no NES cartridge tells of itself, and the header of its file says.
struct NesWord {
  unsigned mapper = 0;  ///< 0 to 4095
  std::uint64_t program_bytes = 0, character_bytes = 0, save_bytes = 0;
  bool vertical = false, four_screen = false;  ///< neither: mirrored horizontally
};
/// What the header says; of saves only whether there are any.
NesWord nes_word(ByteView header);
/// The 16 bytes of version 1 where they can say all of it, else of version 2. Error (refused, "odd_size") for areas
/// that neither can tell.
Bytes nes_header(const NesWord& word);
/// As large as any file of a ROM may be.
std::uint64_t most_file_bytes();

/// Of what read_rom() gave: without the header of an NES file.
ByteView rom_alone(const Examined& rom, ByteView bytes);

Examined examine(const Machine* machine, const Container& container, ByteView rom);

/// The same bytes read several times (section 12).
struct Repeats {
  std::uint64_t reads = 0, differing_bytes = 0;
  std::uint32_t bit_mask = 0;                ///< of the bus word: every bit that ever differed from the first read
  std::vector<std::uint64_t> first_offsets;  ///< at most 8
  std::vector<unsigned> address_bits_1, address_bits_0;  ///< bits that are so at every place that differs
  std::optional<Bytes> majority;                         ///< of an odd number of three or more
};
/// Reads of one length. Error (refused, "other_length") otherwise.
Repeats compare_reads(const Machine* machine, const std::vector<Bytes>& reads);

/// With every checksum of the header that the bytes can give put right. Nothing of a machine that has none to repair.
std::optional<Bytes> with_right_checksums(const Machine& machine, ByteView rom);

}  // namespace opifex::rom
