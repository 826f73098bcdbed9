#include "opifex/core/base/flow.hpp"

#include <tbb/concurrent_queue.h>
#include <tbb/parallel_pipeline.h>
#include <tbb/task_arena.h>

namespace opifex {

void run_flow(const Flow& flow, Work& work) {
  // Buffers go round: a fresh megabyte for each block would cost a page fault for every 4 KiB of it.
  tbb::concurrent_queue<FlowBlock*> free_blocks;
  std::vector<FlowBlock> blocks(kBlocksInFlight);
  for (FlowBlock& b : blocks) free_blocks.push(&b);
  std::uint64_t index = 0;

  const auto take = [&](tbb::flow_control& control) -> FlowBlock* {
    FlowBlock* block = nullptr;
    // There is always one: no more than kBlocksInFlight are on their way.
    if (work.progress.stop.stop_requested() || !free_blocks.try_pop(block)) {
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
  const auto finish = [&](FlowBlock* block) { free_blocks.push(block); };

  using enum tbb::filter_mode;
  tbb::filter<void, FlowBlock*> chain = tbb::make_filter<void, FlowBlock*>(serial_in_order, take) &
                                        tbb::make_filter<FlowBlock*, FlowBlock*>(parallel, fill);
  for (const auto& consumer : flow.consume)
    chain = chain & tbb::make_filter<FlowBlock*, FlowBlock*>(serial_in_order, [&consumer](FlowBlock* block) {
              consumer(*block);
              return block;
            });
  const auto whole = chain & tbb::make_filter<FlowBlock*, void>(serial_in_order, finish);

  const int threads = work.threads == 0 ? tbb::task_arena::automatic : static_cast<int>(work.threads);
  tbb::task_arena arena(threads);
  arena.execute([&] { tbb::parallel_pipeline(kBlocksInFlight, whole); });
  work.progress.check_stop();
}

}  // namespace opifex
