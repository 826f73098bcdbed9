#include "opifex/core/formats/rom/container.hpp"

#include <algorithm>

#include "fields.hpp"

namespace opifex::rom {
namespace {

constexpr std::uint64_t kCopierUnit = 1024;
constexpr std::size_t kHalf = kInterleaveBlock / 2, kWord = 4;

/// Marks of an interleaved file: bytes 8 and 9 of the copier's header.
constexpr std::size_t kMarkAt = 8, kKindAt = 10, kCountAt = 0, kFixedAt = 1, kFlagsAt = 2;
constexpr unsigned kMark1 = 0xAA, kMark2 = 0xBB, kIsRom = 6, kFixed = 3, kMoreParts = 0x40;

/// `SEGA` at 0x100 or 0x101 of the ROM, read where the first block of an interleaved file has those bytes.
bool names_its_system(const ByteSource& file) {
  constexpr std::size_t kPair = 0x100 / 2;
  const Bytes odd = read_up_to(file, kCopierHeader + kPair, 3),
              even = read_up_to(file, kCopierHeader + kHalf + kPair, 3);
  if (odd.size() < 3 || even.size() < 3) return false;
  std::string name;
  for (std::size_t i = 0; i < 3; ++i) {
    name += static_cast<char>(even[i]);
    name += static_cast<char>(odd[i]);
  }
  return name.starts_with("SEGA") || name.substr(1).starts_with("SEGA");
}

Container interleaved_of(const ByteSource& file) {
  if (file.size() % kInterleaveBlock != kCopierHeader) return {};
  const Bytes head = read_up_to(file, 0, kCopierHeader);
  const bool marked = byte_at(head, kMarkAt) == kMark1 && byte_at(head, kMarkAt + 1) == kMark2;
  if (!marked && !names_its_system(file)) return {};
  return {
      .header_bytes = kCopierHeader, .interleaved = true, .more_parts = (byte_at(head, kFlagsAt) & kMoreParts) != 0};
}

ByteOrder order_of(const ByteSource& file) {
  const Bytes head = read_up_to(file, 0, kWord);
  if (head.size() < kWord) return ByteOrder::big;
  constexpr std::uint32_t kSwapped = 0x37804012, kLittle = 0x40123780;
  const std::uint32_t word = load_be32(head, 0);
  return word == kSwapped ? ByteOrder::swapped : word == kLittle ? ByteOrder::little : ByteOrder::big;
}

/// Each way is its own inverse. A rest below a word stays as it is.
void reorder(std::span<std::byte> rom, ByteOrder order) {
  if (order == ByteOrder::big) return;
  for (std::size_t i = 0; i + kWord <= rom.size(); i += kWord) {
    if (order == ByteOrder::little) std::swap(rom[i], rom[i + 3]), std::swap(rom[i + 1], rom[i + 2]);
    if (order == ByteOrder::swapped) std::swap(rom[i], rom[i + 1]), std::swap(rom[i + 2], rom[i + 3]);
  }
}

[[noreturn]] void refuse_size(std::uint64_t bytes, std::size_t unit) {
  throw Error({.code = "odd_size",
               .what = "a ROM of this size does not fit what it should be packed in",
               .found = fmt::format("{} bytes", bytes),
               .expected = fmt::format("a multiple of {}", unit),
               .hint = "pad it first: <pad>"});
}

}  // namespace

std::string_view to_string(ByteOrder order) {
  return order == ByteOrder::big ? "big" : order == ByteOrder::swapped ? "swapped" : "little";
}

Container container_of(const ByteSource& file, const Machine* machine) {
  if (!machine) return {};
  if (machine->id == "nes") {
    const bool has = as_text(read_up_to(file, 0, 4)) == std::string_view("NES\x1A");
    return {.header_bytes = has ? kNesHeader : 0};
  }
  if (machine->id == "megadrive") return interleaved_of(file);
  if (machine->id == "n64") return {.order = order_of(file)};
  if (machine->copier_header && file.size() % kCopierUnit == kCopierHeader) return {.header_bytes = kCopierHeader};
  return {};
}

Bytes unpacked(ByteView file, const Container& container) {
  const ByteView inside = file.subspan(std::min(file.size(), container.header_bytes));
  Bytes rom(inside.begin(), inside.end());
  if (container.interleaved)
    for (std::size_t at = 0; at + kInterleaveBlock <= rom.size(); at += kInterleaveBlock)
      for (std::size_t i = 0; i < kHalf; ++i) {
        rom[at + 2 * i + 1] = inside[at + i];
        rom[at + 2 * i] = inside[at + kHalf + i];
      }
  reorder(rom, container.order);
  return rom;
}

Bytes packed(ByteView rom, const Container& container, ByteView header) {
  if (container.interleaved && rom.size() % kInterleaveBlock != 0) refuse_size(rom.size(), kInterleaveBlock);
  if (container.order != ByteOrder::big && rom.size() % kWord != 0) refuse_size(rom.size(), kWord);
  Bytes file(header.begin(), header.end());
  file.resize(container.header_bytes);
  file.insert(file.end(), rom.begin(), rom.end());
  const std::span<std::byte> inside = std::span(file).subspan(container.header_bytes);
  if (container.interleaved)
    for (std::size_t at = 0; at < rom.size(); at += kInterleaveBlock)
      for (std::size_t i = 0; i < kHalf; ++i) {
        inside[at + i] = rom[at + 2 * i + 1];
        inside[at + kHalf + i] = rom[at + 2 * i];
      }
  reorder(inside, container.order);
  return file;
}

Bytes copier_header(std::uint64_t rom_bytes, const Container& container, const Machine& machine) {
  Bytes header(kCopierHeader);
  Fields fields(header);
  if (!container.interleaved) {
    // In units of 8 KiB, as most copiers of the one machine have it; those of the others leave all of it empty.
    if (machine.id == "snes") fields.le(0, rom_bytes / 8192, 2);
    return header;
  }
  fields.byte(kCountAt, static_cast<unsigned>(rom_bytes / kInterleaveBlock & 0xFF));
  fields.byte(kFixedAt, kFixed);
  fields.byte(kMarkAt, kMark1);
  fields.byte(kMarkAt + 1, kMark2);
  fields.byte(kKindAt, kIsRom);
  return header;
}

}  // namespace opifex::rom
