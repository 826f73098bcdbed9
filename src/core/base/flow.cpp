#include "opifex/core/base/flow.hpp"

#include <mutex>

#include <tbb/parallel_pipeline.h>
#include <tbb/task_arena.h>

namespace opifex {

namespace {

/// Buffers go round: a fresh megabyte for each block would cost a page fault for every 4 KiB of it. The one given back
/// last is taken first, it is still in the cache.
class FreeBlocks {
 public:
  explicit FreeBlocks(std::span<FlowBlock* const> blocks) : free_(blocks.begin(), blocks.end()) {}
  /// Null if all are on their way.
  FlowBlock* take() {
    const std::lock_guard lock(mutex_);
    if (free_.empty()) return nullptr;
    FlowBlock* const block = free_.back();
    free_.pop_back();
    return block;
  }
  void give(FlowBlock* block) {
    const std::lock_guard lock(mutex_);
    free_.push_back(block);
  }

 private:
  std::mutex mutex_;
  std::vector<FlowBlock*> free_;
};

}  // namespace

void run_flow(const Flow& flow, JobContext& context) {
  std::vector<FlowBlock> blocks(kBlocksInFlight);
  std::vector<FlowBlock*> places;
  for (FlowBlock& block : blocks) places.push_back(&block);
  run_flow_on(flow, places, context);
}

void run_flow_on(const Flow& flow, std::span<FlowBlock* const> blocks, JobContext& context) {
  FreeBlocks free_blocks(blocks);
  std::uint64_t index = 0;

  const auto take = [&](tbb::flow_control& control) -> FlowBlock* {
    // There is always one: no more than these are on their way.
    FlowBlock* const block = context.progress.stop.stop_requested() ? nullptr : free_blocks.take();
    if (!block) {
      control.stop();
      return nullptr;
    }
    block->index = index++;
    if (flow.next(*block)) return block;
    control.stop();
    return nullptr;
  };
  const auto fill = [&](FlowBlock* block) {
    if (flow.work) flow.work(*block);
    return block;
  };
  const auto finish = [&](FlowBlock* block) { free_blocks.give(block); };

  using enum tbb::filter_mode;
  tbb::filter<void, FlowBlock*> chain = tbb::make_filter<void, FlowBlock*>(serial_in_order, take) &
                                        tbb::make_filter<FlowBlock*, FlowBlock*>(parallel, fill);
  for (const auto& consumer : flow.consume)
    chain = chain & tbb::make_filter<FlowBlock*, FlowBlock*>(serial_in_order, [&consumer](FlowBlock* block) {
              consumer(*block);
              return block;
            });
  const auto whole = chain & tbb::make_filter<FlowBlock*, void>(serial_in_order, finish);

  const int threads = context.threads == 0 ? tbb::task_arena::automatic : static_cast<int>(context.threads);
  tbb::task_arena arena(threads);
  arena.execute([&] { tbb::parallel_pipeline(blocks.size(), whole); });
  context.progress.check_stop();
}

}  // namespace opifex
