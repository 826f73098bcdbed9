#include "opifex/core/formats/rom/save.hpp"

#include <algorithm>
#include <bit>

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

}  // namespace

SaveFacts examine_save(ByteView save, const Header* game) {
  SaveFacts facts;
  facts.size_bytes = save.size();
  if (save.empty()) {
    facts.problems.push_back({"empty_file", "the file is empty"});
    return facts;
  }
  if (game) facts.wanted_bytes = game->save.bytes;
  facts.clock_bytes = clock_behind(save.size());
  facts.memory_bytes = save.size() - facts.clock_bytes;
  const ByteView memory = save.first(static_cast<std::size_t>(facts.memory_bytes));
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
  if (!facts.wanted_bytes && facts.reduced_bytes < facts.memory_bytes)
    facts.problems.push_back({"save_mirrored", fmt::format("only the first {} are of their own, the rest repeats them",
                                                           human_size(facts.reduced_bytes))});
  return facts;
}

Bytes convert_save(ByteView save, const SaveForm& form) {
  const std::uint64_t clock = clock_behind(save.size());
  ByteView memory = save.first(save.size() - static_cast<std::size_t>(clock));
  const ByteView registers = save.subspan(memory.size());
  Bytes out(memory.begin(), memory.end());
  if (form.size_bytes && *form.size_bytes < out.size()) {
    const auto keep = static_cast<std::size_t>(*form.size_bytes);
    const ByteView gone = memory.subspan(keep);
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
