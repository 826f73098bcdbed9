#include "opifex/report/records.hpp"

#include <algorithm>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::report {
namespace {

using jobs::CheckedFile;
using jobs::CheckedResult;
using jobs::ContentState;
using jobs::FileState;
using jobs::RecordedResult;

Json files_json(const std::vector<CheckedFile>& files) {
  Json all = Json::array();
  for (const CheckedFile& f : files)
    all.push_back({{"path", f.recorded.path.string()},
                   {"state", to_string(f.state)},
                   {"found", f.found.empty() ? Json() : Json(f.found.string())},
                   {"size_bytes", f.recorded.size_bytes},
                   {"sha256", f.recorded.sha256}});
  return all;
}

std::string state_words(const CheckedFile& f) {
  switch (f.state) {
    case FileState::unchanged:
      return "unchanged";
    case FileState::moved:
      return "moved: it is " + printable(f.found.string());
    case FileState::changed:
      return "CHANGED: other bytes than recorded";
    case FileState::gone:
      return "GONE";
    case FileState::replaced:
      return "replaced by the job itself";
  }
  return {};
}

std::string content_words(ContentState state, const std::string& trouble) {
  switch (state) {
    case ContentState::not_recorded:
      return "nothing was recorded of what it holds";
    case ContentState::same:
      return "decodes to the content that was recorded";
    case ContentState::differs:
      return "DECODES TO SOMETHING ELSE than was recorded";
    case ContentState::unreadable:
      return "CANNOT BE DECODED: " + printable(trouble);
    case ContentState::gone:
      return "is not there to be decoded";
  }
  return {};
}

std::string side_text(std::string_view label, const std::vector<CheckedFile>& files, ContentState content,
                      const std::string& trouble) {
  std::string text;
  for (const CheckedFile& f : files)
    text += fmt::format("    {:<8} {}  {}\n", label, printable(f.recorded.path.string()), state_words(f));
  if (!files.empty() && content != ContentState::not_recorded)
    text += fmt::format("    {:<8}   {}\n", "", content_words(content, trouble));
  return text;
}

std::string proof_words(const RecordedResult& recorded, const CheckedResult& now) {
  if (recorded.same)
    return now.agree == true                  ? "proved again: both sides hold the same"
           : now.output == ContentState::same ? "the output holds what the input held when it was recorded"
                                              : "not proved";
  if (!recorded.compared.empty())
    return now.agree == true    ? "proved again: the output holds this of the input: " + printable(recorded.compared)
           : now.agree == false ? "THE SIDES NO LONGER AGREE"
                                : "not compared again: a side is missing";
  return recorded.input && recorded.output ? "no proof that both sides hold the same was recorded" : "";
}

bool any_moved(const jobs::RecordTold& told) {
  const auto moved = [](const CheckedFile& f) { return f.state == FileState::moved; };
  return std::any_of(told.results.begin(), told.results.end(), [&](const CheckedResult& r) {
    return std::any_of(r.inputs.begin(), r.inputs.end(), moved) ||
           std::any_of(r.outputs.begin(), r.outputs.end(), moved);
  });
}

}  // namespace

Json record_json(const jobs::RecordTold& told) {
  Json results = Json::array();
  for (std::size_t i = 0; i < told.results.size(); ++i) {
    const RecordedResult& recorded = told.record.results[i];
    const CheckedResult& now = told.results[i];
    results.push_back({{"what", recorded.what},
                       {"inputs", files_json(now.inputs)},
                       {"outputs", files_json(now.outputs)},
                       {"input_content", to_string(now.input)},
                       {"output_content", to_string(now.output)},
                       {"agree", now.agree ? Json(*now.agree) : Json()},
                       {"compared", recorded.compared.empty() ? Json() : Json(recorded.compared)},
                       {"trouble", now.trouble.empty() ? Json() : Json(now.trouble)}});
  }
  return {{"record", told.file.string()},     {"job", told.record.job},
          {"version", told.record.version},   {"good", told.good},
          {"failures", told.record.failures}, {"results", results}};
}

std::string record_told_text(const jobs::RecordTold& told) {
  const CivilTime t = civil_time(told.record.began);
  std::string text = fmt::format("{}: {}\n", printable(told.file.string()),
                                 !told.good        ? "not as it was recorded"
                                 : any_moved(told) ? "nothing has changed, but where some of it lies"
                                                   : "nothing has changed");
  text += fmt::format("  {} by opifex {}, {:04}-{:02}-{:02} {:02}:{:02} UTC\n", printable(told.record.job),
                      printable(told.record.version), t.year, t.month, t.day, t.hour, t.minute);
  for (std::size_t i = 0; i < told.results.size(); ++i) {
    const CheckedResult& now = told.results[i];
    text += fmt::format("  {}\n", printable(told.record.results[i].what));
    text += side_text("input", now.inputs, now.input, now.trouble);
    text += side_text("output", now.outputs, now.output, now.trouble);
    if (const std::string proof = proof_words(told.record.results[i], now); !proof.empty())
      text += fmt::format("    {}\n", proof);
  }
  if (told.results.empty()) text += "  it tells of no file at all\n";
  for (const std::string& failure : told.record.failures)
    text += fmt::format("  could not be done then: {}\n", printable(failure));
  return text;
}

}  // namespace opifex::report
