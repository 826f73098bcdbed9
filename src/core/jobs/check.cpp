#include "opifex/core/jobs/check.hpp"

#include <numeric>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/writing.hpp"

namespace opifex::jobs {

namespace {

CheckOptions options_of(const Settings& settings) {
  CheckOptions options;
  options.hashes = settings.list(kHashes);
  if (options.hashes == std::vector<std::string>{"none"}) options.hashes.clear();
  for (const std::string& name : options.hashes)
    if (name == "none") unknown_word("hash", name, digest_names());  // beside others it means nothing
  return options;
}

ReadRules lenient(ReadRules rules) {
  rules.opening.allow_missing = true;
  return rules;
}

std::uint64_t left_bad(const CheckResult& result, bool when_repaired) {
  return std::accumulate(
      result.tracks.begin(), result.tracks.end(), std::uint64_t{0},
      [&](std::uint64_t sum, const TrackCheck& t) { return sum + t.bad - (when_repaired ? t.repairable : 0); });
}

}  // namespace

CheckJob CheckJob::of(std::vector<std::string> inputs, const Settings& settings) {
  return {std::move(inputs), lenient(ReadRules::of(settings)), options_of(settings)};
}

CheckOutcome run(const CheckJob& job, Listener& listener, JobContext& context) {
  CheckOutcome outcome;
  const auto failed = [&](const Error& e) {
    if (ends_all(e)) throw Error(e);
    outcome.failures.push_back(e.details);
    listener.failed(e);
  };
  std::vector<Source> all;
  std::vector<LeftOut> unchecked;
  bool searched = false;
  for (const std::string& word : job.inputs) {
    try {
      Sources found = find_sources({word}, job.reading, Wanted::all, context);
      for (const LeftOut& left : found.left_out) {
        // Nothing was verified of it: that is no good news, whatever it is.
        if (left.failed) failed(Error(left.why));
        if (!left.failed) unchecked.push_back(left), outcome.good = false;
      }
      all.insert(all.end(), found.images.begin(), found.images.end());
      searched = searched || found.searched;
    } catch (const Error& e) {
      failed(e);
    }
  }
  const Stopwatch watch;
  BatchSummary summary{.verb = "checked", .flaw = "not intact"};
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (searched) listener.begins({i + 1, all.size(), all[i].name});
    try {
      const Stopwatch own;
      const Image image = open_source(all[i].input);
      const CheckResult result = check_image(image, job.options, context);
      listener.result(Checked{image, result, false, searched});
      outcome.verdicts.emplace_back(all[i].name, result.verdict);
      if (result.verdict != Verdict::intact) outcome.good = false;
      summary.bytes_in += result.bytes_read;
      summary.written.push_back(
          {all[i].name, {}, result.bytes_read, 0, own.seconds(), result.verdict != Verdict::intact});
    } catch (const Error& e) {
      failed(e);
    }
  }
  for (const ErrorDetails& e : outcome.failures) summary.left_out.push_back({e.file, e});
  summary.left_out.insert(summary.left_out.end(), unchecked.begin(), unchecked.end());
  summary.seconds = watch.seconds();
  if (searched) listener.ended(summary);
  return outcome;
}

CompareJob CompareJob::of(std::vector<std::string> inputs, const Settings& settings) {
  return {std::move(inputs), settings.text(kSameAs), ReadRules::of(settings)};
}

Outcome run(const CompareJob& job, Listener& listener, JobContext& context) {
  Outcome outcome;
  const Sources sources = find_sources(job.inputs, job.reading, Wanted::whole, context);
  for (const LeftOut& left : sources.left_out) {
    if (!left.failed) continue;
    outcome.failures.push_back(left.why);
    listener.failed(Error(left.why));
  }
  InputFiles ignored;
  for (const Source& source : sources.images) {
    const Image here = open_source(source.input);
    const Comparison comparison = std::filesystem::is_directory(job.other)
                                      ? compare_with_folder(here, job.other, context)
                                      : compare_images(here, open_one(job.other, job.reading, ignored), context);
    listener.result(Compared{here, job.other, comparison});
    if (!comparison.same()) outcome.good = false;
  }
  return outcome;
}

RepairJob RepairJob::of(const std::vector<std::string>& inputs, const Settings& settings) {
  if (settings.text(kOut).empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "repairing writes a copy and needs a path for it",
                 .hint = "add <out>: the input is never changed"});
  if (inputs.size() != 1)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "one image is repaired at a time"});
  RepairJob job{.input = inputs.front(), .out = settings.text(kOut)};
  job.reading = lenient(ReadRules::of(settings));
  job.writing = WriteRules::of(settings);
  job.writing.inputs = named_inputs(inputs, settings, check_settings());
  job.options = options_of(settings);
  return job;
}

namespace {

/// What the copy turns out to be, before it has its name.
struct Copy {
  Image image;
  CheckResult result;
};

/// The copy is what the user will keep: it has to be the input, mended, and nothing else.
Copy inspect_copy(const Image& repaired, const CheckResult& before, const WritePlan& plan, const CheckOptions& options,
                  const FileSpacePtr& staged, const std::vector<WrittenFile>& written, Proof& proof,
                  JobContext& context) {
  OpenOptions opening;
  opening.files = staged;
  const auto lead = leading_file(plan, written).path;
  Copy copy{open_image(lead, opening), {}};
  proof = plan.copies ? prove_copies(plan, *staged, written, context)
                      : prove_same(repaired, copy.image, {repaired.format->holds}, context);
  proof.compared += "; those that were damaged as they were mended";
  copy.result = check_image(copy.image, options, context);
  if (left_bad(copy.result, false) != left_bad(before, true))
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "the repaired copy has other bad sectors than it should",
                 .file = lead.string(),
                 .found = plural(left_bad(copy.result, false), "bad sector"),
                 .expected = fmt::format("{}", left_bad(before, true)),
                 .hint = "nothing was put in place; check the memory and the drives of this machine"});
  return copy;
}

}  // namespace

CheckOutcome run(const RepairJob& job, Listener& listener, JobContext& context) {
  WriteRules rules = job.writing;
  const Image image = open_one(job.input, job.reading, rules.inputs);
  refuse_unrepairable(image);
  const CheckResult result = check_image(image, job.options, context);
  listener.result(Checked{image, result, true, false});
  const Image repaired = repaired_view(image, result);
  const auto out = leading_output(repaired, *repaired.format, job.out);
  Conversion conversion;
  conversion.plan = plan_repaired_copy(repaired, out);
  Written done{.source = repaired, .becomes = std::string(repaired.format->title), .conversion = conversion};
  WriteJob write = rules.for_folder(out.parent_path());
  Copy copy;
  write.inspect = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    copy = inspect_copy(repaired, result, conversion.plan, job.options, staged, written, done.proof, context);
  };
  carry_out(done, write, context);
  listener.result(done);
  listener.result(Checked{copy.image, copy.result, false, false});
  CheckOutcome outcome;
  outcome.verdicts.emplace_back(out.string(), copy.result.verdict);
  // A repaired copy is good news; what stays broken is told by its own check.
  outcome.good = copy.result.verdict == Verdict::intact;
  return outcome;
}

}  // namespace opifex::jobs
