#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <cstdio>
#include <iostream>
#include <mutex>
#include <set>
#include <thread>

#include <fmt/format.h>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include "opifex/core/base/text.hpp"

#include "command.hpp"

namespace opifex::cli {

int exit_code(Fault fault) {
  switch (fault) {
    case Fault::usage:
      return kUsage;
    case Fault::refused:
      return kRefused;
    case Fault::needs_word:
      return kNeedsWord;
    case Fault::device:
      return kDevice;
    case Fault::interrupted:
      return kInterrupted;
  }
  return kDevice;
}

/// One line on stderr, at most 6 times a second, wiped before anything else is printed.
struct Session::Drawing {
  explicit Drawing(const Progress& progress) : progress_(progress), thread_([this] { run(); }) {}
  ~Drawing() {
    {
      const std::lock_guard lock(mutex_);
      done_ = true;
    }
    wake_.notify_all();
    thread_.join();
    wipe();
  }
  void wipe() {
    const std::lock_guard lock(mutex_);
    if (!drawn_) return;
    say("\r\033[K");
    drawn_ = false;
  }

 private:
  using Clock = std::chrono::steady_clock;

  void run() {
    constexpr auto kEvery = std::chrono::milliseconds(170);
    std::unique_lock lock(mutex_);
    while (!wake_.wait_for(lock, kEvery, [this] { return done_; })) draw();
  }

  void draw() {
    const std::uint64_t done = progress_.done_bytes, total = progress_.total_bytes;
    const char* stage = progress_.stage;
    if (stage != stage_) {
      stage_ = stage;
      since_ = Clock::now();
    }
    if (total == 0) return;
    const double seconds = std::chrono::duration<double>(Clock::now() - since_).count();
    constexpr double kLongEnough = 0.1;  // before, a rate would be a guess
    const double rate = seconds > kLongEnough ? static_cast<double>(done) / seconds : 0;
    const std::uint64_t left = done < total ? total - done : 0;
    const auto percent = static_cast<int>(std::min<std::uint64_t>(done, total) * 100 / total);
    const std::string pace =
        rate > 0 ? fmt::format("{:.0f} MB/s  {:.0f} s left", rate / 1e6, static_cast<double>(left) / rate) : "";
    say(fmt::format("\r\033[K{}  {:3} %  {}", stage, percent, pace));
    drawn_ = true;
  }

  /// A terminal that is gone or full is no reason to fail.
  static void say(const std::string& text) {
    std::fputs(text.c_str(), stderr);
    std::fflush(stderr);
  }

  const Progress& progress_;
  std::mutex mutex_;
  std::condition_variable wake_;
  const char* stage_ = "";
  Clock::time_point since_ = Clock::now();
  bool done_ = false, drawn_ = false;
  std::thread thread_;
};

namespace {

/// An older log goes on; whatever else is there stays as it is.
void require_log(const std::string& path, const InputFiles& inputs) {
  std::error_code ignored;
  if (!std::filesystem::exists(path, ignored)) return;
  const auto refuse = [&](std::string found) {
    throw Error({.fault = Fault::needs_word,
                 .code = "not_a_log",
                 .what = "the log would be written into a file that is none",
                 .file = path,
                 .found = std::move(found),
                 .hint = "give another name with --log"});
  };
  if (const auto input = inputs.read_as(path)) refuse("an input of this command");
  if (!std::filesystem::is_regular_file(path, ignored)) return;  // a terminal, a pipe
  const SourcePtr file = open_file(path);
  const Bytes head = read_up_to(*file, 0, 3);
  if (!head.empty() && as_text(head) != "[20") refuse("something else than a log");
}

void open_log(const std::string& path) {
  auto logger = std::make_shared<spdlog::logger>("opifex");
  try {
    if (!path.empty()) logger->sinks().push_back(std::make_shared<spdlog::sinks::basic_file_sink_mt>(path));
  } catch (const spdlog::spdlog_ex& e) {
    throw Error({.fault = Fault::device,
                 .code = "log_failed",
                 .what = "the log cannot be written",
                 .file = path,
                 .found = e.what()});
  }
  logger->set_level(spdlog::level::info);
  spdlog::set_default_logger(std::move(logger));
}

}  // namespace

Session::Session(std::string command, po::variables_map options, std::stop_token stop)
    : command_(std::move(command)), options_(std::move(options)), work_{progress_, 0}, document_(std::cout, command_) {
  progress_.stop = std::move(stop);
  constexpr unsigned kMostThreads = 256;
  if (options_.count("threads") != 0) work_.threads = std::min(options_["threads"].as<unsigned>(), kMostThreads);
  if (const std::string log = text("log"); !log.empty()) require_log(log, inputs());
  open_log(text("log"));
  spdlog::info("command {}", command_);
  const bool terminal = ::isatty(STDERR_FILENO) == 1 && !flag("quiet");
  if (terminal || flag("progress")) drawing_ = std::make_unique<Drawing>(progress_);
}

Session::~Session() = default;

InputFiles Session::inputs() const {
  // What is written, and what is a name of something else; all other words may be files.
  static const std::set<std::string> outputs = {"out", "into", "report", "log", "to", "as", "title", "pick"};
  InputFiles files = noted_;
  const auto add = [&](std::string word) {
    if (word.starts_with("sim:")) word.erase(0, 4);
    std::error_code ignored;
    if (std::filesystem::is_directory(word, ignored))
      files.add_folder(word);
    else
      files.add(word);
  };
  for (const auto& [name, value] : options_) {
    if (outputs.contains(name)) continue;
    if (const auto* one = boost::any_cast<std::string>(&value.value())) add(*one);
    if (const auto* many = boost::any_cast<std::vector<std::string>>(&value.value()))
      for (const std::string& word : *many) add(word);
  }
  return files;
}

std::vector<std::string> Session::list(const char* name) const {
  return options_.count(name) != 0 ? options_[name].as<std::vector<std::string>>() : std::vector<std::string>{};
}

void Session::pause_progress() {
  if (drawing_) drawing_->wipe();
}

void Session::result(const report::Json& json, const std::string& text) {
  pause_progress();
  if (flag("json")) return document_.add(json);
  if (separate_) std::cout << "\n";
  separate_ = true;
  std::cout << printable_lines(text) << std::flush;
}

void Session::message(const std::string& text) {
  const std::string shown = printable_lines(text);
  spdlog::info("{}", shown);
  if (flag("quiet") || flag("json")) return;
  pause_progress();
  std::cout << std::flush;
  std::cerr << shown << std::flush;
}

void Session::failed(const Error& error) {
  pause_progress();
  const int code = exit_code(error.details.fault);
  if (exit_ == kDone || exit_ == kBadNews) exit_ = code;
  errors_.push_back(report::to_json(error.details, code));
  spdlog::error("{}", error.what());
  std::cout << std::flush;
  std::cerr << "opifex: " << error.what() << "\n";
}

int Session::finish() {
  pause_progress();
  if (flag("json")) document_.finish(errors_);
  std::cout << std::flush;
  spdlog::info("exit {}", exit_);
  return exit_;
}

}  // namespace opifex::cli
