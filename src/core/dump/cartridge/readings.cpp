#include "readings.hpp"

#include <algorithm>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::dump {
namespace {

[[noreturn]] void cart_lost() {
  throw Error({.fault = Fault::device,
               .code = "cart_lost",
               .what = "the cartridge lost its contact, or was taken out",
               .hint = "clean its contacts, put it in firmly, and give the same command: it goes on where it stopped"});
}

}  // namespace

Bytes read_once(ReaderHost& host, std::string_view space, std::uint32_t at, std::uint32_t bytes) {
  ReaderHost::Reading reading = host.read(std::string(space), at, bytes);
  if (reading.cart_lost) cart_lost();
  return std::move(reading.bytes);
}

void note_cell(UnstablePlaces& out, std::uint64_t at) {
  const std::uint64_t cell = at / UnstablePlaces::kCellBytes;
  if (out.cells.size() < UnstablePlaces::kMostCells && (out.cells.empty() || out.cells.back() != cell))
    out.cells.push_back(cell);
}

void note_differences(const std::vector<Bytes>& readings, std::uint64_t at, rom::BusOrder bus, UnstablePlaces& out,
                      std::uint64_t& ones) {
  constexpr std::size_t kMostOffsets = 16;
  for (std::size_t i = 0; i < readings.front().size(); ++i) {
    unsigned differing = 0;
    for (const Bytes& reading : readings) differing |= std::to_integer<unsigned>(reading[i] ^ readings.front()[i]);
    if (differing == 0) continue;
    ++out.bytes;
    const bool high = bus != rom::BusOrder::bytes && ((at + i) % 2 == 0) == (bus == rom::BusOrder::big);
    out.data_bits |= differing << (high ? 8 : 0);
    for (unsigned bit = 0; bit < 8; ++bit) out.by_line[bit + (high ? 8 : 0)] += differing >> bit & 1;
    note_cell(out, at + i);
    ones &= at + i;
    if (out.first_offsets.size() < kMostOffsets) out.first_offsets.push_back(at + i);
  }
}

UnstablePlaces somewhere_at(std::uint64_t at) {
  return {.bytes = 1, .first_offsets = {at}, .cells = {at / UnstablePlaces::kCellBytes}};
}

bool nearly_alike(ByteView a, ByteView b) {
  constexpr std::size_t kSpoiled = 16;  // one in so many
  std::size_t differing = 0;
  for (std::size_t i = 0; i < a.size(); ++i) differing += a[i] == b[i] ? 0u : 1u;
  return differing <= a.size() / kSpoiled;
}

TwiceRead read_twice(ReaderHost& host, const ReaderFacts& reader, std::string_view space, std::uint32_t at,
                     std::uint32_t bytes, rom::BusOrder bus) {
  // An odd number, so that there is a majority.
  constexpr std::size_t kReadings = 7;
  TwiceRead out{read_once(host, space, at, bytes), {}};
  const auto summed = reader.sums ? host.sum(std::string(space), at, bytes) : std::nullopt;
  std::vector<Bytes> readings = {out.bytes};
  if (summed) {
    if (to_upper_ascii(digest_of("crc32", out.bytes)) == *summed) return out;
  } else {
    readings.push_back(read_once(host, space, at, bytes));
    if (readings[0] == readings[1]) return out;
  }
  while (readings.size() < kReadings) readings.push_back(read_once(host, space, at, bytes));
  std::uint64_t ones = UINT64_MAX;
  note_differences(readings, at, bus, out.unstable, ones);
  // The sum alone may have met the flicker: then nobody knows where.
  if (out.unstable.bytes == 0) out.unstable = somewhere_at(at);
  for (unsigned bit = 0; bit < 32; ++bit)
    if (ones != UINT64_MAX && (ones >> bit & 1) != 0) out.unstable.address_bits_1.push_back(bit);
  out.bytes = *rom::compare_reads(nullptr, readings).majority;
  return out;
}

}  // namespace opifex::dump
