#include "parent_windows.hpp"

#include <algorithm>
#include <deque>

#include "opifex/core/base/flow.hpp"

namespace opifex::chd {
namespace {

/// 64 MiB of table. A larger parent is entered with every second unit, every fourth ...: hunks in the same place are
/// found without the table.
constexpr std::uint64_t kMostWindows = std::uint64_t{4} << 20;
constexpr std::uint64_t kFactor = 0x9E37'79B9'7F4A'7C15;

/// Mixes eight bytes at a time; equal bytes are compared afterwards, so that it only has to be fast.
std::uint64_t unit_hash(ByteView bytes) {
  std::uint64_t h = kFactor;
  std::size_t i = 0;
  for (; i + 8 <= bytes.size(); i += 8) {
    h = (h ^ load_le64(bytes, i)) * kFactor;
    h ^= h >> 32;
  }
  for (; i < bytes.size(); ++i) h = (h ^ std::to_integer<std::uint64_t>(bytes[i])) * kFactor;
  return h ^ h >> 29;
}

}  // namespace

ParentWindows::ParentWindows(std::shared_ptr<const Chd> parent, std::uint32_t hunk_bytes, JobContext& context)
    : parent_(std::move(parent)),
      logical_(parent_->logical()),
      hunk_bytes_(hunk_bytes),
      unit_bytes_(parent_->header().unit_bytes) {
  collect(context);
  std::sort(windows_.begin(), windows_.end(),
            [](const Window& a, const Window& b) { return a.hash != b.hash ? a.hash < b.hash : a.unit < b.unit; });
  // Empty space has the same hash everywhere: the first few are enough.
  constexpr std::size_t kAlike = 4;
  std::size_t run = 0;
  const auto too_many = [&](const Window& w, const Window* before) {
    run = before && before->hash == w.hash ? run + 1 : 1;
    return run > kAlike;
  };
  std::size_t kept = 0;
  Window before{};
  for (std::size_t i = 0; i < windows_.size(); ++i) {
    const Window w = windows_[i];
    if (!too_many(w, i == 0 ? nullptr : &before)) windows_[kept++] = w;
    before = w;
  }
  windows_.resize(kept);
  windows_.shrink_to_fit();
}

void ParentWindows::collect(JobContext& context) {
  const std::uint64_t units = logical_->size() / unit_bytes_, in_hunk = hunk_bytes_ / unit_bytes_;
  if (units < in_hunk || units > UINT32_MAX) return;
  std::uint64_t step = 1;
  while (units / step > kMostWindows) step *= 2;
  // A window's hash is a polynomial of its units' hashes: it moves on by one unit at a time.
  std::uint64_t leaving = 1;
  for (std::uint64_t i = 0; i < in_hunk; ++i) leaving *= kFactor;
  std::deque<std::uint64_t> inside;
  std::uint64_t hash = 0, unit = 0;
  const std::uint64_t batch = std::max<std::uint64_t>(1, kFlowBlockBytes / unit_bytes_);
  context.progress.begin("reading the parent", units * unit_bytes_);
  FlowOf<std::vector<std::uint64_t>> flow;  // the hashes of its units
  using Block = decltype(flow)::Block;
  flow.next = [&](Block& block) {
    const std::uint64_t first = block.index * batch;
    if (first >= units) return false;
    block.data.resize(static_cast<std::size_t>(std::min(batch, units - first) * unit_bytes_));
    return true;
  };
  flow.work = [&](Block& block) {
    logical_->read_at(block.index * batch * unit_bytes_, block.data);
    auto& out = block.carried;
    out.clear();
    for (std::size_t at = 0; at < block.data.size(); at += unit_bytes_)
      out.push_back(unit_hash(ByteView(block.data).subspan(at, unit_bytes_)));
  };
  flow.consume.emplace_back([&](Block& block) {
    for (const std::uint64_t h : block.carried) {
      inside.push_back(h);
      hash = hash * kFactor + h;
      if (inside.size() > in_hunk) {
        hash -= leaving * inside.front();
        inside.pop_front();
      }
      ++unit;
      const std::uint64_t first = unit - std::min(unit, in_hunk);
      if (inside.size() == in_hunk && first % step == 0) windows_.push_back({hash, static_cast<std::uint32_t>(first)});
    }
    context.progress.done_bytes += block.data.size();
  });
  run_flow(flow, context);
}

std::uint64_t ParentWindows::hash_of(ByteView hunk) const {
  std::uint64_t hash = 0;
  for (std::size_t at = 0; at < hunk.size(); at += unit_bytes_)
    hash = hash * kFactor + unit_hash(hunk.subspan(at, unit_bytes_));
  return hash;
}

bool ParentWindows::holds(std::uint64_t unit, ByteView hunk) const {
  const std::uint64_t at = unit * unit_bytes_;
  if (at > logical_->size() || hunk.size() > logical_->size() - at) return false;
  Bytes there(hunk.size());
  logical_->read_at(at, there);
  return std::equal(there.begin(), there.end(), hunk.begin());
}

std::optional<std::uint64_t> ParentWindows::find(std::uint64_t hunk_number, ByteView hunk) const {
  const std::uint64_t here = hunk_number * (hunk_bytes_ / unit_bytes_);
  if (holds(here, hunk)) return here;
  const std::uint64_t hash = hash_of(hunk);
  auto at = std::lower_bound(windows_.begin(), windows_.end(), hash,
                             [](const Window& w, std::uint64_t h) { return w.hash < h; });
  for (; at != windows_.end() && at->hash == hash; ++at)
    if (holds(at->unit, hunk)) return at->unit;
  return std::nullopt;
}

}  // namespace opifex::chd
