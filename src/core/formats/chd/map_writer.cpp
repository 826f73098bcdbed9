#include "map_writer.hpp"

#include <algorithm>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/formats/chd/chd.hpp"

#include "bit_writer.hpp"

namespace opifex::chd {
namespace {

constexpr int kShortRun = 7, kLongRun = 8, kSameAgain = 9, kSameNext = 10, kParentHere = 11, kParentAgain = 12,
              kParentNext = 13;

/// Types as they are written, and the greatest value of each field.
struct Types {
  std::vector<int> types;
  std::uint64_t most_length = 0, most_same = 0, most_unit = 0;
};

/// References to where one expects them need no field.
Types shorten(const std::vector<MapEntry>& entries, std::uint64_t units_in_hunk) {
  Types t;
  std::uint64_t last_same = 0, last_unit = 0;
  for (std::size_t n = 0; n < entries.size(); ++n) {
    const MapEntry& e = entries[n];
    int type = e.kind;
    if (type < kStored) t.most_length = std::max<std::uint64_t>(t.most_length, e.length);
    if (type == kSame) {
      type = e.place == last_same ? kSameAgain : e.place == last_same + 1 ? kSameNext : kSame;
      if (type == kSame) t.most_same = std::max(t.most_same, e.place);
      last_same = e.place;
    }
    if (type == kParent) {
      type = e.place == n * units_in_hunk           ? kParentHere
             : e.place == last_unit                 ? kParentAgain
             : e.place == last_unit + units_in_hunk ? kParentNext
                                                    : kParent;
      if (type == kParent) t.most_unit = std::max(t.most_unit, e.place);
      last_unit = e.place;
    }
    t.types.push_back(type);
  }
  return t;
}

/// Runs: what follows its like. The type before the first hunk counts as 0.
std::vector<int> run_symbols(const std::vector<int>& types) {
  constexpr std::size_t kShortest = 3, kLong = 19, kLongest = 274;
  std::vector<int> symbols;
  int last = 0;
  for (std::size_t i = 0; i < types.size();) {
    std::size_t run = 0;
    while (run < kLongest && i + run < types.size() && types[i + run] == last) ++run;
    if (run < kShortest) {
      last = types[i++];
      symbols.push_back(last);
      continue;
    }
    if (run < kLong) {
      symbols.insert(symbols.end(), {kShortRun, static_cast<int>(run - kShortest)});
    } else {
      const auto count = static_cast<int>(run - kLong);
      symbols.insert(symbols.end(), {kLongRun, count >> 4, count & 15});
    }
    i += run;
  }
  return symbols;
}

}  // namespace

void put_be(Bytes& out, std::uint64_t v, int bytes) {
  for (int i = bytes - 1; i >= 0; --i) out.push_back(static_cast<std::byte>(v >> 8 * i & 255));
}

Bytes make_map(const std::vector<MapEntry>& entries, std::uint64_t first_offset, std::uint64_t units_in_hunk) {
  constexpr std::size_t kSymbols = 16;
  constexpr unsigned kMostBits = 8, kCrcBits = 16;
  const Types t = shorten(entries, units_in_hunk);
  const std::vector<int> symbols = run_symbols(t.types);
  std::vector<std::uint64_t> counts(kSymbols, 0);
  for (const int s : symbols) ++counts[static_cast<std::size_t>(s)];
  const CodeBook code = make_code(counts, kMostBits);
  BitWriter bits;
  write_rle_tree(code, bits);
  for (const int s : symbols)
    bits.put(code.codes[static_cast<std::size_t>(s)], code.lengths[static_cast<std::size_t>(s)]);
  const unsigned length_bits = bits_for(t.most_length), same_bits = bits_for(t.most_same),
                 unit_bits = bits_for(t.most_unit);
  Bytes expanded;
  for (std::size_t n = 0; n < entries.size(); ++n) {
    const MapEntry& e = entries[n];
    const bool stored = e.kind <= kStored;
    if (e.kind < kStored) bits.put(e.length, length_bits);
    if (stored) bits.put(e.crc, kCrcBits);
    if (t.types[n] == kSame) bits.put(e.place, same_bits);
    if (t.types[n] == kParent) bits.put(e.place, unit_bits);
    put_be(expanded, static_cast<std::uint64_t>(e.kind), 1);
    put_be(expanded, stored ? e.length : 0, 3);
    put_be(expanded, e.place, 6);
    put_be(expanded, stored ? e.crc : 0, 2);
  }
  Bytes map;
  put_be(map, bits.bytes().size(), 4);
  put_be(map, first_offset, 6);
  put_be(map, crc16(expanded, kCrcStart), 2);
  for (const unsigned width : {length_bits, same_bits, unit_bits, 0u}) put_be(map, width, 1);
  map.insert(map.end(), bits.bytes().begin(), bits.bytes().end());
  return map;
}

}  // namespace opifex::chd
