#include "session.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <spdlog/logger.h>
#include <spdlog/sinks/basic_file_sink.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/report/words.hpp"

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

extern const Setting kJson{.name = "json", .help = "result as one JSON document on stdout"};
extern const Setting kQuiet{.name = "quiet", .help = "no progress and no messages"};
extern const Setting kProgress{.name = "progress", .help = "progress even if stderr is no terminal"};
extern const Setting kThreads{.name = "threads",
                              .type = SettingType::number,
                              .help = "threads to use (default: all)",
                              .value = "N",
                              .range = {0, 256}};
extern const Setting kLog{
    .name = "log", .type = SettingType::writes, .help = "append what is done to a file", .value = "FILE"};
extern const Setting kColor{.name = "color",
                            .type = SettingType::choice,
                            .help = "colours: auto (default; on a terminal, unless NO_COLOR is set), always, never",
                            .value = "WHEN",
                            .preset = "auto",
                            .words = [] {
                              return std::vector<std::string>{"auto", "always", "never"};
                            }};
extern const Setting kHelpFlag{.name = "help", .help = "this help"};

const SettingList& common_settings() {
  static const SettingList list = {&kJson, &kQuiet, &kProgress, &kColor, &kThreads, &kLog, &kHelpFlag};
  return list;
}

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
                 .hint = "give another name with <log>"});
  };
  if (inputs.read_as(path)) refuse("an input of this command");
  if (!std::filesystem::is_regular_file(path, ignored)) return;  // a terminal, a pipe
  const SourcePtr file = open_file(path);
  const Bytes head = read_up_to(*file, 0, 3);
  if (!head.empty() && as_text(head) != "[20") refuse("something else than a log");
}

bool has_setting(const SettingList& list, const Setting& setting) {
  return std::find(list.begin(), list.end(), &setting) != list.end();
}

/// Files the user named by themselves. An older report may well lie in a folder that is looked through.
InputFiles files_named(const Line& line) {
  InputFiles files;
  for (const std::string& word : line.words) files.add(word.starts_with("sim:") ? word.substr(4) : word);
  for (const Setting* setting : *line.list)
    if (setting->type == SettingType::reads)
      for (const std::string& value : line.settings.all(*setting)) files.add(value);
  return files;
}

std::filesystem::path report_folder_of(const Settings& settings) { return settings.text(jobs::kReport); }

std::shared_ptr<spdlog::logger> open_log(const std::string& path) {
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
  return logger;
}

}  // namespace

Session::Session(Line line, Console& console, std::stop_token stop)
    : line_(std::move(line)), console_(console), context_{progress_, 0}, document_(console.out, line_.command) {
  progress_.stop = std::move(stop);
  context_.threads = static_cast<unsigned>(settings().number(kThreads).value_or(0));
  const std::string color = settings().text(kColor);
  const auto style = [&](const TerminalFacts& terminal) {
    return report::TextStyle{terminal.width, color == "always" || (color != "never" && terminal.colours)};
  };
  style_ = style(console.out_terminal);
  error_style_ = style(console.err_terminal);
  const std::string log = settings().text(kLog);
  if (!log.empty()) require_log(log, jobs::named_inputs(words(), settings(), *line_.list));
  log_ = open_log(log);
  log_->info("command {}", line_.command);
  const bool terminal = console.terminal && !settings().flag(kQuiet);
  if (has_setting(*line_.list, jobs::kReport) && settings().has(jobs::kReport))
    report_ = std::make_unique<report::ReportFolder>(report::ReportRequest{
        report_folder_of(settings()), settings().flag(jobs::kOverwrite) ? Existing::replace : Existing::keep,
        files_named(line_), line_.command, OPIFEX_VERSION});
  if (terminal || settings().flag(kProgress)) drawing_ = std::make_unique<ProgressLine>(progress_, console.err);
}

Session::~Session() = default;

jobs::Record Session::begin_record() const {
  return {.job = line_.command, .version = OPIFEX_VERSION, .began = began_};
}

std::optional<jobs::RecordRequest> Session::record_request() const {
  const auto writes = [&](const Setting& setting) {
    return has_setting(*line_.list, setting) && settings().has(setting);
  };
  const bool repairs = writes(jobs::kCheckRecord) && settings().flag(jobs::kRepair);
  if (!writes(jobs::kRecordFile) && !repairs) return std::nullopt;
  const std::filesystem::path file =
      repairs ? settings().all(jobs::kCheckRecord).front() : settings().text(jobs::kRecordFile);
  jobs::RecordRequest request{.file = file, .job = line_.command, .version = OPIFEX_VERSION, .words = words()};
  request.existing = settings().flag(jobs::kOverwrite) ? Existing::replace : Existing::keep;
  request.reading = jobs::ReadRules::of(settings());
  request.settings = jobs::recorded_settings(settings(), *line_.list, file.parent_path());
  return request;
}

void Session::pause_progress() {
  if (drawing_) drawing_->wipe();
}

void Session::begins(const jobs::BatchStep& step) {
  if (drawing_) drawing_->begins(step);
}

void Session::result(const report::Json& json, const std::string& text) {
  result_of([&] { return json; }, [&] { return text; });
}

void Session::show(const std::string& text) {
  pause_progress();
  if (separate_) console_.out << "\n";
  separate_ = true;
  report::show(text, style_, console_.out);
  console_.out << std::flush;
}

void Session::line(const std::string& text) {
  pause_progress();
  separate_ = true;
  report::show(text, style_, console_.out);
  console_.out << std::flush;
}

void Session::message(const std::string& text) {
  log_->info("{}", report::plain_text(text));
  if (settings().flag(kQuiet) || wants_json()) return;
  pause_progress();
  console_.out << std::flush;
  report::show(text, error_style_, console_.err);
  console_.err << std::flush;
}

void Session::failed(const Error& error) {
  pause_progress();
  const int code = exit_code(error.details.fault);
  if (exit_ == kDone || exit_ == kBadNews) exit_ = code;
  errors_.push_back(report::to_json(error.details, code));
  const std::string text = report::error_text(error.details);
  log_->error("{}", text);
  console_.out << std::flush;
  console_.err << "opifex: " << text << "\n";
}

void Session::ended_by(const Error& error) {
  failed(error);
  exit_ = exit_code(error.details.fault);
}

void Session::finish_report() {
  if (exit_ == kUsage || exit_ == kInterrupted) return;
  try {
    for (const Error& error : report_->finish({exit_, errors_, summary_, lists_})) failed(error);
    message(fmt::format("wrote the report {}\n", (report_folder_of(settings()) / "report.html").string()));
  } catch (const Error& error) {
    failed(error);
  } catch (const std::exception& error) {
    failed(Error({.fault = Fault::device,
                  .code = "report_failed",
                  .what = "the report cannot be written",
                  .found = error.what()}));
  }
}

int Session::finish() {
  pause_progress();
  if (report_) finish_report();
  if (wants_json()) document_.finish(errors_, summary_, lists_);
  console_.out << std::flush;
  log_->info("exit {}", exit_);
  return exit_;
}

}  // namespace opifex::cli
