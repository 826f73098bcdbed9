// A line without contact reads the same way each time: reading a save twice does not show it, and a save has no
// checksum. The ROM is on the same lines, and is never as empty as a save may be.
#include <algorithm>
#include <bit>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/cartridge.hpp"

namespace opifex::dump {
namespace {

constexpr std::uint32_t kSample = 4096, kPiece = 256;

/// Part of the ROM; only what both readings had is sure: a line that flickers looks as if another one made a
/// difference.
struct Sample {
  Bytes bytes;
  std::vector<bool> sure;
};

Sample sample(ReaderHost& host, const CartridgePlan& plan, std::uint64_t at) {
  Sample out{Bytes(kSample), std::vector<bool>(kSample)};
  constexpr int kTries = 3;
  for (std::uint32_t from = 0; from < kSample; from += kPiece)
    for (int i = 0; i < kTries; ++i) {
      const TwiceRead piece = read_twice(host, plan.reader, ocr1::kRomSpace, static_cast<std::uint32_t>(at) + from,
                                         kPiece, rom::BusOrder::bytes);
      if (piece.unstable.bytes > 0) continue;
      std::copy(piece.bytes.begin(), piece.bytes.end(), out.bytes.begin() + from);
      std::fill_n(out.sure.begin() + from, kPiece, true);
      break;
    }
  return out;
}

/// Of the bytes at `lane`, `lane` + `step` ...: the bits that are the same in all of them.
unsigned quiet_data(const Sample& s, std::size_t lane, std::size_t step) {
  unsigned always = 0xFF, ever = 0;
  for (std::size_t i = lane; i < s.bytes.size(); i += step) {
    if (!s.sure[i]) continue;
    always &= std::to_integer<unsigned>(s.bytes[i]);
    ever |= std::to_integer<unsigned>(s.bytes[i]);
  }
  return always | (~ever & 0xFF);
}

/// What lies `step` apart is the same wherever both are sure.
bool is_quiet(const Sample& s, std::size_t step) {
  for (std::size_t i = 0; i + step < s.bytes.size(); ++i)
    if ((i & step) == 0 && s.sure[i] && s.sure[i + step] && s.bytes[i] != s.bytes[i + step]) return false;
  return true;
}

bool are_alike(const Sample& a, const Sample& b) {
  for (std::size_t i = 0; i < a.bytes.size(); ++i)
    if (a.sure[i] && b.sure[i] && a.bytes[i] != b.bytes[i]) return false;
  return true;
}

}  // namespace

std::string QuietLines::text() const {
  std::vector<std::string> names;
  for (unsigned bit = 0; bit < 8; ++bit)
    if ((data >> bit & 1) != 0) names.push_back(fmt::format("data line D{}", bit));
  for (unsigned bit = 0; bit < 64; ++bit)
    if ((address >> bit & 1) != 0) names.push_back(fmt::format("address line A{}", bit));
  return fmt::format("{}", fmt::join(names, ", "));
}

QuietLines quiet_lines(ByteView bytes) {
  if (bytes.empty()) return {};
  const Sample all{Bytes(bytes.begin(), bytes.end()), std::vector<bool>(bytes.size(), true)};
  QuietLines quiet{quiet_data(all, 0, 1), 0};
  const auto lines = static_cast<unsigned>(std::bit_width(bytes.size() - 1));
  for (unsigned bit = 0; bit < lines; ++bit)
    if (is_quiet(all, std::size_t{1} << bit)) quiet.address |= std::uint64_t{1} << bit;
  return quiet;
}

QuietLines dead_lines(ReaderHost& host, const CartridgePlan& plan, ByteView save) {
  const QuietLines open = quiet_lines(save);
  QuietLines dead;
  if (!open.any()) return dead;
  const Sample first = sample(host, plan, 0);
  // A ROM of which nothing is known, or that is blank there, tells nothing.
  if (quiet_data(first, 0, 1) == 0xFF) return dead;
  // Of a bus of 16 bits the save memory is on the low byte.
  const rom::BusOrder bus = plan.machine->bus;
  dead.data = open.data & quiet_data(first, bus == rom::BusOrder::big ? 1 : 0, bus == rom::BusOrder::bytes ? 1 : 2);
  for (std::uint64_t step = 1; step < kSample; step *= 2)
    if ((open.address & step) != 0 && is_quiet(first, step)) dead.address |= step;
  const std::uint64_t rom_bytes = plan.header.declared_bytes.value_or(plan.machine->unit_bytes);
  for (std::uint64_t step = kSample; step < std::min<std::uint64_t>(save.size(), rom_bytes); step *= 2)
    if ((open.address & step) != 0 && are_alike(first, sample(host, plan, step))) dead.address |= step;
  return dead;
}

}  // namespace opifex::dump
