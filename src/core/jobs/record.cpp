#include "opifex/core/jobs/record.hpp"

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"

#include "../base/json_names.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;
using nlohmann::json;

namespace {

std::string time_text(std::int64_t seconds) {
  const CivilTime t = civil_time(seconds);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", t.year, t.month, t.day, t.hour, t.minute, t.second);
}

/// Nothing for a text of another shape: only what time_text() writes is read.
std::optional<std::int64_t> time_of(const std::string& text) {
  CivilTime t;
  int end = 0;
  const int fields = std::sscanf(text.c_str(), "%4d-%2d-%2dT%2d:%2d:%2dZ%n", &t.year, &t.month, &t.day, &t.hour,
                                 &t.minute, &t.second, &end);
  const auto seconds = fields == 6 ? seconds_of(t) : std::nullopt;
  return seconds && time_text(*seconds) == text ? seconds : std::nullopt;
}

json or_null(const std::string& text) { return text.empty() ? json() : json(text); }

json files_json(const std::vector<RecordedFile>& files, const fs::path& folder) {
  json all = json::array();
  for (const RecordedFile& f : files) {
    all.push_back({{"path", name_json(seen_from(folder, f.path))},
                   {"size_bytes", f.size_bytes},
                   {"sha1", f.sha1},
                   {"sha256", f.sha256}});
    if (f.replaced) all.back()["replaced"] = true;
  }
  return all;
}

json content_json(const std::optional<RecordedContent>& content, const fs::path& folder) {
  if (!content) return nullptr;
  return {{"lead", name_json(seen_from(folder, content->lead))},
          {"inside", content->inside.empty() ? json() : name_json(content->inside)},
          {"format", content->format},
          {"kind", content->digest.kind},
          {"bytes", content->digest.bytes},
          {"sha256", content->digest.sha256}};
}

json result_json(const RecordedResult& r, const fs::path& folder) {
  json losses = json::array();
  for (const Loss& loss : r.losses)
    losses.push_back({{"kind", loss.kind},
                      {"where", loss.where},
                      {"detail", loss.detail},
                      {"accepted", loss.accepted},
                      {"accepted_by", loss.accepted && is_content_loss(loss.kind) ? json("accept") : json()}});
  return {{"what", printable(r.what)},
          {"inputs", files_json(r.inputs, folder)},
          {"outputs", files_json(r.outputs, folder)},
          {"input_content", content_json(r.input, folder)},
          {"output_content", content_json(r.output, folder)},
          {"same_content", r.same},
          {"compared", or_null(r.compared)},
          {"compared_sha1", or_null(r.kept_sha1)},
          {"steps", r.steps},
          {"losses", losses}};
}

[[noreturn]] void no_record(const fs::path& file, const std::string& found) {
  throw Error({.code = "no_record",
               .what = "this is no record of a job, or it is broken",
               .file = file.string(),
               .found = printable(found),
               .expected = "what a job has written with <record>"});
}

class Reader {
 public:
  explicit Reader(const fs::path& file) : file_(file), folder_(file.parent_path()) {}

  Record read(std::string_view text) {
    const json document = json::parse(text, nullptr, false);
    // What a dump leaves beside it has its record inside.
    if (document.is_object() && document.contains("proof") && document["proof"].is_object())
      return record(document["proof"]);
    return record(document);
  }

 private:
  Record record(const json& from) {
    if (!from.is_object() || from.value("opifex_record", 0) != 1) no_record(file_, "something else");
    Record record{.job = text(from, "job"), .version = text(from, "version")};
    record.began = time(from, "began");
    record.ended = time(from, "ended");
    for (const auto& [name, value] : at(from, "settings").items())
      record.settings.emplace_back(name, value.get<std::string>());
    for (const json& one : array(from, "results")) record.results.push_back(result(one));
    for (const json& one : array(from, "failures")) record.failures.push_back(one.get<std::string>());
    return record;
  }

  RecordedResult result(const json& from) {
    RecordedResult r{.what = text(from, "what"), .inputs = files(from, "inputs"), .outputs = files(from, "outputs")};
    r.input = content(from, "input_content");
    r.output = content(from, "output_content");
    r.same = at(from, "same_content").get<bool>();
    r.compared = optional_text(from, "compared");
    r.kept_sha1 = optional_text(from, "compared_sha1");
    for (const json& step : array(from, "steps")) r.steps.push_back(step.get<std::string>());
    for (const json& loss : array(from, "losses"))
      r.losses.push_back(
          {text(loss, "kind"), text(loss, "where"), text(loss, "detail"), at(loss, "accepted").get<bool>()});
    // A word that contradicts the hashes beside it is worth nothing.
    if (r.same && !(r.input && r.output && r.input->digest == r.output->digest))
      no_record(file_, "two contents that are said to be the same, and are not");
    return r;
  }

  std::vector<RecordedFile> files(const json& from, const char* key) {
    std::vector<RecordedFile> all;
    for (const json& one : array(from, key)) {
      RecordedFile f{.path = place(one, "path"), .size_bytes = number(one, "size_bytes")};
      f.sha1 = digits(one, "sha1", 40);
      f.sha256 = digits(one, "sha256", 64);
      f.replaced = one.value("replaced", false);
      all.push_back(std::move(f));
    }
    return all;
  }

  std::optional<RecordedContent> content(const json& from, const char* key) {
    const json& one = at(from, key);
    if (one.is_null()) return std::nullopt;
    RecordedContent content{.lead = place(one, "lead"), .format = text(one, "format")};
    if (!at(one, "inside").is_null()) content.inside = name(one, "inside");
    content.digest = {text(one, "kind"), number(one, "bytes"), digits(one, "sha256", 64)};
    return content;
  }

  const json& at(const json& from, const char* key) const {
    if (!from.is_object() || !from.contains(key)) no_record(file_, std::string("no \"") + key + "\"");
    return from[key];
  }
  const json& array(const json& from, const char* key) const {
    const json& value = at(from, key);
    if (!value.is_array()) no_record(file_, std::string("\"") + key + "\" that is no list");
    return value;
  }
  std::string text(const json& from, const char* key) const { return at(from, key).get<std::string>(); }
  std::string optional_text(const json& from, const char* key) const {
    return at(from, key).is_null() ? std::string() : text(from, key);
  }
  std::uint64_t number(const json& from, const char* key) const {
    const json& value = at(from, key);
    if (!value.is_number_unsigned()) no_record(file_, std::string("\"") + key + "\" that is no number");
    return value.get<std::uint64_t>();
  }
  std::string digits(const json& from, const char* key, std::size_t count) const {
    std::string value = text(from, key);
    if (value.size() != count || value.find_first_not_of("0123456789abcdef") != value.npos)
      no_record(file_, std::string("a \"") + key + "\" that is no hash");
    return value;
  }
  std::int64_t time(const json& from, const char* key) const {
    const auto seconds = time_of(text(from, key));
    if (!seconds) no_record(file_, std::string("\"") + key + "\" that is no time");
    return *seconds;
  }
  std::string name(const json& from, const char* key) const {
    const auto name = name_of(at(from, key));
    if (!name || name->empty() || name->find('\0') != name->npos) no_record(file_, "a broken path");
    return *name;
  }
  /// Files are only read at these places.
  fs::path place(const json& from, const char* key) const {
    const fs::path path = name(from, key);
    return (path.is_absolute() ? path : folder_ / path).lexically_normal();
  }

  fs::path file_, folder_;
};

}  // namespace

std::string record_text(const Record& record, const fs::path& folder) {
  json settings = json::object(), results = json::array();
  for (const auto& [name, value] : record.settings) settings[name] = printable(value);
  for (const RecordedResult& r : record.results) results.push_back(result_json(r, folder));
  json failures = json::array();
  for (const std::string& failure : record.failures) failures.push_back(printable(failure));
  const json document = {{"opifex_record", 1},
                         {"job", record.job},
                         {"version", record.version},
                         {"began", time_text(record.began)},
                         {"ended", time_text(record.ended)},
                         {"settings", settings},
                         {"results", results},
                         {"failures", failures}};
  return document.dump(2, ' ', false, json::error_handler_t::replace) + "\n";
}

Record read_record(const fs::path& file) {
  constexpr std::uint64_t kMost = 16 << 20;  // in memory it takes ten times as much
  const SourcePtr source = open_file(file);
  if (source->size() > kMost)
    throw Error({.code = "too_large", .what = "this file is too large for a record", .file = file.string()});
  return parse_record(as_text(read_up_to(*source, 0, kMost)), file);
}

Record parse_record(std::string_view text, const fs::path& file) {
  try {
    return Reader(file).read(text);
  } catch (const json::exception& e) {  // something of another type than it should be
    no_record(file, e.what());
  }
}

}  // namespace opifex::jobs
