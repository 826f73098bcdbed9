/// What a long job tells while it runs, and how it is asked to stop.
#pragma once

#include <atomic>
#include <cstdint>
#include <stop_token>

#include "opifex/core/base/error.hpp"

namespace opifex {

/// Core counts and asks `stop` between blocks; only the cli draws.
struct Progress {
  std::atomic<std::uint64_t> done_bytes{0};
  std::atomic<std::uint64_t> total_bytes{0};  ///< 0 while unknown
  std::atomic<const char*> stage{""};         ///< a string literal: "reading", "writing"
  std::stop_token stop = {};

  /// Error (interrupted) once a stop was asked for.
  void check_stop() const {
    if (stop.stop_requested())
      throw Error({.fault = Fault::interrupted,
                   .code = "interrupted",
                   .what = "stopped on request",
                   .hint = "nothing was left under a final name; run the command again to start over"});
  }
  void begin(const char* name, std::uint64_t total) {
    stage = name;
    done_bytes = 0;
    total_bytes = total;
  }
};

/// What a job reports to, and how much of the machine it may use.
struct JobContext {
  Progress& progress;
  unsigned threads = 0;  ///< 0: as many as the machine has
};

}  // namespace opifex
