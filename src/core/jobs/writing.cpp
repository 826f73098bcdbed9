#include "opifex/core/jobs/writing.hpp"

#include <algorithm>
#include <chrono>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/source_check.hpp"
#include "opifex/core/convert/parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

std::int64_t Stopwatch::now_ns() {
  return std::chrono::steady_clock::now().time_since_epoch() / std::chrono::nanoseconds(1);
}
double Stopwatch::seconds() const { return static_cast<double>(now_ns() - start_ns_) / 1e9; }

std::vector<WrittenFile> outputs_of(const WritePlan& plan) {
  std::vector<WrittenFile> files;
  for (const PlannedFile& f : planned_files(plan)) files.push_back({f.path, f.size_bytes, ""});
  return files;
}

fs::path leading_output(const Image& image, const Format& target, const std::string& out, const Settings& settings) {
  const fs::path extension(std::string(target.output_extension(image, settings)));
  // A container makes its own folders: what is named is where they begin.
  if (target.shape == Shape::tree)
    return (out.empty() ? default_output(image, target, {}).parent_path() : fs::path(out)) / output_stem(image);
  if (out.empty()) return default_output(image, target, {}, settings);
  const fs::path path(out);
  const fs::path inside = path / (output_stem(image) + extension.string());
  if (out.ends_with('/') || fs::is_directory(path)) return inside;
  if (target.shape != Shape::sheet) return path;
  const std::string own = fold_case(path.extension().string());
  if (own == extension) return path;
  // Whoever names the data means the sheet beside them.
  if (bare_format(Stored::sectors).owns(own)) return fs::path(path).replace_extension(extension);
  return inside;
}

bool take_findings(const std::vector<Finding>& findings, const Image& image, const WriteRules& rules,
                   std::vector<Warning>& warnings) {
  if (findings.empty()) return false;
  for (const Finding& f : findings) warnings.push_back({f.code, "the input is damaged: " + f.message});
  if (rules.strict)
    throw Error({.code = "source_damaged",
                 .what = "the input is damaged, and nothing is made of a damaged one",
                 .file = image.path.string(),
                 .found = findings.front().message,
                 .hint = "<job check> lists everything; without <strict> it is written as far as it can be read"});
  return true;
}

PlannedConversion::PlannedConversion(ConversionOrder order, const WriteRules& rules, JobContext& context)
    : order_(std::move(order)), request_{order_.target, order_.out, order_.settings, rules.accepted} {
  const Stopwatch watch;
  conversion_ = plan_conversion(order_.image, request_, context);
  const auto& warnings = order_.image.warnings;
  conversion_.warnings.insert(conversion_.warnings.begin(), warnings.begin(), warnings.end());
  // What scrubbing leaves out is left out of the input as the writers see it: that can be proved.
  changed_ = std::any_of(conversion_.losses.begin(), conversion_.losses.end(),
                         [](const Loss& l) { return is_content_loss(l.kind); });
  conversion_.losses.insert(conversion_.losses.end(), order_.losses.begin(), order_.losses.end());
  if (order_.limit_bytes != 0) limit_parts(conversion_.plan, order_.limit_bytes);
  planning_seconds_ = watch.seconds();
}

bool PlannedConversion::can_prove() const {
  return !changed_ || can_be_compared(order_.image, *order_.target, conversion_.losses);
}

Inspect PlannedConversion::how(const WriteRules& rules) const {
  if (!can_prove()) return Inspect::readable;
  if (rules.prove) return Inspect::prove;
  return changed_ ? Inspect::readable : Inspect::layout;
}

void PlannedConversion::check_walls(const WriteRules& rules) const {
  refuse_losses(conversion_, order_.image, *order_.target);
  check_plan(order_.image, conversion_.plan, rules.for_folder(order_.out.parent_path()));
}

void PlannedConversion::tell(const WriteRules& rules, Listener& listener) const {
  const TargetFacts target = rules.target(order_.out.parent_path());
  Written planned{.source = order_.image,
                  .becomes = std::string(order_.target->title),
                  .conversion = conversion_,
                  .target = target,
                  .planned_only = true,
                  .outputs = outputs_of(conversion_.plan),
                  .seconds = planning_seconds_,
                  .of_batch = of_batch_};
  listener.result(planned);
}

void PlannedConversion::show(const WriteRules& rules, Listener& listener) const {
  tell(rules, listener);
  // The plan runs into the same walls as the job would.
  check_walls(rules);
}

PlannedConversion::Done PlannedConversion::run(const WriteRules& rules, Listener& listener, JobContext& context) {
  refuse_losses(conversion_, order_.image, *order_.target);
  WriteJob write = rules.for_folder(order_.out.parent_path());
  Written done{.source = order_.image,
               .becomes = std::string(order_.target->title),
               .conversion = conversion_,
               .seconds = planning_seconds_,
               .of_batch = of_batch_};
  done.damaged = std::any_of(conversion_.warnings.begin(), conversion_.warnings.end(),
                             [](const Warning& w) { return w.cause == Cause::bad_sectors; });
  // A target that keeps no raw sectors had the planner look at all of them.
  const bool kept_raw = order_.target->holds.form2 && order_.target->holds.raw_headers;
  const SourceCheck check(order_.image, kept_raw, context);
  write.inspect = [&, look = inspection_of(order_.image, request_, conversion_.plan, how(rules), done.proof, context)](
                      const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    const auto* rom = std::get_if<RomContent>(&order_.image.content);
    const std::vector<Finding> findings = rom ? damage_that_stays(*rom, request_.settings) : check.finish();
    if (take_findings(findings, order_.image, rules, conversion_.warnings)) done.damaged = true;
    look(staged, written);
    context.progress.check_stop();  // what was small enough was read in one go
  };
  carry_out(done, write, context);
  if (rules.prove && !can_prove())
    listener.message({"not_proved", "the proof is left out: with accepted losses input and output differ"});
  listener.result(done);
  return {std::move(done.outputs), done.seconds, done.damaged};
}

namespace {

/// The files of a plan that are there, leading one last as written; empty if one is missing.
std::vector<WrittenFile> files_there(const WritePlan& plan) {
  std::vector<WrittenFile> there;
  const auto add = [&](const fs::path& path) {
    std::error_code error;
    const std::uint64_t size = fs::is_regular_file(path, error) ? fs::file_size(path, error) : 0;
    if (error || size == 0) return false;
    there.push_back({path, size, ""});
    return true;
  };
  for (const PlannedOutput& o : plan.outputs) {
    std::size_t parts = 0;
    while (o.part_bytes != 0 && add(part_path(o.path, parts, o.part_names))) ++parts;
    if (parts == 0 && !add(o.path)) return {};
  }
  return there;
}

/// The image that `lead` opens reads these files and no others: else what is proved is not what lies there.
bool reads_only(const fs::path& lead, const std::vector<WrittenFile>& there, const OpenOptions& options) {
  const Image image = open_image(lead, options);
  InputFiles known;
  for (const WrittenFile& f : there) known.add(f.path);
  return std::all_of(image.files.begin(), image.files.end(),
                     [&](const ImageFile& f) { return !f.missing && known.read_as(f.path).has_value(); });
}

}  // namespace

bool PlannedConversion::is_done_already(JobContext& context) const {
  const WritePlan& plan = conversion_.plan;
  const std::vector<WrittenFile> there = files_there(plan);
  // What cannot be compared is not known to be right; and what is read for it proves nothing of itself.
  if (there.empty() || !can_prove()) return false;
  const InputFiles inputs(input_paths(order_.image));
  for (const WrittenFile& f : there)
    if (inputs.read_as(f.path)) return false;
  Proof proof;
  try {
    OpenOptions options;
    options.keys = order_.image.keys;
    options.needed = plan.needed;
    if (!reads_only(leading_file(plan, there).path, there, options)) return false;
    inspection_of(order_.image, request_, plan, Inspect::prove, proof, context)(host_files(), there);
  } catch (const Error& e) {
    if (e.details.fault == Fault::interrupted) throw;
    return false;  // it is something else, and is told as a file in the way
  }
  return !proof.compared.empty();
}

std::vector<WrittenFile> run_plan(const Image& source, std::string_view becomes, const Conversion& conversion,
                                  const WriteRules& rules, const Prover& prover, Listener& listener,
                                  JobContext& context) {
  WriteJob job = rules.for_folder(conversion.plan.outputs.front().path.parent_path());
  Written done{.source = source, .becomes = std::string(becomes), .conversion = conversion};
  job.inspect = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    done.proof = prover(staged, written, rules.prove);
  };
  done.planned_only = rules.plan_only;
  carry_out(done, job, context);
  listener.result(done);
  return std::move(done.outputs);
}

void carry_out(Written& done, const WriteJob& job, JobContext& context) {
  const Stopwatch watch;
  const WritePlan& plan = done.conversion.plan;
  done.target = job.target;
  if (done.planned_only) {
    check_plan(done.source, plan, job);  // the plan runs into the same walls as the job would
    done.outputs = outputs_of(plan);
  } else {
    done.outputs = write_outputs(done.source, plan, job, context);
  }
  done.seconds += watch.seconds();
}

}  // namespace opifex::jobs
