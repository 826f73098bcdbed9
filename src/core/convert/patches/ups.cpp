// UPS: "UPS1", both sizes, blocks of a distance and the XOR of both files up to a zero, three checksums. It works both
// ways.
#include <algorithm>
#include <functional>

#include "codec.hpp"

namespace opifex::patches {
namespace {

constexpr std::size_t kMagic = 4;

struct Sizes {
  std::uint64_t source, target;
};

/// Every XOR byte that is not zero, at its place.
Sizes walk(ByteView patch, const std::string& file, const std::function<void(std::uint64_t, std::byte)>& each,
           const std::function<void()>& block) {
  if (patch.size() < kMagic + kFooter) refuse(file, patch.size(), "the end of the file", "checksums");
  Cursor c(patch.first(patch.size() - kFooter), kMagic, file);
  const Sizes sizes{c.number("the size of the source"), c.number("the size of the target")};
  refuse_size(std::max(sizes.source, sizes.target), file);
  const std::uint64_t end = std::max(sizes.source, sizes.target);
  for (std::uint64_t at = 0; !c.at_end();) {
    at += c.number("a distance");
    block();
    while (true) {
      if (at > end) refuse(file, c.at(), fmt::format("a change at {:#x}", at), fmt::format("below {:#x}", end));
      const std::byte x = c.take(1, "the end of a block")[0];
      if (x != std::byte{0}) {
        if (at == end) refuse(file, c.at(), fmt::format("a change at {:#x}", at), fmt::format("below {:#x}", end));
        each(at, x);
      }
      ++at;
      if (x == std::byte{0}) break;
    }
  }
  return sizes;
}

}  // namespace

PatchFacts read_ups(ByteView patch, const std::string& file) {
  PatchFacts facts{.kind = PatchKind::ups};
  const Sizes sizes = walk(
      patch, file, [&](std::uint64_t, std::byte) { ++facts.changed_bytes; }, [&] { ++facts.records; });
  facts.source_bytes = sizes.source;
  facts.target_bytes = sizes.target;
  read_footer(patch, facts, file);
  return facts;
}

Bytes apply_ups(ByteView patch, ByteView source, bool reverse, const std::string& file) {
  Bytes out(source.begin(), source.end());
  const PatchFacts facts = read_ups(patch, file);
  out.resize(static_cast<std::size_t>(std::max(*facts.source_bytes, *facts.target_bytes)));
  walk(
      patch, file, [&](std::uint64_t at, std::byte x) { out[static_cast<std::size_t>(at)] ^= x; }, [] {});
  out.resize(static_cast<std::size_t>(reverse ? *facts.source_bytes : *facts.target_bytes));
  return out;
}

Bytes make_ups(ByteView source, ByteView target) {
  Bytes out = to_bytes("UPS1");
  append_number(out, source.size());
  append_number(out, target.size());
  const std::size_t end = std::max(source.size(), target.size());
  const auto xored = [&](std::size_t i) {
    const std::byte a = i < source.size() ? source[i] : std::byte{0}, b = i < target.size() ? target[i] : std::byte{0};
    return a ^ b;
  };
  for (std::size_t at = 0, last = 0; at < end;) {
    if (xored(at) == std::byte{0}) {
      ++at;
      continue;
    }
    append_number(out, at - last);
    for (; at < end && xored(at) != std::byte{0}; ++at) out.push_back(xored(at));
    out.push_back(std::byte{0});
    last = ++at;
  }
  append_footer(out, source, target);
  return out;
}

}  // namespace opifex::patches
