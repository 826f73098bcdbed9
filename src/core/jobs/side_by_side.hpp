/// Work on many images: small ones side by side, each in one thread; a large one by itself with all threads.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <vector>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/jobs/sources.hpp"

namespace opifex::jobs {

/// Of many small images each is one thread's work: to spread one over all threads would take longer than it.
template <typename One>
class SideBySide {
 public:
  using Work = std::function<One(const Source&, JobContext&)>;
  /// `most`: images whose outcome is kept for its turn.
  SideBySide(const std::vector<Source>& all, Work work, JobContext& context, std::size_t most = 1024)
      : all_(all), work_(std::move(work)), context_(context), most_(most) {}

  /// Number `i`; with those small ones that follow it, if it is not there yet.
  One take(std::size_t i, bool many) {
    if (const auto at = ready_.find(i); at != ready_.end()) return std::move(ready_.extract(at).mapped());
    const std::size_t end = many ? end_of_group(i) : i;
    if (end < i + 2) return work_(all_[i], context_);
    do_group(i, end);
    return std::move(ready_.extract(i).mapped());
  }

 private:
  static bool is_small(const Source& source) {
    constexpr std::uint64_t kMost = 8 << 20;
    std::error_code error;
    const std::uintmax_t size = std::filesystem::file_size(source.input.path, error);
    return !error && size <= kMost && !is_sheet_name(source.input.path);
  }

  std::size_t end_of_group(std::size_t i) const {
    std::size_t end = i;
    while (end < all_.size() && end - i < most_ && is_small(all_[end])) ++end;
    return end;
  }

  void do_group(std::size_t from, std::size_t end) {
    context_.progress.begin("checking", 0);
    FlowOf<One> flow;
    using Block = typename FlowOf<One>::Block;
    flow.next = [&](Block& block) { return from + block.index < end; };
    flow.work = [&](Block& block) {
      Progress quiet;
      quiet.stop = context_.progress.stop;
      JobContext alone{quiet, 1};
      block.carried = work_(all_[from + block.index], alone);
    };
    flow.consume.emplace_back([&](Block& block) { ready_.emplace(from + block.index, std::move(block.carried)); });
    constexpr std::size_t kInFlight = 256;  // measured: with 8 half of the time went by waiting for the largest
    run_flow(flow, context_, kInFlight);
  }

  const std::vector<Source>& all_;
  Work work_;
  JobContext& context_;
  std::size_t most_;
  std::map<std::size_t, One> ready_;
};

}  // namespace opifex::jobs
