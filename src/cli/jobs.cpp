// What converting, splitting, merging and building share: from a plan to its result.
#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/check/source_check.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {

namespace fs = std::filesystem;

namespace {

using Clock = std::chrono::steady_clock;
double seconds_since(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

/// As if they were written.
std::vector<WrittenFile> outputs_of(const WritePlan& plan) {
  std::vector<WrittenFile> files;
  for (const PlannedFile& f : planned_files(plan)) files.push_back({f.path, f.size_bytes, ""});
  return files;
}

}  // namespace

std::set<std::string> accepted_losses(const Session& session) {
  std::set<std::string> accepted;
  const auto& known = content_loss_kinds();
  for (const std::string& kind : comma_list(session.text("accept"))) {
    if (std::find(known.begin(), known.end(), kind) == known.end()) unknown_word("loss", kind, known);
    accepted.insert(kind);
  }
  return accepted;
}

WriteJob write_job(const Session& session, const fs::path& folder) {
  WriteJob job;
  job.inputs = session.inputs();
  job.existing = session.flag("overwrite") ? Existing::replace : Existing::keep;
  job.hash_outputs = session.flag("sha1");
  job.target = target_facts(folder);
  if (const std::string type = session.text("fs"); !type.empty()) job.target = with_file_system(job.target, type);
  return job;
}

std::vector<std::string> comma_list(const std::string& text) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at <= text.size() && !text.empty();) {
    const std::size_t end = std::min(text.find(',', at), text.size());
    const std::string word(trim(std::string_view(text).substr(at, end - at)));
    if (!word.empty()) words.push_back(word);
    at = end + 1;
  }
  return words;
}

fs::path leading_output(const Image& image, const Format& target, const std::string& out) {
  const fs::path extension(std::string(target.extensions.front()));
  // A container makes its own folders: what is named is where they begin.
  if (target.shape == Shape::tree)
    return (out.empty() ? default_output(image, target, {}).parent_path() : fs::path(out)) / output_stem(image);
  if (out.empty()) return default_output(image, target, {});
  const fs::path path(out);
  const fs::path inside = path / (output_stem(image) + extension.string());
  if (out.ends_with('/') || fs::is_directory(path)) return inside;
  if (target.shape != Shape::sheet) return path;
  const std::string own = fold_case(path.extension().string());
  if (own == extension) return path;
  if (own == ".bin" || own == ".img") return fs::path(path).replace_extension(extension);
  return inside;
}

void take_findings(Session& session, const std::vector<Finding>& findings, const Image& image,
                   std::vector<Warning>& warnings) {
  if (findings.empty()) return;
  session.bad_news();
  for (const Finding& f : findings) warnings.push_back({f.code, "the input is damaged: " + f.message});
  if (session.flag("strict"))
    throw Error({.code = "source_damaged",
                 .what = "the input is damaged, and --strict takes no damaged one",
                 .file = image.path.string(),
                 .found = findings.front().message,
                 .hint = "opifex check lists everything; without --strict it is written as far as it can be read"});
}

void run_conversion(Session& session, const Image& image, const ConversionJob& job) {
  const auto start = Clock::now();
  const ConvertRequest request{job.target, job.out, job.options, accepted_losses(session)};
  WriteJob write = write_job(session, job.out.parent_path());
  Conversion conversion = plan_conversion(image, request, session.work());
  conversion.warnings.insert(conversion.warnings.begin(), image.warnings.begin(), image.warnings.end());
  // What scrubbing leaves out is left out of the input as the writers see it: that can be proved.
  const bool changed = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                   [](const Loss& l) { return is_content_loss(l.kind); });
  conversion.losses.insert(conversion.losses.end(), job.losses.begin(), job.losses.end());
  if (job.limit_bytes != 0) limit_parts(conversion.plan, job.limit_bytes);
  report::JobResult done;
  const auto finish = [&](const std::string& text) {
    done.seconds = seconds_since(start);
    session.result(report::job_json(image, conversion, done), text);
  };
  if (session.flag("plan")) {
    done.planned_only = true;
    done.outputs = outputs_of(conversion.plan);
    finish(report::plan_text(image, job.target->title, conversion, write.target));
    // The plan runs into the same walls as the job would.
    refuse_losses(conversion, image, *job.target);
    return check_plan(image, conversion.plan, write);
  }
  refuse_losses(conversion, image, *job.target);
  const bool bad_sectors = std::any_of(conversion.warnings.begin(), conversion.warnings.end(),
                                       [](const Warning& w) { return w.code == "bad_sectors"; });
  if (bad_sectors) session.bad_news();
  Proof proof;
  const bool can_prove = !changed || can_be_compared(image, *job.target, conversion.losses);
  const Inspect how = !can_prove              ? Inspect::readable
                      : session.flag("prove") ? Inspect::prove
                      : changed               ? Inspect::readable
                                              : Inspect::layout;
  // A target that keeps no raw sectors had the planner look at all of them.
  const bool kept_raw = job.target->holds.form2 && job.target->holds.raw_headers;
  const SourceCheck source(image, kept_raw, session.work());
  write.inspect = [&, look = inspection_of(image, request, conversion.plan, how, proof, session.work())](
                      const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    take_findings(session, source.finish(), image, conversion.warnings);
    look(staged, written);
  };
  done.outputs = write_outputs(image, conversion.plan, write, session.work());
  if (session.flag("prove") && !can_prove)
    session.message("opifex: --prove is left out: with accepted losses input and output differ\n");
  done.proof_sha1 = proof.sha1;
  done.proof_compared = proof.compared;
  finish(report::job_text(conversion, done));
}

void run_plan(Session& session, const Image& source, std::string_view becomes, const Conversion& conversion,
              const Prover& prover) {
  const auto start = Clock::now();
  WriteJob job = write_job(session, conversion.plan.outputs.front().path.parent_path());
  report::JobResult done;
  Proof proof;
  job.inspect = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    proof = prover(staged, written, session.flag("prove"));
  };
  done.planned_only = session.flag("plan");
  if (done.planned_only) {
    check_plan(source, conversion.plan, job);
    done.outputs = outputs_of(conversion.plan);
  } else {
    done.outputs = write_outputs(source, conversion.plan, job, session.work());
  }
  done.proof_sha1 = proof.sha1;
  done.proof_compared = proof.compared;
  done.seconds = seconds_since(start);
  session.result(report::job_json(source, conversion, done),
                 done.planned_only ? report::plan_text(source, becomes, conversion, job.target)
                                   : report::job_text(conversion, done));
}

}  // namespace opifex::cli
