#include "opifex/report/report_folder.hpp"

#include <cerrno>
#include <cstdlib>
#include <fstream>
#include <map>
#include <set>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/report/csv.hpp"
#include "opifex/report/terminal.hpp"

#include "gnuplot.hpp"
#include "page.hpp"

namespace opifex::report {
namespace {

namespace fs = std::filesystem;
constexpr const char *kPage = "report.html", *kResult = "result.json";
constexpr std::size_t kMostFigures = 24, kMostText = 64 << 10, kMostSubjects = 3;

/// A folder of our own, gone with all that is in it when this is.
class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::error_code error;
    fs::path parent = fs::temp_directory_path(error);
    if (!error) parent = fs::absolute(parent, error);
    if (error)
      throw Error({.fault = Fault::device,
                   .code = "no_temporary_folder",
                   .what = "there is no folder for temporary files",
                   .found = error.message(),
                   .hint = "TMPDIR names one"});
    std::string name = (parent / "opifex-report-XXXXXX").string();
    if (!::mkdtemp(name.data())) throw_system_error("cannot make a folder for temporary files", name, errno);
    path_ = name;
  }
  TemporaryFolder(const TemporaryFolder&) = delete;
  ~TemporaryFolder() {
    std::error_code ignored;
    fs::remove_all(path_, ignored);
  }
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
};

bool is_plain_name(const std::string& name) {
  return !name.empty() && name[0] != '.' &&
         name.find_first_not_of("abcdefghijklmnopqrstuvwxyz0123456789-.") == std::string::npos;
}

/// The files of an older report, by name, with their SHA-1.
using ReportFiles = std::map<std::string, std::string>;

std::string sha1_of(const fs::path& file) {
  const SourcePtr source = open_file(file);
  Digest digest("sha1");
  constexpr std::size_t kStep = 1 << 20;
  for (std::uint64_t at = 0; at < source->size(); at += kStep) digest.update(read_up_to(*source, at, kStep));
  return digest.finish();
}

/// Nothing if there is no older report of ours.
std::optional<ReportFiles> older_report(const fs::path& folder) {
  std::error_code ignored;
  const fs::path result = folder / kResult;
  if (!fs::is_regular_file(result, ignored) || !fs::is_regular_file(folder / kPage, ignored)) return std::nullopt;
  // The list stands at the end, however long the results are.
  constexpr std::uint64_t kTail = 128 << 10;
  const SourcePtr file = open_file(result);
  const std::uint64_t from = file->size() - std::min(kTail, file->size());
  const Bytes tail = read_up_to(*file, from, kTail);
  const std::string text(as_text(tail));
  const std::string key = "\n  \"report\": ";
  const std::size_t at = text.rfind(key), end = text.rfind('}');
  if (at == std::string::npos || end < at + key.size()) return std::nullopt;
  const Json report = Json::parse(text.substr(at + key.size(), end - at - key.size()), nullptr, false);
  if (!report.is_object() || !report.contains("files") || !report["files"].is_object()) return std::nullopt;
  ReportFiles files;
  for (const auto& [name, sha1] : report["files"].items())
    if (sha1.is_string() && is_plain_name(name)) files[name] = sha1.get<std::string>();
  files[kResult];
  return files;
}

[[noreturn]] void refuse_folder(const fs::path& folder, const char* code, std::string found, std::string hint) {
  throw Error({.fault = Fault::needs_word,
               .code = code,
               .what = "the report would be written among other files",
               .file = folder.string(),
               .found = std::move(found),
               .hint = std::move(hint)});
}

/// Before hours of work.
void require_place(const ReportRequest& request) {
  std::error_code ignored;
  if (!fs::exists(fs::symlink_status(request.folder, ignored))) return;
  if (!fs::is_directory(request.folder, ignored))
    refuse_folder(request.folder, "not_a_report", "a file", "give another name with <report>");
  if (fs::is_empty(request.folder, ignored)) return;
  const auto older = older_report(request.folder);
  if (!older)
    refuse_folder(request.folder, "not_a_report", "a folder with other files",
                  "give a new or an empty folder with <report>");
  for (const auto& [name, sha1] : *older) refuse_existing({request.folder / name}, request.inputs, Existing::replace);
  if (request.existing == Existing::keep)
    refuse_folder(request.folder, "report_exists", "an older report",
                  "<overwrite> replaces it, or <report> names another folder");
}

void write_csv(const ResultTable& table, const fs::path& file) {
  std::ofstream out(file, std::ios::binary);
  std::vector<std::string> row;
  std::vector<std::size_t> filled;
  for (std::size_t c = 0; c < table.columns().size(); ++c)
    if (!table.is_empty(c)) filled.push_back(c), row.push_back(table.columns()[c]);
  out << csv_row(row);
  table.each(table.rows(), [&](const std::vector<Cell>& cells) {
    row.clear();
    for (const std::size_t c : filled) row.push_back(cells[c].text);
    out << csv_row(row);
  });
  out.close();
  if (!out) throw_system_error("the report cannot be written", file.string(), errno);
}

std::string whole_text(const fs::path& file) {
  const SourcePtr source = open_file(file);
  return std::string(as_text(read_up_to(*source, 0, static_cast<std::size_t>(source->size()))));
}

/// What a result is about.
std::string subject_of(const Json& result) {
  for (const char* key : {"path", "inputs", "source", "list", "shelf", "into"}) {
    const auto at = result.find(key);
    if (at == result.end()) continue;
    if (at->is_string()) return at->get<std::string>();
    if (at->is_array() && !at->empty() && at->front().is_string())
      return at->front().get<std::string>() + (at->size() > 1 ? fmt::format(" and {} more", at->size() - 1) : "");
  }
  return {};
}

void copy_into(OutputFile& output, const fs::path& file) {
  const SourcePtr source = open_file(file);
  constexpr std::size_t kStep = 1 << 20;
  for (std::uint64_t at = 0; at < source->size(); at += kStep) output.write(read_up_to(*source, at, kStep));
}

}  // namespace

struct ReportFolder::Parts {
  explicit Parts(const std::string& command)
      : json(work.path() / kResult, std::ios::binary), printer(json, command), tables(work.path()) {}
  TemporaryFolder work;
  std::ofstream json;
  DocumentPrinter printer;
  ResultTables tables;
  Figures figures;
  std::optional<Figure> lonely;  // the first of those that are of interest alone; the second takes its mark away
  std::vector<std::string> subjects;
  std::string text;
  bool text_cut = false;
  std::uint64_t results = 0;
};

ReportFolder::ReportFolder(ReportRequest request) : request_(std::move(request)) {
  require_place(request_);
  parts_ = std::make_unique<Parts>(request_.command);
}

ReportFolder::~ReportFolder() = default;

void ReportFolder::add(const LongResult& result, const std::string& marked) {
  const std::string text = plain_text(marked);
  ++parts_->results;
  parts_->tables.add(result.result);
  LongResult seen = result;
  if (result.next)
    seen.next = [&]() -> std::optional<Json> {
      std::optional<Json> item = result.next();
      if (item) parts_->tables.add_item(result.key, *item);
      return item;
    };
  parts_->printer.add(seen);
  const std::string subject = subject_of(result.result);
  if (!subject.empty() && parts_->subjects.size() < kMostSubjects) parts_->subjects.push_back(subject);
  const std::size_t room = kMostText - std::min(kMostText, parts_->text.size());
  if (!parts_->text.empty() && room > 0) parts_->text += '\n';
  parts_->text += text.substr(0, room);
  parts_->text_cut = parts_->text_cut || text.size() > room;
}

bool ReportFolder::takes_figures() const { return parts_->figures.size() < kMostFigures; }

void ReportFolder::add(Figures figures) {
  for (Figure& figure : figures) {
    // A second one: neither is alone.
    std::optional<Figure>& lonely = parts_->lonely;
    if (!figure.if_alone)
      parts_->figures.push_back(std::move(figure));
    else if (!lonely)
      lonely = std::move(figure);
    else
      lonely->if_alone = false;
  }
}

/// Those that are drawn, each under a name of its own.
Figures ReportFolder::all_figures() {
  Figures figures = std::move(parts_->figures);
  if (parts_->lonely && parts_->lonely->if_alone && parts_->results < 2)
    figures.insert(figures.begin(), std::move(*parts_->lonely));
  std::set<std::string> names;
  for (Figure& figure : figures) {
    const std::string wanted = figure.name;
    for (int n = 2; !names.insert(figure.name).second; ++n) figure.name = fmt::format("{}-{}", wanted, n);
  }
  return figures;
}

std::vector<Error> ReportFolder::finish(const End& end) {
  Parts& parts = *parts_;
  const fs::path& work = parts.work.path();
  const Figures figures = all_figures();
  std::vector<Error> failures;
  std::error_code ignored;
  try {
    draw(work, figures);
  } catch (const Error& e) {
    failures.push_back(e);
  }
  parts.tables.add_errors(end.errors);
  std::vector<std::string> files;
  std::vector<std::pair<Figure, std::string>> drawn;
  for (const Figure& figure : figures) {
    const std::vector<std::string> own = files_of(figure);
    if (!std::all_of(own.begin(), own.end(),
                     [&](const std::string& name) { return fs::file_size(work / name, ignored) > 0 && !ignored; }))
      continue;
    files.insert(files.end(), own.begin(), own.end());
    drawn.emplace_back(figure, whole_text(work / (figure.name + ".svg")));
  }
  for (const auto& table : parts.tables.all()) {
    write_csv(*table, work / (table->name() + ".csv"));
    files.push_back(table->name() + ".csv");
  }
  const PageContent page{request_.command, request_.version, end.exit_code, seconds_now(),
                         parts.subjects,   parts.results,    parts.tables,  drawn,
                         undrawn_,         parts.text,       parts.text_cut};
  write_whole_file(work / kPage, page_html(page), Existing::keep);
  files.emplace_back(kPage);
  Json list = Json::object();
  for (const std::string& name : files) list[name] = sha1_of(work / name);
  files.emplace_back(kResult);
  parts.printer.finish(end.errors, end.summary, end.lists, Json{{"exit", end.exit_code}, {"files", list}});
  parts.json.close();
  if (!parts.json) throw_system_error("the report cannot be written", (work / kResult).string(), errno);
  place(files);
  return failures;
}

void ReportFolder::place(const std::vector<std::string>& files) {
  const fs::path& folder = request_.folder;
  require_place(request_);  // hours may have passed
  const ReportFiles old = older_report(folder).value_or(ReportFiles{});
  for (const std::string& name : files)
    if (!old.contains(name)) refuse_existing({folder / name}, request_.inputs, Existing::keep);
  OutputSet set(request_.existing, request_.inputs);
  for (const std::string& name : files) copy_into(set.add(folder / name), parts_->work.path() / name);
  set.commit();
  // What only the older report had would be taken for a part of this one. Changed by the user it stays.
  std::error_code ignored;
  for (const auto& [name, sha1] : old)
    if (std::find(files.begin(), files.end(), name) == files.end() && fs::is_regular_file(folder / name, ignored) &&
        sha1_of(folder / name) == sha1)
      fs::remove(folder / name, ignored);
}

}  // namespace opifex::report
