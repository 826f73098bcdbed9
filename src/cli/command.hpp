/// What every command declares. A command file is: words -> a job -> its report.
#pragma once

#include <string>
#include <vector>

#include <fmt/format.h>

#include "session.hpp"

namespace opifex::cli {

/// How many words a command takes beside its options.
struct WordCount {
  std::size_t least, most;
};
inline constexpr std::size_t kMany = SIZE_MAX;
inline constexpr WordCount kNoWords{0, 0}, kOneWord{1, 1}, kTwoWords{2, 2}, kSomeWords{1, kMany}, kAnyWords{0, kMany};

struct Command {
  const char* name;
  const char* arguments;  ///< "INPUT --to FORMAT"
  const char* summary;    ///< one line
  const char* details;    ///< for help; may be empty
  const char* examples;
  const SettingList& (*settings)();  ///< its own; may be null
  WordCount words;
  void (*run)(Session& session);
};
const std::vector<const Command*>& commands();
const Command* find_command(const std::string& name);
/// The command's own settings, then those of every command.
const SettingList& settings_of(const Command& command);

/// Runs one command line, without the program's name. Never throws.
int dispatch(const std::vector<std::string>& words, Console& console, std::stop_token stop);

/// Runs a job and lets its listener report; what it throws, and how it ends, goes to the session.
template <typename Job>
void run_job(Session& session, const Job& job, jobs::Listener& listener) {
  auto request = session.record_request();
  if (!request) {
    if (!run(job, listener, session.context()).good) session.bad_news();
    return;
  }
  if constexpr (requires { Job::kChangesInPlace; }) request->in_place = true;
  jobs::Recorder recorder(listener, *request, session.context());
  if (!run(job, recorder, session.context()).good) session.bad_news();
  session.message(recorder.finish() ? fmt::format("wrote the record {}\n", request->file.string())
                                    : "no record: no file was written that it could tell of\n");
}

}  // namespace opifex::cli
