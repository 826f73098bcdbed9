/// A command that is running: what the user chose, and how it speaks.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/settings.hpp"
#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/recorder.hpp"
#include "opifex/report/figure.hpp"
#include "opifex/report/json.hpp"
#include "opifex/report/report_folder.hpp"
#include "opifex/report/terminal.hpp"

#include "console.hpp"
#include "progress_line.hpp"

namespace spdlog {
class logger;
}

namespace opifex::cli {

/// docs/errors.md
enum Exit : int { kDone = 0, kBadNews = 1, kUsage = 2, kRefused = 3, kNeedsWord = 4, kDevice = 5, kInterrupted = 130 };
int exit_code(Fault fault);

/// Those of every command.
extern const Setting kJson, kQuiet, kProgress, kColor, kThreads, kLog, kHelpFlag;
const SettingList& common_settings();

/// One line of a command, taken apart.
struct Line {
  std::string command;
  std::vector<std::string> words;
  Settings settings;
  const SettingList* list = nullptr;  ///< all settings the command has
};

class Session {
 public:
  /// Error (needs_word, "not_a_log"; device) if there can be no log.
  Session(Line line, Console& console, std::stop_token stop);
  ~Session();
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;

  const std::vector<std::string>& words() const { return line_.words; }
  const Settings& settings() const { return line_.settings; }
  bool wants_json() const { return settings().flag(kJson); }
  JobContext& context() { return context_; }
  /// Where the job is to be recorded; nothing if nobody asked for it.
  std::optional<jobs::RecordRequest> record_request() const;
  /// The beginning of a record that is written elsewhere.
  jobs::Record begin_record() const;
  Console& console() { return console_; }

  /// A result: in `json` for --json, else as text on stdout.
  void result(const report::Json& json, const std::string& text);
  /// The same for lists of any length: only the form that is wanted is made.
  template <typename MakeJson, typename MakeText>
  void result_of(const MakeJson& make_json, const MakeText& make_text) {
    if (report_) report_of(make_json, make_text);
    if (!wants_json()) return show(make_text());
    pause_progress();
    document_.add(make_json());
  }
  /// What stdout has in another form: for the report alone, if there is one.
  template <typename MakeJson, typename MakeText>
  void report_of(const MakeJson& make_json, const MakeText& make_text) {
    if (report_) report_->add(as_result(make_json()), make_text());
  }
  /// Text that is a result, or a part of it, whose JSON comes later.
  void show(const std::string& text);
  /// A result whose text was shown already.
  void told_in_text(const report::Json& json, const std::string& text) {
    if (report_) report_->add(as_result(json), text);
    if (wants_json()) document_.add(json);
  }
  bool wants_report() const { return report_ != nullptr; }
  /// Figures of a result, made only if there is a report with room for them. What they read anew may be damaged: that
  /// was told already, and is no failure of the command.
  template <typename MakeFigures>
  void figures_of(const MakeFigures& make) {
    if (!report_) return;
    if (!report_->takes_figures()) return report_->without_figures();
    try {
      report_->add(make());
    } catch (const Error& error) {
      if (error.details.fault == Fault::interrupted) throw;
      if (error.details.fault != Fault::refused) failed(error);
      report_->without_figures();
    }
  }
  /// Part of a result that goes on from the one before: no empty line between them.
  void line(const std::string& text);
  /// Of a job over many inputs, for the end of the JSON document.
  void summary(report::Json json) { summary_ = std::move(json); }
  /// What known lists know, for the end of the JSON document.
  void known_lists(report::Json json) { lists_ = std::move(json); }
  /// Part of the answer that only a person needs; on stderr, not under --quiet or --json.
  void message(const std::string& text);
  /// Reports an Error of one input and remembers its exit code; other inputs go on.
  void failed(const Error& error);
  /// The same for what ended the command: its exit code counts.
  void ended_by(const Error& error);
  void bad_news() { exit_ = exit_ == kDone ? kBadNews : exit_; }
  void begins(const jobs::BatchStep& step);
  /// Prints the JSON document and writes the report, if asked for; the exit code of the command.
  int finish();

  /// Wipes the progress line until the next draw.
  void pause_progress();

 private:
  static report::LongResult as_result(report::Json json) { return {std::move(json), "", {}}; }
  static report::LongResult as_result(report::LongResult result) { return result; }
  void finish_report();

  Line line_;
  Console& console_;
  Progress progress_;
  JobContext context_;
  report::DocumentPrinter document_;
  report::Json errors_ = report::Json::array(), summary_ = nullptr, lists_ = nullptr;
  int exit_ = kDone;
  bool separate_ = false;
  report::TextStyle style_ = {}, error_style_ = {};
  std::int64_t began_ = seconds_now();
  std::shared_ptr<spdlog::logger> log_;
  std::unique_ptr<ProgressLine> drawing_;
  std::unique_ptr<report::ReportFolder> report_;
};

}  // namespace opifex::cli
