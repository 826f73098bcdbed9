/// One pipeline for every job: blocks are made in order, filled in parallel, and consumed in order. One thread or many,
/// the same bytes.
#pragma once

#include <functional>
#include <span>
#include <vector>

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
  std::vector<std::function<void(FlowBlock&)>> consume;
};

/// About 1 MiB: large enough that calls cost nothing, small enough that the blocks in flight stay in the cache.
inline constexpr std::size_t kFlowBlockBytes = 1 << 20;
inline constexpr std::size_t kBlocksInFlight = 8;

/// A block that carries more than bytes from one stage to the next. `carried` is reused, as `data` is.
template <typename Carried>
struct CarryingBlock : FlowBlock {
  Carried carried = {};
};

/// A flow whose blocks carry something.
template <typename Carried>
struct FlowOf {
  using Block = CarryingBlock<Carried>;
  std::function<bool(Block&)> next;
  std::function<void(Block&)> work;
  /// Each may take what is carried out of the block for itself only if it is the last one.
  std::vector<std::function<void(Block&)>> consume;
};

/// Runs until `next` ends. An exception in any stage stops the others and arrives here. Asks for a stop between blocks.
void run_flow(const Flow& flow, JobContext& context);

/// The same on these blocks, which all live until it ends; no more than they are in flight.
void run_flow_on(const Flow& flow, std::span<FlowBlock* const> blocks, JobContext& context);

/// `in_flight`: blocks at a time. More where they take very different times and carry little: one that takes long holds
/// up those behind it.
template <typename Carried>
void run_flow(const FlowOf<Carried>& flow, JobContext& context, std::size_t in_flight = kBlocksInFlight) {
  using Block = typename FlowOf<Carried>::Block;
  std::vector<Block> blocks(in_flight);
  std::vector<FlowBlock*> places;
  for (Block& block : blocks) places.push_back(&block);
  // Only blocks of this kind go round: each is what it is taken for.
  Flow plain;
  plain.next = [&flow](FlowBlock& block) { return flow.next(static_cast<Block&>(block)); };
  if (flow.work) plain.work = [&flow](FlowBlock& block) { flow.work(static_cast<Block&>(block)); };
  for (const auto& consumer : flow.consume)
    plain.consume.emplace_back([&consumer](FlowBlock& block) { consumer(static_cast<Block&>(block)); });
  run_flow_on(plain, places, context);
}

}  // namespace opifex
