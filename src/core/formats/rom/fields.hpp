// What the headers of all machines are read with. Fields that lie outside the ROM are empty.
#pragma once

#include <functional>
#include <string>

#include "opifex/core/formats/rom/rom.hpp"

namespace opifex::rom {

inline unsigned byte_at(ByteView v, std::size_t at) { return at < v.size() ? std::to_integer<unsigned>(v[at]) : 0; }
inline std::uint64_t big_at(ByteView v, std::size_t at, std::size_t n) {
  std::uint64_t x = 0;
  for (std::size_t i = 0; i < n; ++i) x = x << 8 | byte_at(v, at + i);
  return x;
}
inline unsigned little16_at(ByteView v, std::size_t at) { return byte_at(v, at) | byte_at(v, at + 1) << 8; }

/// Bytes of the field that are there.
ByteView field(ByteView v, std::size_t at, std::size_t n);
/// Latin-1 as UTF-8, up to the first NUL, without the blanks around it.
std::string text_field(ByteView v, std::size_t at, std::size_t n);
/// The same of text that may be in half-width kana (JIS X 0201).
std::string kana_field(ByteView v, std::size_t at, std::size_t n);
/// True if all bytes are capital letters or digits.
bool is_code(ByteView v);

/// Sum of the bytes, mod 2^32.
std::uint32_t byte_sum(ByteView v);
/// Sum of big-endian 16-bit words; a last odd byte is the high one.
std::uint32_t word_sum(ByteView v);

std::string hex_text(std::uint64_t value, int digits);
Checksum compare_sums(std::string key, std::string name, std::uint64_t found, std::uint64_t expected, int digits,
                      bool whole);

/// Adds facts in one line each.
class FactList {
 public:
  explicit FactList(std::vector<HeaderFact>& out) : out_(out) {}
  void add(std::string key, std::string label, Value value, std::string text = {}) {
    out_.push_back({std::move(key), std::move(label), std::move(value), std::move(text)});
  }
  /// For programs only.
  void hide(std::string key, Value value) { add(std::move(key), "", std::move(value)); }

 private:
  std::vector<HeaderFact>& out_;
};
inline Value text_or_none(std::string text) { return text.empty() ? Value() : Value(std::move(text)); }

Header read_game_boy(ByteView rom);
Header read_gba(ByteView rom);
Header read_snes(ByteView rom);
Header read_megadrive(ByteView rom);
Header read_n64(ByteView rom);
Header read_nes(ByteView file);
Header read_master_system(ByteView rom);

/// Where the header stands, how sure that is, and what the place means.
struct SnesHeader {
  std::size_t at = 0;
  int score = 0;
  std::string_view layout;
};
inline constexpr int kSnesScore = 7;  ///< from which on the header is one
/// The best candidate; nothing if the ROM is too short for any. `read` gives bytes of the ROM, as many as there are.
using ReadRom = std::function<Bytes(std::uint64_t at, std::size_t n)>;
std::optional<SnesHeader> find_snes_header(std::uint64_t rom_bytes, const ReadRom& read);
std::uint32_t snes_checksum(ByteView rom);

/// Offset of the mark; nothing if there is none.
std::optional<std::size_t> find_sega_mark(ByteView rom);

/// The areas of an NES file, as far as its header can be believed.
struct NesAreas {
  std::uint64_t trainer = 0, program = 0, character = 0;
  unsigned further = 0;  ///< areas without a size
  bool archaic = false, v2 = false, too_large = false;
};
inline constexpr std::size_t kNesHeader = kNesHeaderBytes, kNesTrainer = 512;
NesAreas nes_areas(ByteView file);

/// A checksum over the whole ROM is there, and right.
bool checksum_is_right(const Machine& machine, ByteView rom);

}  // namespace opifex::rom
