#include "opifex/report/batch.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/terminal.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

std::string percent(std::uint64_t part, std::uint64_t whole) {
  return whole == 0 ? "" : fmt::format("{:.0f} %", 100.0 * static_cast<double>(part) / static_cast<double>(whole));
}

std::string pace(std::uint64_t bytes, double seconds) {
  constexpr double kLongEnough = 0.01;  // before, a rate would be a guess
  return seconds < kLongEnough ? "" : fmt::format("{:.0f} MB/s", static_cast<double>(bytes) / seconds / 1e6);
}

std::string time_text(double seconds) {
  const auto whole = static_cast<std::uint64_t>(seconds);
  if (whole < 60) return fmt::format("{:.1f} s", seconds);
  if (whole < 3600) return fmt::format("{} min {} s", whole / 60, whole % 60);
  return fmt::format("{} h {} min", whole / 3600, whole / 60 % 60);
}

std::string kinds(const std::vector<Loss>& losses) {
  std::string text;
  for (const Loss& l : losses) text += (text.empty() ? "" : ", ") + fmt::format("{} ({})", l.kind, l.where);
  return text;
}

/// The kinds alone, for a table.
std::string short_kinds(const std::vector<Loss>& losses) {
  std::string text;
  for (const Loss& l : losses) text += (text.empty() ? "" : ", ") + l.kind;
  return text.empty() ? "nothing" : text;
}

std::string item_losses(const std::vector<jobs::BatchItem>& items) {
  std::string text;
  for (const jobs::BatchItem& item : items)
    if (!item.losses.empty()) text += fmt::format("  loses     {}: {}\n", printable(item.name), kinds(item.losses));
  return text;
}

std::string file_name(const std::filesystem::path& path) { return printable(path.filename().string()); }

std::string left_out_lines(const std::vector<jobs::LeftOut>& left_out) {
  std::string text;
  for (const jobs::LeftOut& left : left_out)
    text += fmt::format("  left out  {}: {}{}\n", printable(left.name), printable(left.why.what),
                        left.why.found.empty() ? "" : " (" + printable(left.why.found) + ")");
  return text;
}

std::string step_number(const jobs::BatchStep& step) {
  const std::size_t width = fmt::format("{}", step.count).size();
  return fmt::format("{:>{}}/{}", step.number, width, step.count);
}

Json result_json(const jobs::BatchResult& r) {
  return {{"input", r.name},        {"output", r.out.empty() ? Json() : Json(r.out.string())},
          {"bytes_in", r.bytes_in}, {"bytes_out", r.bytes_out},
          {"seconds", r.seconds},   {"damaged", r.damaged}};
}

}  // namespace

std::string batch_plan_text(const jobs::BatchPlan& plan) {
  Table table({path_column("Input"),
               path_column("Output"),
               {"In", Align::right},
               {"Out at most", Align::right},
               path_column("Would be lost")});
  for (const jobs::BatchItem& item : plan.items)
    table.add({item.name, item.out.string(), human_size(item.bytes_in),
               item.done_already ? "is there" : human_size(item.bytes_out()), short_kinds(item.losses)});
  std::string text = table.text() + "\n" + item_losses(plan.items) + left_out_lines(plan.left_out);
  return text + fmt::format("  {}, {} in, at most {} out, {} free ({})\n", plural(plan.items.size(), "image"),
                            human_size(plan.bytes_in), human_size(plan.bytes_out), human_size(plan.target.free_bytes),
                            plan.target.file_system);
}

std::string batch_start_text(const jobs::BatchPlan& plan) {
  std::string text = fmt::format("{} to {}: {} in, at most {} out\n", plural(plan.items.size(), "image"), plan.becomes,
                                 human_size(plan.bytes_in), human_size(plan.bytes_out));
  return text + item_losses(plan.items);
}

std::string batch_line(const jobs::BatchStep& step, const jobs::Written& written) {
  std::uint64_t in = 0, out = 0;
  for (const ImageFile& f : written.source.files) in += f.size_bytes;
  if (in == 0) in = written.source.size_bytes();
  for (const WrittenFile& f : written.outputs) out += f.size_bytes;
  const WritePlan& plan = written.conversion.plan;
  const std::string lead = written.outputs.empty() ? "" : file_name(leading_file(plan, written.outputs).path);
  std::string text = fmt::format("{}  {} -> {}  {}, {} of {}", step_number(step), printable(step.name), lead,
                                 human_size(out), percent(out, in), human_size(in));
  if (const std::string rate = pace(in, written.seconds); !rate.empty()) text += ", " + rate;
  if (!written.proof.compared.empty()) text += ", proved";
  text += "\n";
  for (const WrittenFile& f : written.outputs)
    if (!f.sha1.empty()) text += fmt::format("      sha1 {}  {}\n", f.sha1, file_name(f.path));
  if (written.damaged)
    for (const Warning& w : written.conversion.warnings)
      text += fmt::format("      warning: {} [{}]\n", printable(warning_text(w)), w.code);
  return text;
}

std::string batch_line(const jobs::BatchStep& step, const jobs::Checked& checked, double seconds) {
  const CheckResult& result = checked.result;
  const std::string rate = pace(result.bytes_read, seconds);
  std::string text =
      fmt::format("{}  {}  {}, {}{}\n", step_number(step), printable(step.name), state_text(to_string(result.verdict)),
                  human_size(result.bytes_read), rate.empty() ? "" : ", " + rate);
  for (const Finding& f : result.findings)
    if (f.severity != Severity::note)
      text += fmt::format("      {} {} [{}]\n", state_text(to_string(f.severity), 8), printable(f.message), f.code);
  return text;
}

std::string batch_summary_text(const jobs::BatchSummary& summary) {
  const auto damaged = static_cast<std::size_t>(std::count_if(summary.written.begin(), summary.written.end(),
                                                              [](const jobs::BatchResult& r) { return r.damaged; }));
  std::string text = "\n" + left_out_lines(summary.left_out);
  text += fmt::format("{} {}", plural(summary.written.size(), "image"), summary.verb);
  if (damaged > 0) text += fmt::format(" ({} {})", damaged, summary.flaw);
  if (!summary.there.empty()) text += fmt::format(", {} there already and right", summary.there.size());
  if (!summary.left_out.empty()) text += fmt::format(", {} left out", summary.left_out.size());
  text += fmt::format("; {} in", human_size(summary.bytes_in));
  if (summary.bytes_out > 0)
    text += fmt::format(", {} out ({})", human_size(summary.bytes_out), percent(summary.bytes_out, summary.bytes_in));
  return text + fmt::format(", {}\n", time_text(summary.seconds));
}

Json batch_summary_json(const jobs::BatchSummary& summary) {
  Json written = Json::array(), there = Json::array(), left = Json::array();
  for (const auto& r : summary.written) written.push_back(result_json(r));
  for (const auto& r : summary.there) there.push_back(result_json(r));
  for (const auto& l : summary.left_out) left.push_back({{"input", l.name}, {"code", l.why.code}, {"why", l.why.what}});
  return {{"done", written},
          {"there_already", there},
          {"left_out", left},
          {"bytes_in", summary.bytes_in},
          {"bytes_out", summary.bytes_out},
          {"seconds", summary.seconds}};
}

}  // namespace opifex::report
