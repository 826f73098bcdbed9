#include "map_writer.hpp"

#include <algorithm>

#include "bit_writer.hpp"
#include "map_crc.hpp"

namespace opifex::chd {
namespace {

constexpr int kShortRun = 7, kLongRun = 8, kSameAgain = 9, kSameNext = 10, kParentHere = 11, kParentAgain = 12,
              kParentNext = 13;
constexpr std::size_t kSymbols = 16;

int code_of(const Hunk& h) {
  return h.kind == HunkKind::same ? kSame : h.kind == HunkKind::parent ? kParent : static_cast<int>(h.kind);
}

/// The type each hunk is written with, one after the other: references to where one expects them need no field.
class Types {
 public:
  explicit Types(std::uint64_t units_in_hunk) : units_in_hunk_(units_in_hunk) {}
  int next(const Hunk& h) {
    const std::uint64_t here = number_++ * units_in_hunk_;
    if (h.kind == HunkKind::same) {
      const int type = h.place == same_ ? kSameAgain : h.place == same_ + 1 ? kSameNext : kSame;
      same_ = h.place;
      return type;
    }
    if (h.kind == HunkKind::parent) {
      const int type = h.place == here                     ? kParentHere
                       : h.place == unit_                  ? kParentAgain
                       : h.place == unit_ + units_in_hunk_ ? kParentNext
                                                           : kParent;
      unit_ = h.place;
      return type;
    }
    return static_cast<int>(h.kind);
  }

 private:
  std::uint64_t units_in_hunk_, number_ = 0, same_ = 0, unit_ = 0;
};

/// Types as symbols: runs of what follows its like are told by their length. The type before the first hunk is 0.
template <typename Emit>
class Runs {
 public:
  explicit Runs(Emit emit) : emit_(std::move(emit)) {}
  void add(int type) {
    constexpr std::size_t kLongest = 274;
    if (type != last_) {
      finish();
      last_ = type;
      emit_(type);
    } else if (++run_ == kLongest) {
      finish();
    }
  }
  void finish() {
    constexpr std::size_t kShortest = 3, kLong = 19;
    if (run_ >= kLong) {
      const auto count = static_cast<int>(run_ - kLong);
      for (const int symbol : {kLongRun, count >> 4, count & 15}) emit_(symbol);
    } else if (run_ >= kShortest) {
      for (const int symbol : {kShortRun, static_cast<int>(run_ - kShortest)}) emit_(symbol);
    } else {
      for (std::size_t i = 0; i < run_; ++i) emit_(last_);
    }
    run_ = 0;
  }

 private:
  Emit emit_;
  int last_ = 0;
  std::size_t run_ = 0;
};

/// All symbols of the map, in order.
template <typename Emit>
void each_symbol(const HunkMap& hunks, std::uint64_t units_in_hunk, Emit emit) {
  Types types(units_in_hunk);
  Runs<Emit> runs(std::move(emit));
  for (const Hunk& h : hunks) runs.add(types.next(h));
  runs.finish();
}

/// Bits each field needs for its greatest value.
struct Widths {
  unsigned length = 0, same = 0, unit = 0;
};

Widths widths_of(const HunkMap& hunks, std::uint64_t units_in_hunk) {
  std::uint64_t length = 0, same = 0, unit = 0;
  Types types(units_in_hunk);
  for (const Hunk& h : hunks) {
    const int type = types.next(h);
    if (type < kStored) length = std::max<std::uint64_t>(length, h.length);
    if (type == kSame) same = std::max(same, h.place);
    if (type == kParent) unit = std::max(unit, h.place);
  }
  return {bits_for(length), bits_for(same), bits_for(unit)};
}

}  // namespace

void put_be(Bytes& out, std::uint64_t v, std::size_t bytes) {
  out.resize(out.size() + bytes);
  Fields(out).be(out.size() - bytes, v, bytes);
}

Bytes make_map(const HunkMap& hunks, std::uint64_t first_offset, std::uint64_t units_in_hunk) {
  constexpr unsigned kMostBits = 8, kCrcBits = 16;
  std::vector<std::uint64_t> counts(kSymbols, 0);
  each_symbol(hunks, units_in_hunk, [&](int symbol) { ++counts[static_cast<std::size_t>(symbol)]; });
  const CodeBook code = make_code(counts, kMostBits);
  BitWriter bits;
  write_rle_tree(code, bits);
  each_symbol(hunks, units_in_hunk, [&](int symbol) {
    bits.put(code.codes[static_cast<std::size_t>(symbol)], code.lengths[static_cast<std::size_t>(symbol)]);
  });
  const Widths widths = widths_of(hunks, units_in_hunk);
  Types types(units_in_hunk);
  MapCrc crc;
  for (const Hunk& h : hunks) {
    const int type = types.next(h);
    if (type < kStored) bits.put(h.length, widths.length);
    if (type <= kStored) bits.put(h.crc, kCrcBits);
    if (type == kSame) bits.put(h.place, widths.same);
    if (type == kParent) bits.put(h.place, widths.unit);
    crc.add(code_of(h), h);
  }
  Bytes map;
  put_be(map, bits.bytes().size(), 4);
  put_be(map, first_offset, 6);
  put_be(map, crc.finish(), 2);
  for (const unsigned width : {widths.length, widths.same, widths.unit, 0u}) put_be(map, width, 1);
  map.insert(map.end(), bits.bytes().begin(), bits.bytes().end());
  return map;
}

}  // namespace opifex::chd
