// Was the ROM read at its true size (shared facts: section 10).
#include <algorithm>
#include <array>
#include <bit>
#include <cstring>

#include "fields.hpp"

namespace opifex::rom {
namespace {

bool all_are(ByteView v, unsigned value) {
  return !v.empty() && std::to_integer<unsigned>(v.front()) == value &&
         std::memcmp(v.data(), v.data() + 1, v.size() - 1) == 0;
}
bool all_alike(ByteView v) { return v.empty() || all_are(v, std::to_integer<unsigned>(v.front())); }

bool halves_alike(ByteView v) {
  const std::size_t half = v.size() / 2;
  return v.size() % 2 == 0 && half > 0 && std::memcmp(v.data(), v.data() + half, half) == 0;
}

/// Halved as long as both halves are equal and no smaller than a chip.
std::uint64_t reduced(ByteView v, std::uint64_t unit) {
  while (v.size() / 2 >= unit && halves_alike(v)) v = v.first(v.size() / 2);
  return v.size();
}

/// Every byte from `period` on repeats the one so far before it.
bool repeats(ByteView v, std::uint64_t period) {
  return std::memcmp(v.data(), v.data() + period, v.size() - period) == 0;
}

constexpr std::array kFills = {std::pair(0xFFu, Filler::ff), std::pair(0x00u, Filler::zero)};

SizeVerdict verdict(SizeStatus status, std::optional<std::uint64_t> bytes, Filler filler = Filler::none) {
  return {status, filler, bytes, filler == Filler::none ? "" : std::string(to_string(filler))};
}

/// What stands behind `size`, if it is no data.
Filler filler_behind(ByteView rom, std::uint64_t size) {
  if (repeats(rom, size)) return Filler::mirror;
  if (all_are(rom.subspan(size), 0xFF)) return Filler::ff;
  return all_are(rom.subspan(size), 0) ? Filler::zero : Filler::none;
}

SizeVerdict longer(const Machine& machine, ByteView rom, std::uint64_t declared) {
  const Filler filler = filler_behind(rom, declared);
  if (filler != Filler::none) return verdict(SizeStatus::overdump, declared, filler);
  if (machine.copier_header && machine.id != "snes") return verdict(SizeStatus::larger_than_declared, rom.size());
  return verdict(SizeStatus::oversize, std::nullopt);
}

SizeVerdict shorter(const Machine& machine, ByteView rom, std::uint64_t declared) {
  Bytes padded(rom.begin(), rom.end());
  for (const auto& [value, filler] : kFills) {
    padded.resize(rom.size());
    padded.resize(declared, static_cast<std::byte>(value));
    if (checksum_is_right(machine, padded)) return verdict(SizeStatus::trimmed, declared, filler);
  }
  return verdict(SizeStatus::underdump, declared);
}

SizeVerdict as_declared(const Machine& machine, ByteView rom) {
  if (halves_alike(rom) && rom.size() / 2 >= machine.unit_bytes)
    return verdict(SizeStatus::mirrored, reduced(rom, machine.unit_bytes), Filler::mirror);
  return verdict(SizeStatus::exact, rom.size());
}

/// Sizes told are rounded up to a power of two: a chip of 3 MiB says 4.
SizeVerdict snes_size(const Machine& machine, ByteView rom, std::uint64_t declared) {
  if (rom.size() == declared) {
    const SizeVerdict plain = as_declared(machine, rom);
    if (plain.status != SizeStatus::exact) return plain;
    const ByteView upper = rom.subspan(rom.size() / 2);
    const std::uint64_t chip = reduced(upper, machine.unit_bytes);
    if (chip == upper.size() || all_alike(upper)) return plain;
    return verdict(SizeStatus::overdump, rom.size() / 2 + chip, Filler::tail_mirror);
  }
  if (rom.size() > declared) return longer(machine, rom, declared);
  if (rom.size() > declared / 2 && checksum_is_right(machine, rom)) return verdict(SizeStatus::exact, rom.size());
  return shorter(machine, rom, declared);
}

SizeVerdict nes_size(ByteView file, std::uint64_t declared) {
  constexpr std::uint64_t kProgramUnit = 16 << 10, kCharacterUnit = 8 << 10;
  const NesAreas areas = nes_areas(file);
  const ByteView chips = file.subspan(std::min<std::uint64_t>(file.size(), kNesHeader + areas.trainer));
  if (chips.size() < declared) return verdict(SizeStatus::underdump, declared);
  if (chips.size() > declared) {
    if (areas.further > 0) return verdict(SizeStatus::exact, chips.size());
    const Filler filler = filler_behind(chips, declared);
    if (filler != Filler::none) return verdict(SizeStatus::overdump, declared, filler);
    return verdict(SizeStatus::oversize, std::nullopt);
  }
  const std::uint64_t program = reduced(chips.first(areas.program), kProgramUnit),
                      character = reduced(chips.subspan(areas.program, areas.character), kCharacterUnit);
  if (program == areas.program && character == areas.character) return verdict(SizeStatus::exact, declared);
  SizeVerdict mirrored = verdict(SizeStatus::mirrored, program + character, Filler::mirror);
  mirrored.detail = fmt::format("prg {} chr {}", program, character);
  return mirrored;
}

/// Where reads past the chip give half the address; the size if they never do (shared facts: section 4).
std::uint64_t open_bus_from(ByteView rom) {
  std::uint64_t at = rom.size() / 2 * 2;
  while (at >= 2 && little16_at(rom, at - 2) == ((at - 2) / 2 & 0xFFFF)) at -= 2;
  return at;
}

std::uint64_t trailing_run(ByteView rom, unsigned value) {
  const auto last =
      std::find_if(rom.rbegin(), rom.rend(), [=](std::byte b) { return std::to_integer<unsigned>(b) != value; });
  return static_cast<std::uint64_t>(last - rom.rbegin());
}

SizeVerdict without_declared(const Machine& machine, ByteView rom) {
  constexpr std::uint64_t kLeastTail = 4096;
  if (machine.id == "gba") {
    const std::uint64_t end = open_bus_from(rom), chip = std::bit_ceil(std::max<std::uint64_t>(1, end));
    if (rom.size() - end >= kLeastTail && chip < rom.size())
      return verdict(SizeStatus::overdump, chip, Filler::open_bus);
  }
  if (const std::uint64_t chip = reduced(rom, machine.unit_bytes); chip < rom.size())
    return verdict(SizeStatus::overdump, chip, Filler::mirror);
  for (const auto& [value, filler] : kFills) {
    const std::uint64_t run = trailing_run(rom, value);
    if (run >= rom.size() / 2 && run > 0)
      return verdict(SizeStatus::possible_overdump, std::bit_ceil(std::max<std::uint64_t>(1, rom.size() - run)),
                     filler);
  }
  if (!std::has_single_bit(rom.size())) return verdict(SizeStatus::odd_size, std::nullopt);
  return verdict(SizeStatus::plausible, rom.size());
}

}  // namespace

std::string_view to_string(SizeStatus status) {
  switch (status) {
    case SizeStatus::exact:
      return "exact";
    case SizeStatus::mirrored:
      return "mirrored";
    case SizeStatus::overdump:
      return "overdump";
    case SizeStatus::larger_than_declared:
      return "larger-than-declared";
    case SizeStatus::oversize:
      return "oversize";
    case SizeStatus::trimmed:
      return "trimmed";
    case SizeStatus::underdump:
      return "underdump";
    case SizeStatus::possible_overdump:
      return "possible-overdump";
    case SizeStatus::odd_size:
      return "odd-size";
    case SizeStatus::plausible:
      return "plausible";
    case SizeStatus::unknown:
      break;
  }
  return "unknown";
}

std::string_view to_string(Filler filler) {
  switch (filler) {
    case Filler::none:
      return "";
    case Filler::mirror:
      return "mirror";
    case Filler::ff:
      return "fill-ff";
    case Filler::zero:
      return "fill-00";
    case Filler::tail_mirror:
      return "tail-mirror";
    case Filler::open_bus:
      return "open-bus";
  }
  return "";
}

SizeVerdict judge_size(const Machine& machine, ByteView rom, const Header& header) {
  if (rom.empty() || all_alike(rom)) return {};
  const auto declared = header.declared_bytes;
  if (machine.id == "nes") return declared ? nes_size(rom, *declared) : SizeVerdict{};
  if (!declared || *declared == 0) return without_declared(machine, rom);
  if (machine.id == "snes") return snes_size(machine, rom, *declared);
  if (rom.size() == *declared) return as_declared(machine, rom);
  return rom.size() > *declared ? longer(machine, rom, *declared) : shorter(machine, rom, *declared);
}

}  // namespace opifex::rom
