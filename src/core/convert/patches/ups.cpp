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
  refuse_size(std::max(sizes.source, sizes.target), kMostTargetBytes, file);
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

namespace {

/// Changes that follow each other, written in one go.
class Changes {
 public:
  Changes(const ByteSource& source, std::uint64_t end, Output& out) : source_(source), end_(end), out_(out) {}

  void add(std::uint64_t at, std::byte x) {
    if (at >= end_) return;
    if (at != from_ + run_.size() || run_.size() == kStep) flush();
    if (run_.empty()) from_ = at;
    run_.push_back(x);
  }
  void flush() {
    const Bytes before = read_up_to(source_, from_, run_.size());
    for (std::size_t i = 0; i < before.size(); ++i) run_[i] ^= before[i];
    if (!run_.empty()) out_.rewrite(from_, run_);
    run_.clear();
  }

 private:
  const ByteSource& source_;
  std::uint64_t end_;
  Output& out_;
  std::uint64_t from_ = 0;
  Bytes run_;
};

}  // namespace

void apply_ups(ByteView patch, const ByteSource& source, bool reverse, Output& out, const std::string& file) {
  const PatchFacts facts = read_ups(patch, file);
  const std::uint64_t end = reverse ? *facts.source_bytes : *facts.target_bytes;
  copy_source(source, end, out);
  Changes changes(source, end, out);
  walk(
      patch, file, [&](std::uint64_t at, std::byte x) { changes.add(at, x); }, [] {});
  changes.flush();
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
