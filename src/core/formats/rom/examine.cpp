#include <algorithm>

#include "opifex/core/base/text.hpp"

#include "fields.hpp"

namespace opifex::rom {
namespace {

struct Reader {
  std::string_view machine;
  Header (*read)(ByteView rom);
};
constexpr Reader kReaders[] = {{"gb", &read_game_boy}, {"gbc", &read_game_boy},        {"gba", &read_gba},
                               {"snes", &read_snes},   {"megadrive", &read_megadrive}, {"n64", &read_n64},
                               {"nes", &read_nes},     {"sms", &read_master_system},   {"gg", &read_master_system}};

}  // namespace

Header read_header(const Machine& machine, ByteView rom) {
  for (const Reader& reader : kReaders)
    if (reader.machine == machine.id) return reader.read(rom);
  return {};
}

bool checksum_is_right(const Machine& machine, ByteView rom) {
  const Header header = read_header(machine, rom);
  return std::any_of(header.checks.begin(), header.checks.end(),
                     [](const Checksum& c) { return c.whole && c.state == SumState::right; });
}

std::uint64_t most_file_bytes() {
  std::uint64_t most = 0;
  for (const Machine& machine : machines()) most = std::max(most, machine.most_bytes);
  return most + kCopierHeader;
}

Bytes read_file(const ByteSource& file) {
  if (file.size() > most_file_bytes())
    throw Error({.code = "too_large",
                 .what = "this is larger than any cartridge",
                 .file = file.name(),
                 .found = fmt::format("{} bytes", file.size()),
                 .expected = fmt::format("at most {}", most_file_bytes())});
  return read_up_to(file, 0, static_cast<std::size_t>(file.size()));
}

Bytes read_rom(const ByteSource& file, const Container& container) {
  // An NES file is judged with its header: the sizes of its areas stand there.
  if (container.is_plain() || container.header_bytes == kNesHeader) return read_file(file);
  return unpacked(read_file(file), container);
}

Examined examine(const Machine* machine, const Container& container, ByteView rom) {
  Examined all;
  all.machine = machine;
  all.container = container;
  all.rom_bytes = rom.size();
  all.faults = read_faults(machine, rom);
  if (!machine) return all;
  all.header = read_header(*machine, rom);
  all.size = judge_size(*machine, rom, all.header);
  all.right_at_true_size = all.size.status == SizeStatus::trimmed ||
                           (all.size.can_be_trimmed() && *all.size.true_bytes < rom.size() &&
                            checksum_is_right(*machine, rom.first(static_cast<std::size_t>(*all.size.true_bytes))));
  return all;
}

ByteView rom_alone(const Examined& rom, ByteView bytes) {
  return rom.container.header_bytes == kNesHeader ? bytes.subspan(std::min(bytes.size(), kNesHeader)) : bytes;
}

namespace {

std::optional<Problem> size_problem(const Examined& rom) {
  const SizeVerdict& v = rom.size;
  const std::string chip = v.true_bytes ? human_size(*v.true_bytes) : "", code(to_string(v.status));
  switch (v.status) {
    case SizeStatus::exact:
    case SizeStatus::plausible:
    case SizeStatus::larger_than_declared:
      return std::nullopt;
    case SizeStatus::mirrored:
      if (rom.is_confirmed()) return std::nullopt;
      return Problem{code, fmt::format("both halves are alike: a bad contact, or the chip has {}", chip)};
    case SizeStatus::overdump:
      return Problem{code, fmt::format("it was read too far: the chip has {}", chip)};
    case SizeStatus::possible_overdump:
      return Problem{code, fmt::format("perhaps it was read too far: the chip may have {}", chip)};
    case SizeStatus::oversize:
      return Problem{code, "it is longer than the header says, and all of it is data"};
    case SizeStatus::trimmed:
      return Problem{code, fmt::format("its end was cut off: the chip has {}", chip)};
    case SizeStatus::underdump:
      return Problem{code, fmt::format("it is too short: the chip has {}", chip)};
    case SizeStatus::odd_size:
      return Problem{code, "no chip has this size: it was cut off, or trimmed"};
    case SizeStatus::unknown:
      return Problem{code, "nothing tells what size it should have"};
  }
  return std::nullopt;
}

}  // namespace

std::vector<Problem> problems_of(const Examined& rom) {
  std::vector<Problem> problems;
  for (const std::string& fault : rom.faults) {
    const std::string text = fault_text(fault, rom.machine);
    problems.push_back({fault, text.substr(0, text.find(';'))});
  }
  if (!rom.machine || rom.is_blank()) return problems;
  for (const Checksum& sum : rom.header.checks)
    if (sum.state == SumState::wrong && !(sum.whole && rom.right_at_true_size))
      problems.push_back({sum.key, sum.name + " is wrong"});
  if (auto size = size_problem(rom)) problems.push_back(std::move(*size));
  return problems;
}

bool Examined::is_confirmed() const {
  return std::any_of(header.checks.begin(), header.checks.end(),
                     [](const Checksum& c) { return c.whole && c.state == SumState::right; });
}

}  // namespace opifex::rom
