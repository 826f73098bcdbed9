#include "working_state.hpp"

#include <algorithm>

#include <fmt/ranges.h>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::dump {

namespace fs = std::filesystem;

namespace {

/// "1,20,300"; false if one is none.
bool numbers_of(std::string_view list, std::vector<std::uint64_t>& out) {
  while (!list.empty()) {
    const std::string_view one = list.substr(0, list.find(','));
    const auto n = ocr1::parse_number(one);
    if (!n) return false;
    out.push_back(*n);
    list = one.size() == list.size() ? "" : list.substr(one.size() + 1);
  }
  return true;
}

}  // namespace

std::optional<WorkingState> WorkingState::load(const fs::path& file) {
  std::error_code error;
  constexpr std::uintmax_t kMost = 1 << 20;
  if (!fs::is_regular_file(file, error) || fs::file_size(file, error) > kMost) return std::nullopt;
  const SourcePtr source = open_file(file);
  const ocr1::Frame text{.payload = read_up_to(*source, 0, static_cast<std::size_t>(source->size()))};
  const ocr1::Fields fields = text.fields();
  const auto get = [&](std::string_view key) {
    const auto at = fields.find(key);
    return at == fields.end() ? std::string() : at->second;
  };
  const auto number = [&](std::string_view key) { return ocr1::parse_number(get(key)); };
  const auto header = ocr1::parse_hex(get("header"));
  const auto rom = number("rom-bytes"), character = number("character-bytes"), done = number("done"),
             bytes = number("unstable-bytes"), bits = number("unstable-bits"), ones = number("unstable-ones");
  if (!rom || !character || !done || !bytes || !bits || !ones || *done > *rom) return std::nullopt;
  WorkingState state{.machine = get("machine"),
                     .header = header.value_or(Bytes()),
                     .rom_bytes = *rom,
                     .character_bytes = *character,
                     .done = *done};
  state.unstable.bytes = *bytes;
  state.unstable.data_bits = *bits;
  state.places_1 = *ones == UINT32_MAX ? UINT64_MAX : *ones;
  std::vector<std::uint64_t> lines;
  if (!numbers_of(get("unstable-offsets"), state.unstable.first_offsets) ||
      !numbers_of(get("unstable-cells"), state.unstable.cells) || !numbers_of(get("unstable-lines"), lines) ||
      lines.size() != state.unstable.by_line.size())
    return std::nullopt;
  std::copy(lines.begin(), lines.end(), state.unstable.by_line.begin());
  return state;
}

void WorkingState::save(const fs::path& file) const {
  write_whole_file(file,
                   ocr1::text_of({{"machine", machine},
                                  {"header", hex(header)},
                                  {"rom-bytes", std::to_string(rom_bytes)},
                                  {"character-bytes", std::to_string(character_bytes)},
                                  {"done", std::to_string(done)},
                                  {"unstable-bytes", std::to_string(unstable.bytes)},
                                  {"unstable-bits", std::to_string(unstable.data_bits)},
                                  {"unstable-ones", std::to_string(std::min<std::uint64_t>(places_1, UINT32_MAX))},
                                  {"unstable-cells", fmt::format("{}", fmt::join(unstable.cells, ","))},
                                  {"unstable-lines", fmt::format("{}", fmt::join(unstable.by_line, ","))},
                                  {"unstable-offsets", fmt::format("{}", fmt::join(unstable.first_offsets, ","))}}) +
                       "\n",
                   Existing::replace);
}

bool WorkingState::fits(const CartridgePlan& plan) const {
  return machine == plan.machine->id && header == plan.raw.bytes && rom_bytes == plan.rom_bytes &&
         character_bytes == plan.character_bytes;
}

}  // namespace opifex::dump
