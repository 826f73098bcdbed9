#include "opifex/core/formats/rom/systems.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/bytes.hpp"

namespace opifex::rom {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kCopierHeader = 512;
constexpr std::uint64_t kLargest = 64 << 20, kSmallest = 0xC0;

unsigned byte_at(ByteView bytes, std::size_t at) { return std::to_integer<unsigned>(bytes[at]); }

std::optional<System> nes(const ByteSource& file) {
  if (as_text(read_up_to(file, 0, 4)) != "NES\x1A"sv) return std::nullopt;
  return System{"nes", "the header of an NES image", 32};
}

/// The first word in each of the three byte orders.
std::optional<System> n64(const ByteSource& file) {
  const Bytes head = read_up_to(file, 0, 4);
  if (head.size() < 4) return std::nullopt;
  const std::uint32_t word = load_be32(head, 0);
  if (word == 0x80371240) return System{"n64", "the first word, big-endian", 32};
  if (word == 0x37804012) return System{"n64", "the first word, bytes swapped in pairs", 32};
  if (word == 0x40123780) return System{"n64", "the first word, little-endian", 32};
  return std::nullopt;
}

std::optional<System> gba(const ByteSource& file) {
  constexpr std::size_t kBranch = 3, kFrom = 0xA0, kFixed = 0xB2, kSum = 0xBD;
  const Bytes head = read_up_to(file, 0, kSum + 1);
  if (head.size() <= kSum || byte_at(head, kFixed) != 0x96 || byte_at(head, kBranch) != 0xEA) return std::nullopt;
  unsigned sum = 0x19;
  for (std::size_t i = kFrom; i < kSum; ++i) sum += byte_at(head, i);
  if (((0 - sum) & 0xFF) != byte_at(head, kSum)) return std::nullopt;
  return System{"gba", "a header whose checksum is right", 24};
}

std::optional<System> megadrive(const ByteSource& file) {
  constexpr std::uint64_t kName = 0x100;
  const Bytes name = read_up_to(file, kName, 5);
  const std::string_view text = as_text(name);
  // Discs for the CD unit carry the same name behind their boot sector.
  if (as_text(read_up_to(file, 0, 4)) == "SEGA"sv) return std::nullopt;
  if (text.starts_with("SEGA") || text.ends_with("SEGA")) return System{"megadrive", "the system's name at 0x100", 32};
  // Interleaved, behind a copier's header: the odd bytes come first.
  constexpr std::uint64_t kBlock = 16384;
  const Bytes head = read_up_to(file, 0, 10);
  if (file.size() % kBlock != kCopierHeader || head.size() < 10) return std::nullopt;
  if (byte_at(head, 8) != 0xAA || byte_at(head, 9) != 0xBB) return std::nullopt;
  return System{"megadrive", "a copier's header in front of interleaved blocks", 24};
}

std::uint64_t copier_header_of(const ByteSource& file) {
  return file.size() % 1024 == kCopierHeader ? kCopierHeader : 0;
}

std::optional<System> master_system(const ByteSource& file) {
  const std::uint64_t skip = copier_header_of(file);
  for (const std::uint64_t at : {0x7FF0u, 0x3FF0u, 0x1FF0u}) {
    const Bytes head = read_up_to(file, skip + at, 16);
    if (head.size() < 16 || !as_text(head).starts_with("TMR SEGA")) continue;
    constexpr std::size_t kRegion = 15;
    constexpr unsigned kFirstGameGear = 5, kLastGameGear = 7;
    const unsigned region = byte_at(head, kRegion) >> 4;
    const bool game_gear = region >= kFirstGameGear && region <= kLastGameGear;
    return System{game_gear ? "gg"sv : "sms"sv, "the mark of its header", 64};
  }
  return std::nullopt;
}

std::optional<System> game_boy(const ByteSource& file) {
  constexpr std::size_t kHeader = 0x134, kColour = 0x143 - kHeader, kType = 0x147 - kHeader, kRomSize = 0x148 - kHeader,
                        kRamSize = 0x149 - kHeader, kSum = 0x14D - kHeader;
  constexpr std::string_view kTypes =
      "\x00\x01\x02\x03\x05\x06\x08\x09\x0B\x0C\x0D\x0F\x10\x11\x12\x13\x19\x1A\x1B\x1C\x1D\x1E\x20\x22\xFC\xFD\xFE\xFF"sv;
  constexpr unsigned kMostRam = 5;
  const Bytes head = read_up_to(file, kHeader, kSum + 1);
  if (head.size() <= kSum || file.size() % 256 != 0) return std::nullopt;
  // One byte of checksum is little: the codes beside it have to be known as well.
  if (kTypes.find(as_text(head)[kType]) == std::string_view::npos || byte_at(head, kRamSize) > kMostRam)
    return std::nullopt;
  unsigned sum = 0;
  for (std::size_t i = 0; i < kSum; ++i) sum = (sum - byte_at(head, i) - 1) & 0xFF;
  const unsigned size = byte_at(head, kRomSize);
  const bool known_size = size <= 8 || (size >= 0x52 && size <= 0x54);
  if (sum != byte_at(head, kSum) || !known_size || file.size() < 0x150) return std::nullopt;
  const bool colour = (byte_at(head, kColour) & 0x80) != 0;
  return System{colour ? "gbc"sv : "gb"sv, "a header whose checksum is right", 20};
}

/// Checksum and complement, and a map mode that fits the place of the header.
std::optional<System> snes(const ByteSource& file) {
  struct Place {
    std::uint64_t at;
    std::array<unsigned, 6> modes;
  };
  constexpr std::array kPlaces = {
      Place{0x7FC0, {0x20, 0x30, 0x22, 0x32, 0x23, 0x33}}, Place{0xFFC0, {0x21, 0x31, 0x2A, 0x3A, 0x21, 0x31}},
      Place{0x407FC0, {0x20, 0x30, 0x22, 0x32, 0x20, 0x30}}, Place{0x40FFC0, {0x25, 0x35, 0x25, 0x35, 0x25, 0x35}}};
  const std::uint64_t skip = copier_header_of(file);
  for (const Place& place : kPlaces) {
    const Bytes head = read_up_to(file, skip + place.at, 0x20);
    if (head.size() < 0x20) continue;
    constexpr std::size_t kMode = 0x15, kRomSize = 0x17, kComplement = 0x1C, kSum = 0x1E;
    constexpr unsigned kLeastSize = 5, kMostSize = 13;  // 1 KiB shifted by it
    if (byte_at(head, kRomSize) < kLeastSize || byte_at(head, kRomSize) > kMostSize) continue;
    const unsigned sum = load_le16(head, kSum), complement = load_le16(head, kComplement);
    const bool fits = std::find(place.modes.begin(), place.modes.end(), byte_at(head, kMode)) != place.modes.end();
    if (fits && sum != 0 && sum != 0xFFFF && (sum ^ complement) == 0xFFFF)
      return System{"snes", "a header with checksum and complement", 24};
  }
  return std::nullopt;
}

}  // namespace

bool may_be_rom(std::uint64_t bytes) { return bytes >= kSmallest && bytes <= kLargest + kCopierHeader; }

std::optional<System> detect_system(const ByteSource& file) {
  if (!may_be_rom(file.size())) return std::nullopt;
  for (const auto detect : {&nes, &n64, &gba, &megadrive, &master_system, &game_boy, &snes})
    if (const auto system = detect(file)) return system;
  return std::nullopt;
}

}  // namespace opifex::rom
