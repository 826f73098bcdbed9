#include "opifex/core/dump/sim_cartridge.hpp"

#include <algorithm>
#include <bit>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/ocr1.hpp"

namespace opifex::dump {

std::uint64_t count_of(const ReaderFault& fault) {
  const auto n = ocr1::parse_number(fault.value);
  if (!n)
    throw Error({.code = "bad_simulation",
                 .what = fmt::format("the simulated reader's fault {} takes a number", fault.name),
                 .found = printable(fault.value)});
  return *n;
}

namespace {

/// "5=0.001": a line and how often.
std::pair<unsigned, double> rate_of(const ReaderFault& fault) {
  const auto equals = fault.value.find('=');
  const auto line = ocr1::parse_number(std::string_view(fault.value).substr(0, equals));
  double rate = -1;
  if (equals != std::string::npos) {
    // strtod stops where the number ends: what is left over is a mistake.
    const std::string text = fault.value.substr(equals + 1);
    char* end = nullptr;
    rate = std::strtod(text.c_str(), &end);
    if (end != text.c_str() + text.size() || text.empty()) rate = -1;
  }
  if (!line || *line > 31 || !(rate >= 0 && rate <= 1))
    throw Error({.code = "bad_simulation",
                 .what = fmt::format("the simulated reader's fault {} takes LINE=RATE", fault.name),
                 .found = printable(fault.value),
                 .expected = "a line from 0 to 31, and a share from 0 to 1"});
  return {*line, rate};
}

}  // namespace

bool SimCartridge::take_fault(const ReaderFault& fault) {
  const std::string& name = fault.name;
  if (name == "dirty") {
    dirty_.push_back(rate_of(fault));
  } else if (name == "dirty-address") {
    dirty_address_.push_back(rate_of(fault));
  } else if (name == "stuck-data") {
    const auto [line, level] = rate_of(fault);
    stuck_data_.emplace_back(line, level >= 0.5 ? 1U : 0U);
  } else if (name == "stuck-address") {
    stuck_address_.push_back(static_cast<unsigned>(count_of(fault) & 31));
  } else if (name == "no-contact") {
    no_contact_ = true;
  } else if (name == "dead-battery") {
    dead_battery_ = true;
  } else if (name == "verify") {
    unwritable_ = static_cast<std::uint32_t>(count_of(fault));
  } else {
    return false;
  }
  return true;
}

std::uint64_t SimCartridge::random() {
  // splitmix64: the same seed, the same errors
  std::uint64_t z = state_ += 0x9E3779B97F4A7C15u;
  z = (z ^ z >> 30) * 0xBF58476D1CE4E5B9u;
  z = (z ^ z >> 27) * 0x94D049BB133111EBu;
  return z ^ z >> 31;
}
double SimCartridge::chance() { return static_cast<double>(random() >> 11) * 0x1p-53; }

void SimCartridge::clean() {
  dirty_.clear();
  dirty_address_.clear();
  no_contact_ = false;
}

void SimCartridge::exchange() {
  if (setup_.other.empty())
    for (std::byte& b : setup_.rom) b = ~b;
  else
    setup_.rom = setup_.other;
  for (std::byte& b : setup_.save) b = ~b;
}

void SimCartridge::note_bus(std::string_view bus, std::string_view mapper) {
  own_bus_ = bus == setup_.bus;
  own_mapper_ = setup_.mapper.empty() || setup_.mapper == mapper;
  wide_ = bus == "md" || bus == "n64" || bus == "gba";
  high_first_ = bus != "gba";
}

/// Where the address that is asked for ends up: a line without contact reads as 0.
std::uint32_t SimCartridge::wired(std::uint32_t at) {
  for (const unsigned line : stuck_address_) at &= ~(std::uint32_t{1} << line);
  for (const auto& [line, rate] : dirty_address_)
    if (chance() < rate) at &= ~(std::uint32_t{1} << line);
  return at;
}

unsigned SimCartridge::spoiled(unsigned byte, Space space, std::uint32_t at) {
  // On a bus of 16 bits a line is in every other byte.
  const bool wide = space == Space::rom && wide_, high_first = high_first_;
  const unsigned shift = !wide ? 0 : (at % 2 == 0) == high_first ? 8 : 0;
  const auto mask_of = [&](unsigned line) { return line >= shift && line < shift + 8 ? 1u << (line - shift) : 0u; };
  for (const auto& [line, level] : stuck_data_) byte = level == 1 ? byte | mask_of(line) : byte & ~mask_of(line);
  for (const auto& [line, rate] : dirty_)
    if (mask_of(line) != 0 && chance() < rate) byte ^= mask_of(line);
  return no_contact_ ? 0xFF : byte & 0xFF;
}

/// Of a cartridge with character RAM nothing that was ever written.
std::byte SimCartridge::character_byte(std::uint32_t place, std::uint32_t at) {
  constexpr std::uint32_t kFirstBank = 0x2000;
  if (!own_bus_ || setup_.character.empty()) return static_cast<std::byte>(0xFF);
  if (!own_mapper_) place %= kFirstBank;
  return static_cast<std::byte>(
      spoiled(std::to_integer<unsigned>(setup_.character[place % setup_.character.size()]), Space::chr, at));
}

std::byte SimCartridge::byte_of(Space space, std::uint32_t at) {
  const std::uint32_t place = wired(at);
  if (space == Space::ram) {
    if (setup_.save.empty() || dead_battery_) return static_cast<std::byte>(spoiled(0, space, at));
    return static_cast<std::byte>(
        spoiled(std::to_integer<unsigned>(setup_.save[place % setup_.save.size()]), space, at));
  }
  if (space == Space::chr) return character_byte(place, at);
  if (space == Space::rtc) return setup_.clock[at % setup_.clock.size()];
  return rom_byte(place, at);
}

std::byte SimCartridge::rom_byte(std::uint32_t place, std::uint32_t at) {
  if (!own_bus_ || setup_.rom.empty()) return static_cast<std::byte>(0xFF);
  // Told another mapper than it has, a reader sees the first banks over and over.
  constexpr std::uint32_t kFirstBanks = 0x8000;
  const std::uint32_t shown = own_mapper_ ? place : place % kFirstBanks;
  unsigned byte = 0xFF;
  if (shown != place)
    byte = std::to_integer<unsigned>(setup_.rom[shown % setup_.rom.size()]);
  else if (place < setup_.rom.size())
    byte = std::to_integer<unsigned>(setup_.rom[place]);
  else if (wide_ && !high_first_)  // of a GBA half of the address comes back
    byte = (place / 2 >> (place % 2 == 0 ? 0 : 8)) & 0xFF;
  else if (std::has_single_bit(setup_.rom.size()))
    byte = std::to_integer<unsigned>(setup_.rom[place % setup_.rom.size()]);
  return static_cast<std::byte>(spoiled(byte, Space::rom, at));
}

void SimCartridge::write_save(std::uint32_t at, std::byte byte) {
  if (unwritable_ == at) return;
  setup_.save[wired(at) % setup_.save.size()] =
      static_cast<std::byte>(spoiled(std::to_integer<unsigned>(byte), Space::ram, at));
}

}  // namespace opifex::dump
