#include "bit_writer.hpp"

#include <algorithm>
#include <queue>

namespace opifex::chd {
namespace {

/// Huffman's lengths. Ties are broken by the symbol, so that the same counts give the same code everywhere.
std::vector<std::uint8_t> huffman_lengths(const std::vector<std::uint64_t>& counts) {
  struct Node {
    std::uint64_t count;
    std::size_t order;
    int left, right;
  };
  std::vector<Node> nodes;
  const auto later = [&](std::size_t a, std::size_t b) {
    return nodes[a].count != nodes[b].count ? nodes[a].count > nodes[b].count : nodes[a].order > nodes[b].order;
  };
  std::priority_queue<std::size_t, std::vector<std::size_t>, decltype(later)> queue(later);
  std::vector<std::uint8_t> lengths(counts.size(), 0);
  std::vector<std::size_t> symbol_of;
  for (std::size_t s = 0; s < counts.size(); ++s) {
    if (counts[s] == 0) continue;
    nodes.push_back({counts[s], s, -1, -1});
    symbol_of.push_back(s);
    queue.push(nodes.size() - 1);
  }
  if (nodes.size() == 1) lengths[symbol_of[0]] = 1;
  if (nodes.size() < 2) return lengths;
  while (queue.size() > 1) {
    const std::size_t a = queue.top();
    queue.pop();
    const std::size_t b = queue.top();
    queue.pop();
    nodes.push_back(
        {nodes[a].count + nodes[b].count, nodes.size() + counts.size(), static_cast<int>(a), static_cast<int>(b)});
    queue.push(nodes.size() - 1);
  }
  std::vector<unsigned> depth(nodes.size(), 0);
  for (std::size_t n = nodes.size(); n-- > 0;) {
    if (nodes[n].left < 0) {
      lengths[symbol_of[n]] = static_cast<std::uint8_t>(depth[n]);
      continue;
    }
    depth[static_cast<std::size_t>(nodes[n].left)] = depth[static_cast<std::size_t>(nodes[n].right)] = depth[n] + 1;
  }
  return lengths;
}

}  // namespace

CodeBook make_code(std::vector<std::uint64_t> counts, unsigned most) {
  CodeBook code;
  // Too long a code: halve the counts' spread until it fits. With at most 2^most symbols it always ends.
  for (;;) {
    code.lengths = huffman_lengths(counts);
    if (*std::max_element(code.lengths.begin(), code.lengths.end()) <= most) break;
    for (std::uint64_t& c : counts)
      if (c > 0) c = c / 2 + 1;
  }
  constexpr unsigned kLongest = 32;
  std::array<std::uint64_t, kLongest + 1> count{}, first{};
  for (const std::uint8_t n : code.lengths)
    if (n > 0) ++count[n];
  std::uint64_t start = 0;
  for (unsigned n = kLongest; n >= 1; --n) {
    first[n] = start;
    start = (start + count[n]) / 2;
  }
  code.codes.resize(code.lengths.size());
  for (std::size_t s = 0; s < code.lengths.size(); ++s)
    if (code.lengths[s] > 0) code.codes[s] = static_cast<std::uint32_t>(first[code.lengths[s]]++);
  return code;
}

void write_rle_tree(const CodeBook& code, BitWriter& out) {
  constexpr unsigned kWidth = 4;
  constexpr std::size_t kShortest = 3, kLongest = 15 + kShortest;
  const auto& lengths = code.lengths;
  for (std::size_t i = 0; i < lengths.size();) {
    std::size_t run = 1;
    while (i + run < lengths.size() && lengths[i + run] == lengths[i] && run < kLongest) ++run;
    const bool one = lengths[i] == 1;  // a bare 1 is the escape
    if (run >= kShortest && !one) {
      out.put(1, kWidth);
      out.put(lengths[i], kWidth);
      out.put(run - kShortest, kWidth);
      i += run;
      continue;
    }
    if (one) out.put(1, kWidth);
    out.put(lengths[i], kWidth);
    ++i;
  }
}

namespace {

/// A symbol of the small tree: a length + 1, or 0 for `run` repeats of the length before.
struct SmallSymbol {
  std::size_t symbol;
  std::size_t run;
};

std::vector<SmallSymbol> small_symbols(const std::vector<std::uint8_t>& lengths) {
  std::vector<SmallSymbol> symbols;
  std::uint8_t last = 0;
  for (std::size_t i = 0; i < lengths.size();) {
    std::size_t run = 0;
    while (i + run < lengths.size() && lengths[i + run] == last) ++run;
    if (run >= 2) {
      symbols.push_back({0, run});
      i += run;
      continue;
    }
    last = lengths[i++];
    symbols.push_back({last + std::size_t{1}, 0});
  }
  return symbols;
}

}  // namespace

void write_small_tree(const CodeBook& code, BitWriter& out) {
  constexpr std::size_t kSmall = 24, kFieldLimit = 8, kShortest = 2, kLongRun = 9;
  constexpr unsigned kSmallBits = 6, kField = 3, kStop = 7, kRunBits = 8;
  const std::vector<SmallSymbol> symbols = small_symbols(code.lengths);
  std::vector<std::uint64_t> counts(kSmall, 0);
  for (const SmallSymbol& s : symbols) ++counts[s.symbol];
  const CodeBook small = make_code(counts, kSmallBits);
  std::size_t first = 1, end = kSmall;
  while (first < kFieldLimit && small.lengths[first] == 0) ++first;
  while (end > first && small.lengths[end - 1] == 0) --end;
  out.put(small.lengths[0], kField);
  out.put(first - 1, kField);
  for (std::size_t i = first; i < end; ++i) out.put(small.lengths[i], kField);
  if (end < kSmall) out.put(kStop, kField);
  for (const SmallSymbol& s : symbols) {
    out.put(small.codes[s.symbol], small.lengths[s.symbol]);
    if (s.symbol != 0) continue;
    out.put(std::min(s.run, kLongRun) - kShortest, kField);
    if (s.run >= kLongRun) out.put(s.run - kLongRun, kRunBits);
  }
}

}  // namespace opifex::chd
