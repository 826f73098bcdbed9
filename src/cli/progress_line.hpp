/// One line on stderr (two of a batch), at most 6 times a second, wiped before anything else is printed.
#pragma once

#include <chrono>
#include <condition_variable>
#include <mutex>
#include <ostream>
#include <string>
#include <thread>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/jobs/batch.hpp"

namespace opifex::cli {

class ProgressLine {
 public:
  /// Draws until it is destroyed; both have to outlive it.
  ProgressLine(const Progress& progress, std::ostream& out);
  ~ProgressLine();
  ProgressLine(const ProgressLine&) = delete;
  ProgressLine& operator=(const ProgressLine&) = delete;
  /// Until the next draw.
  void wipe();
  /// An input of a batch begins: from now on there is a bar for the whole, too.
  void begins(const jobs::BatchStep& step);

 private:
  using Clock = std::chrono::steady_clock;
  void run();
  void draw();
  std::string current_line(std::uint64_t done, std::uint64_t total);
  std::string batch_line(std::uint64_t done, std::uint64_t total);
  void say(const std::string& text);

  const Progress& progress_;
  std::ostream& out_;
  std::mutex mutex_;
  std::condition_variable wake_;
  const char* stage_ = "";
  Clock::time_point since_ = Clock::now(), batch_since_ = Clock::now();
  jobs::BatchStep step_ = {};
  double shown_share_ = 0;  // of the batch; never goes back
  std::size_t lines_ = 0;   // that are drawn
  bool done_ = false;
  std::thread thread_;
};

}  // namespace opifex::cli
