/// One pipeline for every job: blocks are made in order, filled in parallel, and consumed in order. One thread or many,
/// the same bytes.
#pragma once

#include <functional>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/progress.hpp"

namespace opifex {

/// A block in flight. `data` is reused: its size says how much of it counts.
struct FlowBlock {
  std::uint64_t index = 0;
  Bytes data;
};

struct Flow {
  /// Prepares block `index` (0, 1, ...); false at the end. Called in order, by one thread at a time.
  std::function<bool(FlowBlock&)> next;
  /// Fills or checks a block; called from many threads at once.
  std::function<void(FlowBlock&)> work;
  /// Each consumer sees all blocks in order, by one thread at a time; different consumers run side by side.
  std::vector<std::function<void(const FlowBlock&)>> consume;
};

/// About 1 MiB: large enough that calls cost nothing, small enough that the blocks in flight stay in the cache.
inline constexpr std::size_t kFlowBlockBytes = 1 << 20;
inline constexpr std::size_t kBlocksInFlight = 8;

/// Runs until `next` ends. An exception in any stage stops the others and arrives here. Asks for a stop between blocks.
void run_flow(const Flow& flow, Work& work);

}  // namespace opifex
