// What came out of a cartridge, drawn: where its readings differed, and which of its lines that points to.
#include <algorithm>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/report/figures.hpp"
#include "opifex/report/palette.hpp"

#include "gnuplot.hpp"

namespace opifex::report {
namespace {

using dump::CartridgePlan;
using dump::CartridgeResult;
using dump::UnstablePlaces;

/// Worst last: a cell of many bytes shows the worst of them.
struct CellState {
  const char* name;
  Tone tone;
};
constexpr std::array kCells = {CellState{"every byte FF or 00", Tone::gap}, CellState{"data, read alike", Tone::good},
                               CellState{"differed between readings", Tone::lost}};
enum : std::size_t { kBlank, kData, kDiffered };

/// What was read, as it lies on the drive: the ROM, or the save where that is all.
struct WhatWasRead {
  SourcePtr bytes;
  const UnstablePlaces& unstable;
  std::string name;
};

WhatWasRead what_was_read(const CartridgePlan& plan, const CartridgeResult& result) {
  std::string title = plan.header.title.empty() ? std::string(plan.machine->name) + " cartridge" : plan.header.title;
  if (plan.rom_bytes == 0) return {open_file(plan.save_file), result.unstable_save, "save of " + title};
  return {slice_source(open_file(plan.rom_file), plan.front.size(), plan.rom_bytes), result.unstable,
          "ROM of " + title};
}

bool is_blank(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [&](std::byte b) { return b == bytes.front(); }) &&
         (bytes.front() == std::byte{0xFF} || bytes.front() == std::byte{0});
}

Figure map_of(const WhatWasRead& read) {
  constexpr std::uint64_t kColumns = 64, kMostRows = 32;
  const std::uint64_t size = read.bytes->size();
  std::uint64_t each = UnstablePlaces::kCellBytes;
  while (each * kColumns * kMostRows < size) each *= 2;
  const std::uint64_t cells = ceil_div(size, each), rows = ceil_div(cells, kColumns);
  std::vector<std::size_t> state(static_cast<std::size_t>(cells));
  for (std::uint64_t c = 0; c < cells; ++c)
    state[static_cast<std::size_t>(c)] =
        is_blank(read_up_to(*read.bytes, c * each, static_cast<std::size_t>(each))) ? kBlank : kData;
  for (const std::uint64_t cell : read.unstable.cells)
    if (const std::uint64_t c = cell * UnstablePlaces::kCellBytes / each; c < cells)
      state[static_cast<std::size_t>(c)] = kDiffered;
  std::string data = "# column row colour address\n";
  std::array<bool, kCells.size()> used{};
  for (std::uint64_t c = 0; c < cells; ++c) {
    const std::size_t s = state[static_cast<std::size_t>(c)];
    used[s] = true;
    data += fmt::format("{} {} {} {:#x}\n", c % kColumns, c / kColumns, shade(kCells[s].tone).rgb, c * each);
  }
  std::string body;
  body += fmt::format("set xrange [-0.6:{}]\nset yrange [{}:-0.6]\n", static_cast<double>(kColumns) - 0.4,
                      static_cast<double>(rows) - 0.4);
  body += "unset xtics\nset border 0\nset lmargin 12\nset bmargin 6\n";
  body += "set key at screen 0.5, screen 0.05 center horizontal Left reverse samplen 1 width 2\n";
  body += fmt::format("set xlabel \"each cell stands for {} bytes; on the left the address a row begins with\"\n",
                      grouped(each));
  body += "set ytics scale 0 (";
  const std::uint64_t step = std::max<std::uint64_t>(1, rows / 16);
  for (std::uint64_t r = 0; r < rows; r += step)
    body += fmt::format("{}\"{:06X}\" {}", r > 0 ? ", " : "", r * kColumns * each, r);
  body +=
      ")\nplot data using 1:2:(0.46):(0.46):3 with boxxyerror fillstyle solid noborder lc rgb variable "
      "notitle";
  for (std::size_t s = 0; s < kCells.size(); ++s)
    if (used[s])
      body += fmt::format(", NaN with points pt 5 ps 1.6 lc rgb \"#{:06X}\" title \"{}\"", shade(kCells[s].tone).rgb,
                          kCells[s].name);
  const std::string title = read.name + ", " + human_size(size);
  return {"read-map",
          title,
          fmt::format("{}: {} of its cells differed between readings.", title, grouped(read.unstable.cells.size())),
          data,
          body,
          1280,
          760};
}

/// In how many of a hundred words each data line is 1: one at 0 or 100 never changed.
std::vector<double> shares_of_ones(const ByteSource& bytes, rom::BusOrder bus) {
  const unsigned lanes = bus == rom::BusOrder::bytes ? 1 : 2;
  std::vector<std::uint64_t> ones(8 * lanes);
  constexpr std::size_t kStep = 1 << 20;
  for (std::uint64_t at = 0; at < bytes.size(); at += kStep) {
    const Bytes part = read_up_to(bytes, at, kStep);
    for (std::size_t i = 0; i < part.size(); ++i) {
      const bool high = lanes == 2 && (i % 2 == 0) == (bus == rom::BusOrder::big);
      for (unsigned bit = 0; bit < 8; ++bit)
        ones[bit + (high ? 8 : 0)] += std::to_integer<unsigned>(part[i]) >> bit & 1;
    }
  }
  std::vector<double> shares;
  const double words = static_cast<double>(std::max<std::uint64_t>(1, bytes.size() / lanes));
  for (const std::uint64_t n : ones) shares.push_back(100.0 * static_cast<double>(n) / words);
  return shares;
}

Figure lines_of(const WhatWasRead& read, rom::BusOrder bus) {
  const std::vector<double> shares = shares_of_ones(*read.bytes, bus);
  std::string data = "# line percent_of_ones bytes_that_differed\n";
  std::uint64_t most = 0;
  for (std::size_t line = 0; line < shares.size(); ++line) {
    data += fmt::format("{} {:.2f} {}\n", line, shares[line], read.unstable.by_line[line]);
    most = std::max(most, read.unstable.by_line[line]);
  }
  std::string body =
      fmt::format("set xrange [-0.7:{}]\nset yrange [0:100]\nset y2range [0:{}]\n",
                  static_cast<double>(shares.size()) - 0.3, std::max<std::uint64_t>(10, most + most / 8));
  body += "set ylabel \"1 in so many words of a hundred\"\nset y2label \"bytes that differed between readings\"\n";
  body += "set ytics nomirror\nset y2tics\nset grid ytics lc rgb \"#d0d0d0\"\nset style fill solid\n";
  body += "set xlabel \"a line at 0 or 100 never changes; one that differs alone has a dirty contact\"\n";
  body +=
      "set bmargin 7\nset key at screen 0.5, screen 0.05 center horizontal Left reverse samplen 1 width 2\nset xtics "
      "scale 0 (";
  for (std::size_t line = 0; line < shares.size(); ++line)
    body += fmt::format("{}\"D{}\" {}", line > 0 ? ", " : "", line, line);
  body += fmt::format(
      ")\nplot data using ($1-0.2):2:(0.36) with boxes lc rgb \"#{:06X}\" title \"share of ones\", data using "
      "($1+0.2):3:(0.36) axes x1y2 with boxes lc rgb \"#{:06X}\" title \"differed\"",
      shade(Tone::music).rgb, shade(Tone::lost).rgb);
  const std::string title = "Data lines of the " + read.name;
  return {"data-lines", title, title + ": how often each is 1, and how often it differed.", data, body};
}

}  // namespace

Figures cartridge_figures(const CartridgePlan& plan, const CartridgeResult& result) {
  const WhatWasRead read = what_was_read(plan, result);
  const rom::BusOrder bus = plan.rom_bytes == 0 ? rom::BusOrder::bytes : plan.machine->bus;
  return {map_of(read), lines_of(read, bus)};
}

}  // namespace opifex::report
