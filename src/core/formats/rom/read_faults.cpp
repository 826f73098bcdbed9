// Bad contacts, as far as one reading shows them (shared facts: sections 11 and 12).
#include <algorithm>
#include <array>
#include <bit>
#include <cstring>

#include "opifex/core/base/text.hpp"

#include "fields.hpp"

namespace opifex::rom {
namespace {

constexpr std::size_t kLeastBytes = 1024;

/// Every bit that is set in all words, and every one that is set in any.
struct BitUse {
  std::uint32_t always, ever;
};

BitUse bits_used(ByteView rom, BusOrder bus) {
  const std::size_t lanes = bus == BusOrder::bytes ? 1 : 2, whole = rom.size() / lanes * lanes;
  constexpr std::size_t kWord = 8;
  std::uint64_t all = ~std::uint64_t{0}, any = 0;
  std::size_t at = 0;
  for (; at + kWord <= whole; at += kWord) {
    const std::uint64_t word = load_le64(rom, at);
    all &= word;
    any |= word;
  }
  std::array<std::uint32_t, 2> always = {0xFF, 0xFF}, ever = {0, 0};
  const auto note = [&](std::size_t place, std::uint64_t all_bits, std::uint64_t any_bits) {
    always[place % lanes] &= static_cast<std::uint32_t>(all_bits & 0xFF);
    ever[place % lanes] |= static_cast<std::uint32_t>(any_bits & 0xFF);
  };
  if (at > 0)
    for (std::size_t i = 0; i < kWord; ++i) note(i, all >> 8 * i, any >> 8 * i);
  for (; at < whole; ++at) note(at, std::to_integer<std::uint64_t>(rom[at]), std::to_integer<std::uint64_t>(rom[at]));
  if (lanes == 1) return {always[0], ever[0]};
  const std::size_t high = bus == BusOrder::big ? 0 : 1, low = 1 - high;
  return {always[high] << 8 | always[low], ever[high] << 8 | ever[low]};
}

/// What is read at an address does not depend on this bit of it.
bool ignores_address_bit(ByteView rom, unsigned bit) {
  const std::size_t step = std::size_t{1} << bit, both = 2 * step, whole = rom.size() / both * both;
  if (whole == 0) return false;
  for (std::size_t at = 0; at < whole; at += both)
    if (std::memcmp(&rom[at], &rom[at + step], step) != 0) return false;
  return true;
}

void find_data_bits(ByteView rom, BusOrder bus, std::vector<std::string>& faults) {
  const BitUse use = bits_used(rom, bus);
  const unsigned width = bus == BusOrder::bytes ? 8 : 16;
  for (unsigned bit = 0; bit < width; ++bit) {
    if ((use.always >> bit & 1) != 0) faults.push_back(fmt::format("data-bit-high:{}", bit));
    if ((use.ever >> bit & 1) == 0) faults.push_back(fmt::format("data-bit-low:{}", bit));
  }
}

void find_address_bits(ByteView rom, BusOrder bus, std::vector<std::string>& faults) {
  const unsigned first = bus == BusOrder::bytes ? 0 : 1, end = static_cast<unsigned>(std::bit_width(rom.size() - 1));
  unsigned top = end;
  // From the top down that is a mirror, and the size says so.
  if (std::has_single_bit(rom.size()))
    while (top > first && ignores_address_bit(rom, top - 1)) --top;
  for (unsigned bit = first; bit < top; ++bit)
    if (ignores_address_bit(rom, bit)) faults.push_back(fmt::format("address-bit:{}", bit));
}

/// Of an NES file the program's chip alone.
ByteView judged_part(const Machine* machine, ByteView rom) {
  if (!machine || machine->id != "nes") return rom;
  const NesAreas areas = nes_areas(rom);
  return field(rom, kNesHeader + areas.trainer, areas.program);
}

unsigned number_of(const std::string& fault) {
  unsigned n = 0;
  for (const char c : fault.substr(fault.find(':') + 1)) n = n * 10 + static_cast<unsigned>(c - '0');
  return n;
}

}  // namespace

std::vector<std::string> read_faults(const Machine* machine, ByteView whole) {
  const BusOrder bus = machine ? machine->bus : BusOrder::bytes;
  const ByteView rom = judged_part(machine, whole);
  if (rom.empty()) return {};
  if (std::memcmp(rom.data(), rom.data() + 1, rom.size() - 1) == 0) {
    const unsigned value = byte_at(rom, 0);
    if (value == 0xFF) return {"all-ff"};
    return {value == 0 ? "all-00" : fmt::format("all-same:{:02X}", value)};
  }
  std::vector<std::string> faults;
  if (rom.size() < kLeastBytes) return faults;
  find_data_bits(rom, bus, faults);
  find_address_bits(rom, bus, faults);
  return faults;
}

std::string fault_text(const std::string& fault, const Machine* machine) {
  constexpr std::string_view kClean =
      "switch off, clean the contacts with isopropyl alcohol, let them dry and read again";
  if (fault == "all-ff") return fmt::format("every byte is FF: no cartridge, or no contact at all; {}", kClean);
  if (fault == "all-00") return fmt::format("every byte is 00: not connected, or a short circuit; {}", kClean);
  if (fault.starts_with("all-same"))
    return fmt::format("every byte is {}: the data lines do not reach the chip; {}", fault.substr(9), kClean);
  const unsigned n = number_of(fault);
  if (fault.starts_with("data-bit-high"))
    return fmt::format("data line D{} is 1 in every {}: its contact is dirty or broken; {}", n,
                       machine && machine->bus != BusOrder::bytes ? "word" : "byte", kClean);
  if (fault.starts_with("data-bit-low"))
    return fmt::format("data line D{} is 0 in every {}: its contact is dirty or shorted; {}", n,
                       machine && machine->bus != BusOrder::bytes ? "word" : "byte", kClean);
  const unsigned line = machine && machine->bus != BusOrder::bytes ? n - 1 : n;
  return fmt::format(
      "address line A{} has no effect: what lies {} apart is the same everywhere; its contact is dirty or broken; {}",
      line, human_size(std::uint64_t{1} << n), kClean);
}

Repeats compare_reads(const Machine* machine, const std::vector<Bytes>& reads) {
  Repeats result;
  result.reads = reads.size();
  for (const Bytes& read : reads)
    if (read.size() != reads.front().size())
      throw Error({.code = "other_length",
                   .what = "the readings differ in length: they cannot be compared byte by byte",
                   .found = fmt::format("{} and {} bytes", reads.front().size(), read.size())});
  if (reads.size() < 2) return result;
  constexpr std::size_t kMostOffsets = 8;
  const BusOrder bus = machine ? machine->bus : BusOrder::bytes;
  const auto shift = [&](std::size_t at) {
    if (bus == BusOrder::bytes) return 0;
    return (at % 2 == 0) == (bus == BusOrder::big) ? 8 : 0;
  };
  std::uint64_t ones = ~std::uint64_t{0}, zeros = ~std::uint64_t{0};
  for (std::size_t at = 0; at < reads.front().size(); ++at) {
    unsigned differing = 0;
    for (const Bytes& read : reads) differing |= byte_at(read, at) ^ byte_at(reads.front(), at);
    if (differing == 0) continue;
    ++result.differing_bytes;
    result.bit_mask |= differing << shift(at);
    ones &= at;
    zeros &= ~std::uint64_t{at};
    if (result.first_offsets.size() < kMostOffsets) result.first_offsets.push_back(at);
  }
  const auto bits = static_cast<unsigned>(std::bit_width(reads.front().size() - (reads.front().empty() ? 0 : 1)));
  for (unsigned bit = 0; result.differing_bytes > 0 && bit < bits; ++bit) {
    if ((ones >> bit & 1) != 0) result.address_bits_1.push_back(bit);
    if ((zeros >> bit & 1) != 0) result.address_bits_0.push_back(bit);
  }
  if (reads.size() >= 3 && reads.size() % 2 == 1) {
    Bytes voted(reads.front().size());
    for (std::size_t at = 0; at < voted.size(); ++at) {
      unsigned byte = 0;
      for (unsigned bit = 0; bit < 8; ++bit) {
        std::size_t votes = 0;
        for (const Bytes& read : reads) votes += byte_at(read, at) >> bit & 1;
        if (2 * votes > reads.size()) byte |= 1u << bit;
      }
      voted[at] = static_cast<std::byte>(byte);
    }
    result.majority = std::move(voted);
  }
  return result;
}

}  // namespace opifex::rom
