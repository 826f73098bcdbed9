#include "opifex/core/formats/rom/save.hpp"

#include <algorithm>
#include <array>
#include <bit>

#include <fmt/ranges.h>

#include "opifex/core/base/text.hpp"

namespace opifex::rom {
namespace {

bool all_alike(ByteView v) {
  return std::all_of(v.begin(), v.end(), [&](std::byte b) { return b == v.front(); });
}

/// Game Boy cartridges with a clock: 44 or 48 bytes behind the memory; Game Boy Advance: 16.
std::uint64_t clock_behind(std::uint64_t size) {
  for (const std::uint64_t clock : {48u, 44u, 16u})
    if (size > clock && std::has_single_bit(size - clock) && size - clock >= 512) return clock;
  return 0;
}

std::uint64_t without_repetition(ByteView v) {
  constexpr std::size_t kLeast = 512;
  while (v.size() % 2 == 0 && v.size() / 2 >= kLeast &&
         std::equal(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2),
                    v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2)))
    v = v.first(v.size() / 2);
  return v.size();
}

Bytes lane_of(ByteView v, std::size_t first) {
  Bytes lane;
  for (std::size_t i = first; i < v.size(); i += 2) lane.push_back(v[i]);
  return lane;
}

bool is_filler(ByteView v) { return all_alike(v) && (v.front() == std::byte{0xFF} || v.front() == std::byte{0}); }

/// The lane that holds something: the other one is filler, or a copy (then the odd one, as the machine has it).
SaveLane used_lane(ByteView v) {
  constexpr std::size_t kLeast = 16;
  if (v.size() < kLeast || v.size() % 2 != 0) return SaveLane::alone;
  const Bytes even = lane_of(v, 0), odd = lane_of(v, 1);
  if (all_alike(even) && all_alike(odd)) return SaveLane::alone;
  if (is_filler(even) || even == odd) return SaveLane::odd;
  return is_filler(odd) ? SaveLane::even : SaveLane::alone;
}

/// Both lanes, the other one filled.
Bytes spread(ByteView v, SaveLane lane, std::byte fill) {
  Bytes out(2 * v.size(), fill);
  for (std::size_t i = 0; i < v.size(); ++i) out[2 * i + (lane == SaveLane::odd ? 1 : 0)] = v[i];
  return out;
}

/// One that has both lanes, without the other one. Error if that holds something.
Bytes taken_out(ByteView v) {
  const SaveLane lane = used_lane(v);
  if (lane == SaveLane::alone)
    throw Error({.code = "save_data",
                 .what = "both lanes of the save hold data: none can be left out",
                 .found = bytes_text(v.size()),
                 .hint = "nothing was written"});
  return lane_of(v, lane == SaveLane::odd ? 1 : 0);
}

void hold_against_game(SaveFacts& facts) {
  const std::uint64_t wanted = *facts.wanted_bytes, have = facts.memory_bytes;
  if (wanted == 0) {
    facts.problems.push_back({"no_save", "by its header the game keeps no saves"});
  } else if (have < wanted) {
    facts.problems.push_back(
        {"save_short", fmt::format("it has {}, and the game keeps {}", human_size(have), human_size(wanted))});
  } else if (have > wanted) {
    const bool mirrored = facts.reduced_bytes <= wanted;
    facts.problems.push_back({mirrored ? "save_mirrored" : "save_long",
                              fmt::format("it has {}, and the game keeps {}{}", human_size(have), human_size(wanted),
                                          mirrored ? ": the rest only repeats it" : "")});
  }
}

void hold_against_machine(SaveFacts& facts, const Machine& machine, std::string_view extension) {
  const std::vector<std::uint64_t> usual = usual_save_sizes(machine, extension);
  if (std::find(usual.begin(), usual.end(), facts.reduced_bytes) != usual.end()) return;
  std::vector<std::string> sizes;
  for (const std::uint64_t bytes : usual) sizes.push_back(human_size(bytes));
  facts.problems.push_back({"save_other_size", fmt::format("no {} cartridge keeps {}: usual are {}", machine.name,
                                                           human_size(facts.reduced_bytes), fmt::join(sizes, ", "))});
}

}  // namespace

std::string_view to_string(SaveLane lane) {
  return lane == SaveLane::alone ? "one" : lane == SaveLane::odd ? "odd" : "even";
}

std::vector<std::uint64_t> usual_save_sizes(const Machine& machine, std::string_view extension) {
  struct Usual {
    std::string_view machine, extension;
    std::vector<std::uint64_t> bytes;
  };
  // Shared facts: cartridge dumps, section 13. Of one machine the kinds with an ending of their own come first.
  static const std::vector<Usual> kUsual = {{"n64", ".EEP", {512, 2048}},
                                            {"n64", ".SRA", {32 << 10}},
                                            {"n64", ".FLA", {128 << 10}},
                                            {"n64", ".MPK", {32 << 10}},
                                            {"n64", "", {512, 2048, 32 << 10, 128 << 10}},
                                            {"gb", "", {512, 2 << 10, 8 << 10, 32 << 10, 64 << 10, 128 << 10}},
                                            {"gbc", "", {512, 2 << 10, 8 << 10, 32 << 10, 64 << 10, 128 << 10}},
                                            {"gba", "", {512, 8 << 10, 32 << 10, 64 << 10, 128 << 10}},
                                            {"sms", "", {8 << 10, 16 << 10, 32 << 10}},
                                            {"gg", "", {8 << 10, 16 << 10, 32 << 10}}};
  for (const Usual& usual : kUsual)
    if (usual.machine == machine.id && (usual.extension.empty() || usual.extension == extension)) return usual.bytes;
  // The header of the others tells any power of two.
  std::vector<std::uint64_t> all;
  for (std::uint64_t bytes = 128; bytes <= 256 << 10; bytes *= 2) all.push_back(bytes);
  return all;
}

const Machine* machine_of_save(std::string_view extension) {
  static constexpr std::array<std::string_view, 4> kOfN64 = {".EEP", ".SRA", ".FLA", ".MPK"};
  return std::find(kOfN64.begin(), kOfN64.end(), extension) != kOfN64.end() ? find_machine("n64") : nullptr;
}

SaveFacts examine_save(ByteView save, const Header* game, const Machine* machine, std::string_view extension) {
  SaveFacts facts;
  facts.size_bytes = save.size();
  if (save.empty()) {
    facts.problems.push_back({"empty_file", "the file is empty"});
    return facts;
  }
  if (game) facts.wanted_bytes = game->save.bytes;
  facts.clock_bytes = clock_behind(save.size());
  facts.memory_bytes = save.size() - facts.clock_bytes;
  Bytes one_lane;
  ByteView memory = save.first(static_cast<std::size_t>(facts.memory_bytes));
  if (machine && machine->id == "megadrive") facts.lane = used_lane(memory);
  if (facts.lane != SaveLane::alone) {
    one_lane = taken_out(memory);
    memory = one_lane;
    facts.memory_bytes = memory.size();
  }
  facts.blank = all_alike(memory);
  facts.blank_value = std::to_integer<unsigned>(memory.front());
  facts.reduced_bytes = facts.blank ? facts.memory_bytes : without_repetition(memory);
  if (facts.blank)
    facts.problems.push_back(
        {"save_blank", fmt::format("every byte is {:02X}: nothing was ever saved, or the battery is "
                                   "empty",
                                   facts.blank_value)});
  if (facts.wanted_bytes)
    hold_against_game(facts);
  else if (!std::has_single_bit(facts.memory_bytes))
    facts.problems.push_back(
        {"save_odd_size", fmt::format("{} is the size of no save memory", bytes_text(save.size()))});
  else if (machine)
    hold_against_machine(facts, *machine, extension);
  if (!facts.wanted_bytes && facts.reduced_bytes < facts.memory_bytes)
    facts.problems.push_back({"save_mirrored", fmt::format("only the first {} are of their own, the rest repeats them",
                                                           human_size(facts.reduced_bytes))});
  return facts;
}

Bytes convert_save(ByteView save, const SaveForm& form) {
  const std::uint64_t clock = clock_behind(save.size());
  const ByteView stored = save.first(save.size() - static_cast<std::size_t>(clock)),
                 registers = save.subspan(stored.size());
  const bool both_lanes = form.lane && used_lane(stored) != SaveLane::alone;
  if (form.lane == SaveLane::alone && !both_lanes) taken_out(stored);  // says why there is none to leave out
  Bytes out = both_lanes ? taken_out(stored) : Bytes(stored.begin(), stored.end());
  const Bytes memory = out;
  if (form.size_bytes && *form.size_bytes < out.size()) {
    const auto keep = static_cast<std::size_t>(*form.size_bytes);
    const ByteView gone = ByteView(memory).subspan(keep);
    const bool repeats =
        keep > 0 && std::equal(memory.begin() + static_cast<std::ptrdiff_t>(keep), memory.end(), memory.begin());
    const bool filler = all_alike(gone) && (gone.front() == std::byte{0xFF} || gone.front() == std::byte{0});
    if (!repeats && !filler)
      throw Error({.code = "save_data",
                   .what = "what would be cut off is data, neither a repetition nor filler",
                   .found = fmt::format("{} behind {:#x}", human_size(gone.size()), keep),
                   .hint = "nothing was written"});
    out.resize(keep);
  }
  if (form.size_bytes) out.resize(static_cast<std::size_t>(*form.size_bytes), static_cast<std::byte>(form.fill));
  if (form.swap_bytes > 1) {
    if (out.size() % form.swap_bytes != 0)
      throw Error({.code = "odd_size",
                   .what = "the save does not come out even in groups of this many bytes",
                   .found = fmt::format("{} bytes", out.size()),
                   .expected = fmt::format("a multiple of {}", form.swap_bytes)});
    for (auto at = out.begin(); at != out.end(); at += form.swap_bytes) std::reverse(at, at + form.swap_bytes);
  }
  if (form.lane && *form.lane != SaveLane::alone) out = spread(out, *form.lane, static_cast<std::byte>(form.fill));
  if (!form.drop_clock) out.insert(out.end(), registers.begin(), registers.end());
  return out;
}

std::vector<SaveRange> differing_ranges(ByteView a, ByteView b) {
  constexpr std::uint64_t kJoin = 4;  // nearer ones are one change
  std::vector<SaveRange> ranges;
  const std::size_t most = std::max(a.size(), b.size());
  for (std::size_t i = 0; i < most; ++i) {
    if (i < a.size() && i < b.size() && a[i] == b[i]) continue;
    if (!ranges.empty() && i - (ranges.back().at + ranges.back().bytes) < kJoin)
      ranges.back().bytes = i + 1 - ranges.back().at;
    else
      ranges.push_back({i, 1});
  }
  return ranges;
}

}  // namespace opifex::rom
