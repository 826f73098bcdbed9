// CRC-32 is linear: of the checksums of two beginnings of a stream follows that of what lies between them. So one pass
// over a stretch gives the checksums of all its windows, of ten thousand shifts as of one; what is equal there is then
// hashed in full.
#include "opifex/core/lists/close_look.hpp"

#include <algorithm>
#include <map>
#include <set>

#include <zlib.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/sector.hpp"
#include "opifex/core/lists/match.hpp"

namespace opifex {
namespace {

using EntryNumber = std::uint32_t;
using Place = std::int64_t;  // in the stream; before 0 and behind its end lies silence

constexpr std::uint64_t kNearBytes = 4 << 20;  // entries of other sets: how much larger or smaller they may be
constexpr std::size_t kMostEntries = 4096;
constexpr std::uint64_t kMostHashed = 512 << 20;  // bytes of windows that nothing but a full hash can tell
constexpr std::int64_t kSampleBytes = 4;

/// Filler around a window.
struct Fill {
  std::uint64_t before = 0, after = 0;  // bytes
  std::byte value{0};
};

struct Window {
  Place begin = 0, end = 0;
  Fill fill = {};
  EntryNumber entry = 0;
  NearMiss miss = {};
};

std::uint32_t crc_of_run(std::byte value, std::uint64_t bytes) {
  // By doubling.
  const auto one = static_cast<unsigned char>(value);
  uLong power = crc32(0, &one, 1), sum = 0;
  for (std::uint64_t n = 1, left = bytes; left > 0; n *= 2, left /= 2) {
    if (left % 2 == 1) sum = crc32_combine(sum, power, static_cast<z_off_t>(n));
    power = crc32_combine(power, power, static_cast<z_off_t>(n));
  }
  return static_cast<std::uint32_t>(sum);
}

/// The stream with silence around it.
class Padded {
 public:
  explicit Padded(const LookAt& at)
      : source_(*at.all),
        first_(at.audio ? static_cast<Place>(at.music_begin) : 0),
        end_(static_cast<Place>(at.audio ? at.music_end : at.all->size())) {}

  Place first() const { return first_; }
  Place end() const { return end_; }

  void read(Place at, std::span<std::byte> out) const {
    const Place from = std::clamp(at, first_, end_);
    const Place to = std::clamp(at + static_cast<Place>(out.size()), first_, end_);
    std::fill(out.begin(), out.end(), std::byte{0});
    if (to > from)
      source_.read_at(static_cast<std::uint64_t>(from),
                      out.subspan(static_cast<std::size_t>(from - at), static_cast<std::size_t>(to - from)));
  }

  /// All bytes of [from, to), in pieces.
  template <typename Take>
  void each(Place from, Place to, JobContext& context, const Take& take) const {
    Bytes piece;
    while (from < to) {
      context.progress.check_stop();
      piece.resize(static_cast<std::size_t>(std::min<Place>(1 << 20, to - from)));
      read(from, piece);
      take(from, piece);
      from += static_cast<Place>(piece.size());
    }
  }

 private:
  const ByteSource& source_;
  Place first_, end_;
};

/// Checksums from the first of some places to each of them.
class Beginnings {
 public:
  Beginnings(const Padded& stream, std::set<Place> places, JobContext& context) {
    uLong crc = 0;
    auto next = places.begin();
    if (next == places.end()) return;
    const auto reached = [&](Place at) {
      while (next != places.end() && *next == at) sums_[*next++] = static_cast<std::uint32_t>(crc);
    };
    const Place last = *places.rbegin();
    reached(*next);
    stream.each(*places.begin(), last, context, [&](Place at, ByteView piece) {
      while (!piece.empty()) {
        const auto step = static_cast<std::size_t>(
            std::min<Place>(static_cast<Place>(piece.size()), (next == places.end() ? last : *next) - at));
        crc = crc32_z(crc, raw_bytes(piece), step);
        at += static_cast<Place>(step);
        piece = piece.subspan(step);
        reached(at);
      }
    });
  }

  std::uint32_t between(Place from, Place to) const {
    const uLong before = crc32_combine(sums_.at(from), 0, static_cast<z_off_t>(to - from));
    return sums_.at(to) ^ static_cast<std::uint32_t>(before);
  }

 private:
  std::map<Place, std::uint32_t> sums_;
};

std::uint32_t crc_of(const Window& w, const Beginnings& sums) {
  uLong crc = crc_of_run(w.fill.value, w.fill.before);
  crc = crc32_combine(crc, sums.between(w.begin, w.end), static_cast<z_off_t>(w.end - w.begin));
  if (w.fill.after > 0)
    crc = crc32_combine(crc, crc_of_run(w.fill.value, w.fill.after), static_cast<z_off_t>(w.fill.after));
  return static_cast<std::uint32_t>(crc);
}

class Look {
 public:
  Look(const EntriesBySize& entries, std::span<const std::uint32_t> sets, const LookAt& at, JobContext& context)
      : list_(entries.list()), at_(at), context_(context), stream_(at), entries_(entries.near(size(), sets)) {}

  CloseLook run() {
    plan_windows();
    try_windows();
    if (at_.audio) try_shifts();
    try_byte_orders();
    return std::move(look_);
  }

 private:
  std::uint64_t size() const { return at_.end - at_.begin; }
  Place begin() const { return static_cast<Place>(at_.begin); }
  Place end() const { return static_cast<Place>(at_.end); }

  void plan(NearKind kind, EntryNumber e, Place from, Place to, std::int64_t amount, Fill fill = {},
            std::string filler = {}) {
    windows_.push_back({from, to, fill, e, {kind, e, amount, std::move(filler), {}}});
  }

  /// Bytes off or on at either end.
  void plan_windows() {
    std::size_t planned = 0;
    for (const EntryNumber e : entries_) {
      const std::uint64_t wanted = list_.entries[e].size_bytes;
      if (wanted == kUnknownSize || wanted == 0 || wanted == size()) continue;
      ++planned;
      const auto s = static_cast<Place>(wanted);
      const std::int64_t other = s - static_cast<Place>(size());
      if (other < 0) {
        plan(NearKind::too_long, e, begin(), begin() + s, -other);
        plan(NearKind::leading, e, end() - s, end(), -other);
        continue;
      }
      const auto lacking = static_cast<std::uint64_t>(other);
      plan(NearKind::too_short, e, begin(), end(), other, {0, lacking, std::byte{0}}, "zeros");
      plan(NearKind::too_short, e, begin(), end(), other, {0, lacking, std::byte{0xFF}}, "FF");
      if (at_.unit_bytes == 1 || lacking % at_.unit_bytes != 0) continue;
      plan(NearKind::pregap, e, begin(), end(), other, {lacking, 0, std::byte{0}}, "silence");
      const Place most = static_cast<Place>(at_.all->size());
      if (end() - s >= 0) plan(NearKind::pregap, e, end() - s, end(), other, {}, "in the track before");
      if (begin() + s <= most) plan(NearKind::too_short, e, begin(), begin() + s, other, {}, "in the track behind");
    }
    if (planned > 0)
      look_.tried.push_back(
          fmt::format("with bytes off or on at either end, against {} entries of nearly its size", grouped(planned)));
  }

  bool has_crc(EntryNumber e) const { return (list_.entries[e].hashes & bit(ListHash::crc32)) != 0; }

  void try_shifts() {
    std::multimap<std::uint32_t, EntryNumber> sought;
    std::size_t blind = 0;
    for (const EntryNumber e : entries_) {
      if (list_.entries[e].size_bytes != size()) continue;
      if (has_crc(e))
        sought.emplace(list_.entries[e].crc, e);
      else
        ++blind;
    }
    if (blind > 0)
      look_.tried.push_back(
          fmt::format("not at shifts against {} of its size: the list has no CRC-32 of them", plural(blind, "track")));
    if (sought.empty()) return;
    look_.tried.push_back(fmt::format("at shifts of up to {} samples each way, against {} of its size",
                                      grouped(kMostShift), plural(sought.size(), "track")));
    std::set<Place> places;
    for (std::int64_t shift = -kMostShift; shift <= kMostShift; ++shift)
      places.insert({begin() + shift * kSampleBytes, end() + shift * kSampleBytes});
    const Beginnings sums(stream_, places, context_);
    // The smallest shift first: of music that repeats itself several may fit.
    for (std::int64_t far = 1; far <= kMostShift; ++far)
      for (const std::int64_t shift : {far, -far}) {
        const Place from = begin() + shift * kSampleBytes, to = end() + shift * kSampleBytes;
        const auto [first, last] = sought.equal_range(sums.between(from, to));
        for (auto at = first; at != last && !is_found(NearKind::audio_offset); ++at)
          confirm({from, to, {}, at->second, {NearKind::audio_offset, at->second, shift, {}, {}}});
      }
  }

  void try_windows() {
    std::set<Place> places;
    for (const Window& w : windows_)
      if (has_crc(w.entry)) places.insert({w.begin, w.end});
    const Beginnings sums(stream_, places, context_);
    std::uint64_t hashed = 0;
    for (const Window& w : windows_) {
      if (is_found(w.miss.kind)) continue;
      const bool blind = !has_crc(w.entry);
      if (blind) hashed += list_.entries[w.entry].size_bytes;
      if (blind ? hashed <= kMostHashed : crc_of(w, sums) == list_.entries[w.entry].crc) confirm(w);
    }
  }

  bool is_found(NearKind kind) const {
    return std::any_of(look_.found.begin(), look_.found.end(), [&](const NearMiss& m) { return m.kind == kind; });
  }

  /// Every hash of the entry decides, not the checksum that led here.
  void confirm(const Window& w) {
    Hasher hasher(list_.entries[w.entry].hashes);
    hasher.fill(w.fill.value, w.fill.before);
    stream_.each(w.begin, w.end, context_, [&](Place, ByteView piece) { hasher.update(piece); });
    hasher.fill(w.fill.value, w.fill.after);
    NearMiss miss = w.miss;
    if (!is_entry(hasher.finish(), w.entry, miss)) return;
    if (miss.kind == NearKind::too_long) miss.filler = describe(w.end, end());
    if (miss.kind == NearKind::leading) miss.filler = describe(begin(), w.begin);
    look_.found.push_back(std::move(miss));
  }

  class Hasher {
   public:
    explicit Hasher(unsigned hashes) {
      for (const ListHash h : kListHashes)
        if ((hashes & bit(h)) != 0) names_.emplace_back(to_string(h)), digests_.emplace_back(to_string(h));
    }
    void update(ByteView bytes) {
      for (Digest& d : digests_) d.update(bytes);
      size_ += bytes.size();
    }
    void fill(std::byte value, std::uint64_t bytes) {
      const Bytes run(static_cast<std::size_t>(std::min<std::uint64_t>(bytes, 1 << 20)), value);
      for (std::uint64_t n = 0; bytes > 0; bytes -= n) {
        n = std::min<std::uint64_t>(bytes, run.size());
        update(ByteView(run).first(static_cast<std::size_t>(n)));
      }
    }
    ListedView finish() {
      ListedView view{.size_bytes = size_};
      for (std::size_t i = 0; i < names_.size(); ++i) view.hashes.push_back({names_[i], digests_[i].finish()});
      return view;
    }

   private:
    std::vector<std::string> names_;
    std::vector<Digest> digests_;
    std::uint64_t size_ = 0;
  };

  bool is_entry(const ListedView& view, EntryNumber e, NearMiss& miss) const {
    const std::vector<EntryNumber> same = entries_of_content(list_, view);
    if (std::find(same.begin(), same.end(), e) == same.end()) return false;
    miss.proof = view.hashes.back().name;
    return true;
  }

  /// What the bytes are that are too many.
  std::string describe(Place from, Place to) const {
    std::optional<std::byte> one;
    bool all_one = true;
    stream_.each(from, to, context_, [&](Place, ByteView piece) {
      if (!one) one = piece.front();
      all_one = all_one && std::all_of(piece.begin(), piece.end(), [&](std::byte b) { return b == *one; });
    });
    if (!all_one || !one) return "data";
    return *one == std::byte{0} ? "zeros" : fmt::format("{:02X}", std::to_integer<unsigned>(*one));
  }

  void try_byte_orders() {
    constexpr std::uint64_t kMost = 64 << 20;  // cartridges are smaller
    if (!at_.audio && size() > kMost) return;
    std::vector<EntryNumber> same;
    for (const EntryNumber e : entries_)
      if (list_.entries[e].size_bytes == size()) same.push_back(e);
    if (same.empty()) return;
    for (const std::size_t word : {std::size_t{2}, std::size_t{4}}) {
      if (size() % word != 0 || is_found(NearKind::byte_order)) continue;
      if (word == 4 && at_.audio) continue;
      try_order(word, same);
    }
    look_.tried.emplace_back("with the bytes of each word the other way round");
  }

  void try_order(std::size_t word, const std::vector<EntryNumber>& same) {
    unsigned hashes = 0;
    for (const EntryNumber e : same) hashes |= list_.entries[e].hashes;
    Hasher hasher(hashes);
    stream_.each(begin(), end(), context_, [&](Place, ByteView piece) {
      Bytes turned(piece.begin(), piece.end());
      for (std::size_t i = 0; i + word <= turned.size(); i += word)
        std::reverse(turned.begin() + static_cast<std::ptrdiff_t>(i),
                     turned.begin() + static_cast<std::ptrdiff_t>(i + word));
      hasher.update(turned);
    });
    const ListedView view = hasher.finish();
    for (const EntryNumber e : same) {
      NearMiss miss{NearKind::byte_order, e, static_cast<std::int64_t>(word), {}, {}};
      if (!is_found(NearKind::byte_order) && is_entry(view, e, miss)) look_.found.push_back(std::move(miss));
    }
  }

  const KnownList& list_;
  const LookAt& at_;
  JobContext& context_;
  Padded stream_;
  std::vector<EntryNumber> entries_;
  std::vector<Window> windows_;
  CloseLook look_;
};

bool can_be_compared(const ListedEntry& e) {
  return e.kind == ListedKind::rom && e.status != ListedStatus::no_dump && e.hashes != 0 && e.size_bytes > 0;
}

}  // namespace

std::string_view to_string(NearKind kind) {
  constexpr std::array<std::string_view, 6> kWords{"audio_offset", "too_long", "too_short",
                                                   "leading",      "pregap",   "byte_order"};
  return kWords[static_cast<std::size_t>(kind)];
}

EntriesBySize::EntriesBySize(const KnownList& list) : list_(list) {
  for (EntryNumber e = 0; e < list.entries.size(); ++e)
    if (can_be_compared(list.entries[e]) && list.entries[e].size_bytes != kUnknownSize) order_.push_back(e);
  std::stable_sort(order_.begin(), order_.end(), [&](EntryNumber a, EntryNumber b) {
    return list_.entries[a].size_bytes < list_.entries[b].size_bytes;
  });
}

bool EntriesBySize::has(std::uint64_t size) const {
  const auto at = std::lower_bound(order_.begin(), order_.end(), size, [&](EntryNumber e, std::uint64_t wanted) {
    return list_.entries[e].size_bytes < wanted;
  });
  return at != order_.end() && list_.entries[*at].size_bytes == size;
}

std::vector<EntryNumber> EntriesBySize::near(std::uint64_t size, std::span<const std::uint32_t> sets) const {
  std::vector<EntryNumber> found;
  for (const std::uint32_t s : sets) {
    const ListedSet& set = list_.sets[s];
    for (EntryNumber e = set.first; e < set.first + set.entries && found.size() < kMostEntries; ++e)
      if (can_be_compared(list_.entries[e]) && list_.entries[e].size_bytes != kUnknownSize) found.push_back(e);
  }
  const auto from =
      std::lower_bound(order_.begin(), order_.end(), size - std::min(size, kNearBytes),
                       [&](EntryNumber e, std::uint64_t wanted) { return list_.entries[e].size_bytes < wanted; });
  const std::set<EntryNumber> own(found.begin(), found.end());
  std::vector<EntryNumber> others;
  for (auto at = from; at != order_.end() && list_.entries[*at].size_bytes <= size + kNearBytes; ++at)
    others.push_back(*at);
  const auto distance = [&](EntryNumber e) {
    const std::uint64_t s = list_.entries[e].size_bytes;
    return s > size ? s - size : size - s;
  };
  std::stable_sort(others.begin(), others.end(),
                   [&](EntryNumber a, EntryNumber b) { return distance(a) < distance(b); });
  for (const EntryNumber e : others)
    if (found.size() < kMostEntries && !own.contains(e)) found.push_back(e);
  return found;
}

CloseLook look_closer(const EntriesBySize& entries, std::span<const std::uint32_t> sets, const LookAt& at,
                      JobContext& context) {
  return Look(entries, sets, at, context).run();
}

}  // namespace opifex
