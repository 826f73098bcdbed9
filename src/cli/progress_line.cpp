#include "progress_line.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex::cli {
namespace {

constexpr double kLongEnough = 0.1;  // seconds; before, a rate would be a guess

std::string time_left(double seconds) {
  return seconds < 120 ? fmt::format("{:.0f} s left", seconds) : fmt::format("{:.0f} min left", seconds / 60);
}

}  // namespace

ProgressLine::ProgressLine(const Progress& progress, std::ostream& out)
    : progress_(progress), out_(out), thread_([this] { run(); }) {}

ProgressLine::~ProgressLine() {
  {
    const std::lock_guard lock(mutex_);
    done_ = true;
  }
  wake_.notify_all();
  thread_.join();
  wipe();
}

void ProgressLine::wipe() {
  const std::lock_guard lock(mutex_);
  if (lines_ == 0) return;
  say(lines_ == 2 ? "\r\033[K\033[1A\r\033[K" : "\r\033[K");
  lines_ = 0;
}

void ProgressLine::begins(const jobs::BatchStep& step) {
  const std::lock_guard lock(mutex_);
  if (step.number == 1) {
    batch_since_ = Clock::now();
    shown_share_ = 0;
  }
  step_ = step;
}

void ProgressLine::run() {
  constexpr auto kEvery = std::chrono::milliseconds(170);
  std::unique_lock lock(mutex_);
  while (!wake_.wait_for(lock, kEvery, [this] { return done_; })) draw();
}

void ProgressLine::draw() {
  const std::uint64_t done = progress_.done_bytes, total = progress_.total_bytes;
  const char* stage = progress_.stage;
  if (stage != stage_) {
    stage_ = stage;
    since_ = Clock::now();
  }
  if (total == 0) return;
  std::string text = "\r\033[K";
  if (lines_ == 2) text += "\033[1A\033[K";
  if (step_.count > 1) text += batch_line(done, total) + "\n";
  say(text + current_line(done, total));
  lines_ = step_.count > 1 ? 2 : 1;
}

std::string ProgressLine::current_line(std::uint64_t done, std::uint64_t total) {
  const double seconds = std::chrono::duration<double>(Clock::now() - since_).count();
  const double rate = seconds > kLongEnough ? static_cast<double>(done) / seconds : 0;
  const std::uint64_t left = done < total ? total - done : 0;
  const auto percent = static_cast<int>(std::min<std::uint64_t>(done, total) * 100 / total);
  constexpr double kMega = 1e6;  // below, as of cartridge readers, whole megabytes say nothing
  const std::string pace = rate > 0 ? fmt::format("{}  {}",
                                                  rate < kMega ? fmt::format("{:.1f} kB/s", rate / 1e3)
                                                               : fmt::format("{:.0f} MB/s", rate / kMega),
                                                  time_left(static_cast<double>(left) / rate))
                                    : "";
  return fmt::format("{}  {:3} %  {}", stage_, percent, pace);
}

/// "[#####.........]  3 of 12  27 %  4 min left  kestrel.cue"
std::string ProgressLine::batch_line(std::uint64_t done, std::uint64_t total) {
  constexpr std::size_t kWidth = 24, kMostName = 40;
  // Of the current input the share that its stage has reached: an input is read and written more than once.
  const double own = static_cast<double>(std::min(done, total)) / static_cast<double>(total);
  const auto [before, whole] =
      step_.total_bytes != 0
          ? std::pair(static_cast<double>(step_.done_bytes) + own * static_cast<double>(step_.own_bytes),
                      static_cast<double>(step_.total_bytes))
          : std::pair(static_cast<double>(step_.number - 1) + own, static_cast<double>(step_.count));
  const double share = shown_share_ = std::clamp(before / whole, shown_share_, 1.0);
  const auto full = static_cast<std::size_t>(share * kWidth);
  const double seconds = std::chrono::duration<double>(Clock::now() - batch_since_).count();
  std::string name = printable(step_.name);
  if (name.size() > kMostName) name = "..." + name.substr(name.size() - kMostName + 3);
  while (!is_utf8(name)) name.erase(3, 1);  // never within a character
  constexpr double kEnough = 0.02;          // of the whole; before, an end is a guess
  return fmt::format("[{:#<{}}{:.<{}}]  {} of {}  {:3.0f} %  {}{}", "", full, "", kWidth - full, step_.number,
                     step_.count, share * 100, share > kEnough ? time_left(seconds / share * (1 - share)) + "  " : "",
                     name);
}

/// A terminal that is gone or full is no reason to fail.
void ProgressLine::say(const std::string& text) {
  out_ << text << std::flush;
  out_.clear();
}

}  // namespace opifex::cli
