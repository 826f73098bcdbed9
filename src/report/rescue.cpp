#include <algorithm>
#include <array>
#include <chrono>

#include <fmt/chrono.h>

#include "opifex/core/base/text.hpp"
#include "opifex/report/dump.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

constexpr std::array kHows = {RescueHow::agreed, RescueHow::taken,    RescueHow::repaired, RescueHow::combined,
                              RescueHow::unsure, RescueHow::conflict, RescueHow::lost};

const char* meaning(RescueHow how) {
  switch (how) {
    case RescueHow::agreed:
      return "all dumps have the same";
    case RescueHow::taken:
      return "proved, or agreed on, in some of the dumps";
    case RescueHow::repaired:
      return "mended by their own error correction";
    case RescueHow::combined:
      return "put together from several dumps, and proved";
    case RescueHow::unsure:
      return "without proof: the most likely was taken";
    case RescueHow::conflict:
      return "dumps that prove themselves differ: the more frequent was taken";
    case RescueHow::lost:
      return "in no dump";
  }
  return "";
}

/// "dumps 1, 3"
std::string givers(const RescueRange& r) {
  if (r.inputs.empty()) return r.how == RescueHow::lost ? "-" : "several together";
  std::vector<std::size_t> numbers;
  for (const std::size_t i : r.inputs) numbers.push_back(i + 1);
  return fmt::format("dump{} {}", numbers.size() == 1 ? "" : "s", fmt::join(numbers, ", "));
}

}  // namespace

Json record(const char* job, const Json& result) {
  Json json = {
      {"opifex", 1},
      {"record", job},
      {"date",
       fmt::format("{:%FT%TZ}", fmt::gmtime(std::chrono::system_clock::to_time_t(std::chrono::system_clock::now())))}};
  json.update(result);
  return json;
}

std::string rescue_text(const RescueResult& result, const std::vector<std::string>& inputs) {
  std::string text;
  for (std::size_t i = 0; i < inputs.size(); ++i)
    text += fmt::format("  dump {:<6} {}: {} sectors from it alone\n", i + 1, printable(inputs[i]),
                        grouped(result.only_from[i]));
  for (const RescueHow how : kHows)
    if (const std::uint64_t n = result.count(how); n > 0)
      text += fmt::format("  {:<11} {} sectors: {}\n", to_string(how), grouped(n), meaning(how));
  Table table({{"From LBA", Align::right}, {"Sectors", Align::right}, {"How"}, {"From"}});
  std::size_t rows = 0, more = 0;
  constexpr std::size_t kMostRows = 24;
  for (const RescueRange& r : result.ranges) {
    if (r.how == RescueHow::agreed) continue;
    if (rows++ >= kMostRows) {
      ++more;
      continue;
    }
    table.add({fmt::format("{}", r.first), grouped(static_cast<std::uint64_t>(r.end - r.first)),
               std::string(to_string(r.how)), givers(r)});
  }
  if (rows > 0) text += "\n" + table.text("  ");
  if (more > 0) text += fmt::format("  ... and {} more ranges: --json lists all\n", grouped(more));
  return text;
}

void add_rescue(Json& json, const RescueResult& result, const std::vector<std::string>& inputs) {
  Json ranges = Json::array(), counts = Json::object(), alone = Json::array();
  for (const RescueRange& r : result.ranges) {
    Json from = Json::array();
    for (const std::size_t i : r.inputs) from.push_back(i + 1);
    ranges.push_back({{"lba", r.first}, {"count", r.end - r.first}, {"how", to_string(r.how)}, {"dumps", from}});
  }
  for (const RescueHow how : kHows) counts[std::string(to_string(how))] = result.count(how);
  for (std::size_t i = 0; i < inputs.size(); ++i)
    alone.push_back({{"path", inputs[i]}, {"sectors", result.only_from[i]}, {"shift_samples", result.shifts[i]}});
  json["inputs"] = inputs;
  json["verdict"] = !result.complete()                                                        ? "damaged"
                    : result.count(RescueHow::unsure) + result.count(RescueHow::conflict) > 0 ? "unsure"
                                                                                              : "intact";
  json["counts"] = counts;
  json["only_from"] = alone;
  json["ranges"] = ranges;
}

std::string folder_copy_text(const std::filesystem::path& from, const std::filesystem::path& into,
                             const dump::FolderCopy& copy, bool planned) {
  Facts facts;
  const auto line = [&](const char* label, const std::string& value) { facts.add(label, value); };
  line(planned ? "would copy" : "copied",
       fmt::format("{} files, {} ({} bytes), into {}", grouped(copy.files.size()), human_size(copy.total_bytes),
                   grouped(copy.total_bytes), into.string()));
  line("source", copy.file_system.empty() ? "unknown file system" : copy.file_system);
  line("note", "the files of a disc are not the disc: boot area, order, gaps and music stay behind");
  if (!planned) {
    const auto there = static_cast<std::uint64_t>(
        std::count_if(copy.files.begin(), copy.files.end(), [](const auto& f) { return f.was_there; }));
    if (there > 0) line("there", fmt::format("{} files of an earlier run, compared again", grouped(there)));
    line("verdict", copy.complete() ? "every file reads back as it was read" : "some files could not be read whole");
    for (const dump::CopiedFile& f : copy.files)
      for (const dump::UnreadableBytes& u : f.unreadable)
        line("unreadable", fmt::format("{}: {} bytes from {}, filled with 55h", f.path.string(), grouped(u.size_bytes),
                                       grouped(u.first)));
  }
  for (const Warning& w : copy.warnings) line("warning", fmt::format("{} [{}]", warning_text(w), w.code));
  return printable(from.string()) + "\n" + facts.text();
}

Json folder_copy_json(const std::filesystem::path& from, const std::filesystem::path& into,
                      const dump::FolderCopy& copy, bool planned) {
  Json outputs = Json::array();
  for (const dump::CopiedFile& f : copy.files) {
    Json unreadable = Json::array();
    for (const dump::UnreadableBytes& u : f.unreadable)
      unreadable.push_back({{"offset", u.first}, {"size_bytes", u.size_bytes}});
    Json output = {{"path", (into / f.path).string()},
                   {"size_bytes", f.size_bytes},
                   {"was_there", f.was_there},
                   {"unreadable", unreadable}};
    if (!f.sha1.empty()) output["sha1"] = f.sha1;
    outputs.push_back(output);
  }
  return {{"inputs", {from.string()}},
          {"outputs", outputs},
          {"losses", Json::array()},
          {"steps", {fmt::format("copy {} files", copy.files.size())}},
          {"planned_only", planned},
          {"file_system", copy.file_system},
          {"verdict", copy.complete() ? "intact" : "damaged"},
          {"warnings", to_json(copy.warnings)}};
}

}  // namespace opifex::report
