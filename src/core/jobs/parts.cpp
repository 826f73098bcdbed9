#include "parts.hpp"

#include <map>

#include "opifex/core/check/source_check.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/jobs/writing.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

/// A plan that only cuts or joins files.
void run_file_plan(const fs::path& input, const char* becomes, const WritePlan& plan, const WriteRules& rules,
                   Listener& listener, JobContext& context) {
  Image source;
  source.path = input;
  source.format = &bare_format(Stored::blocks);
  run_plan(
      source, becomes, {plan, {}, {}}, rules,
      [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove) {
        return prove ? prove_copies(plan, *staged, written, context) : Proof{};
      },
      listener, context);
}

/// What the parts were before they were cut.
fs::path whole_name(const fs::path& part) {
  const fs::path whole = part_set_of(part)->whole();
  if (whole.has_extension()) return whole;
  const std::string_view extension = usual_format(false).extensions.front();
  return whole.string() + std::string(extension);
}

}  // namespace

Outcome join_parts(const fs::path& part, const std::string& out, const WriteRules& rules, Listener& listener,
                   JobContext& context) {
  Outcome outcome;
  fs::path target = out;
  if (out.ends_with('/') || fs::is_directory(out)) target /= whole_name(part);
  const WritePlan plan = plan_join(part, target);
  // Parts that were cut off, or are not all there, give a file that looks whole.
  const Image whole = open_image(part);
  std::vector<Warning> warnings = whole.warnings;
  for (const Warning& w : whole.warnings)
    if (w.cause == Cause::uneven_part) outcome.good = false;
  if (take_findings(SourceCheck(whole, true, context).finish(), whole, rules, warnings)) outcome.good = false;
  for (const Warning& w : warnings) listener.message(w);
  run_file_plan(part, "one file", plan, rules, listener, context);
  return outcome;
}

namespace {

/// Two files of one name would have parts of one name.
void refuse_same_parts(const std::map<std::string, WritePlan>& plans) {
  std::map<fs::path, std::string> targets;
  for (const auto& [file, plan] : plans)
    for (const PlannedFile& part : planned_files(plan)) {
      const auto [at, is_new] = targets.try_emplace(part.path, file);
      if (is_new) continue;
      throw Error({.fault = Fault::needs_word,
                   .code = "same_output",
                   .what = "several files would get parts of the same name",
                   .file = part.path.string(),
                   .found = at->second + " + " + file,
                   .expected = "a name for each",
                   .hint = "cut them into different folders with <out>"});
    }
}

/// Room for the parts of all files.
void refuse_full_drive(const std::map<std::string, WritePlan>& plans, const fs::path& folder, const WriteRules& rules) {
  std::vector<PlannedFile> all;
  for (const auto& [file, plan] : plans)
    for (PlannedFile& part : planned_files(plan)) all.push_back(std::move(part));
  check_fits(all, rules.target(folder));
}

}  // namespace

Outcome cut_files(const std::vector<std::string>& files, const fs::path& folder, std::uint64_t limit,
                  const WriteRules& rules, Listener& listener, JobContext& context) {
  Outcome outcome;
  std::map<std::string, WritePlan> plans;
  const auto failed = [&](const Error& e) {
    if (files.size() == 1 || ends_all(e)) throw Error(e);
    outcome.failures.push_back(e.details);
    listener.failed(e);
  };
  for (const std::string& file : files) {
    try {
      plans.emplace(file, plan_split(file, folder, limit));
    } catch (const Error& e) {
      failed(e);
    }
  }
  refuse_same_parts(plans);
  if (files.size() > 1) refuse_full_drive(plans, folder, rules);
  for (const auto& [file, plan] : plans) {
    try {
      run_file_plan(file, "parts", plan, rules, listener, context);
    } catch (const Error& e) {
      failed(e);
    }
  }
  return outcome;
}

}  // namespace opifex::jobs
