#include "opifex/core/jobs/check.hpp"

#include <map>
#include <numeric>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/compare.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/writing.hpp"

#include "known_collector.hpp"
#include "side_by_side.hpp"

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
  CheckJob job{std::move(inputs), lenient(ReadRules::of(settings)), options_of(settings)};
  job.against = settings.all(kAgainst);
  job.hashes_chosen = settings.has(kHashes);
  return job;
}

namespace {

/// What came of one of many, to be told in its turn.
struct CheckedOne {
  std::optional<Image> image;
  CheckResult result;
  std::optional<Error> error;
  double seconds = 0;
};

CheckedOne check_one(const Source& source, const CheckOptions& options, JobContext& context) {
  const Stopwatch own;
  CheckedOne one;
  try {
    one.image = open_source(source.input);
    one.result = check_image(*one.image, options, context);
  } catch (const Error& e) {
    if (e.details.fault == Fault::interrupted) throw;
    one.error = e;
  }
  one.seconds = own.seconds();
  return one;
}

/// All images of the job: checked, and held against the lists if there are any.
class CheckRun {
 public:
  CheckRun(const CheckJob& job, Listener& listener, JobContext& context)
      : job_(job), listener_(listener), context_(context), options_(job.options) {}

  CheckOutcome run() {
    open_lists();
    if (job_.every_form) options_.wants_whole = [](std::uint64_t) { return true; };
    for (const std::string& word : job_.inputs) find(word);
    const Stopwatch watch;
    SideBySide<CheckedOne> small(
        all_, [this](const Source& source, JobContext& context) { return check_one(source, options_, context); },
        context_);
    for (std::size_t i = 0; i < all_.size(); ++i) {
      if (searched_) listener_.begins({i + 1, all_.size(), all_[i].name});
      take(all_[i], small.take(i, searched_));
    }
    for (const ErrorDetails& e : outcome_.failures) summary_.left_out.push_back({e.file, e});
    summary_.left_out.insert(summary_.left_out.end(), unchecked_.begin(), unchecked_.end());
    summary_.seconds = watch.seconds();
    if (known_) tell_known();
    if (searched_) listener_.ended(summary_);
    return std::move(outcome_);
  }

 private:
  static bool is_no_image(Cause cause) {
    return cause == Cause::unknown_format || cause == Cause::unknown_layout || cause == Cause::empty_file;
  }

  void failed(const Error& e) {
    if (ends_all(e)) throw Error(e);
    outcome_.failures.push_back(e.details);
    listener_.failed(e);
  }

  void open_lists() {
    if (job_.against.empty()) return;
    lists_ = find_lists(job_.against, job_.cache, context_);
    for (const RefusedList& refused : lists_.refused) failed(Error(refused.why));
    if (lists_.lists.empty())
      throw Error({.code = "no_list", .what = "none of these lists can be read", .file = job_.against.front()});
    known_.emplace(lists_);
    known_->prepare(options_, job_.hashes_chosen);
  }

  void find(const std::string& word) {
    try {
      Sources found = find_sources({word}, job_.reading, Wanted::all, context_);
      for (const LeftOut& left : found.left_out) {
        // Lists may know the bytes of what is no image.
        if (known_ && is_no_image(left.why.cause)) continue;
        // Nothing was verified of it: that is no good news, whatever it is.
        if (left.failed) failed(Error(left.why));
        if (!left.failed) unchecked_.push_back(left), outcome_.good = outcome_.good && known_;
      }
      all_.insert(all_.end(), found.images.begin(), found.images.end());
      searched_ = searched_ || found.searched;
    } catch (const Error& e) {
      // What holds no image may be known all the same.
      const bool may_be_known = known_ && e.details.cause == Cause::no_image;
      if (!may_be_known) return failed(e);
      searched_ = true;
      if (!std::filesystem::is_directory(word)) known_->add_archive(word);
    }
  }

  void take(const Source& source, const CheckedOne& one) {
    if (one.error) return take_failure(source, *one.error);
    const CheckResult& result = one.result;
    listener_.result(Checked{*one.image, result, false, searched_});
    if (known_) known_->add_image(source, *one.image, result);
    outcome_.verdicts.emplace_back(source.name, result.verdict);
    if (result.verdict != Verdict::intact) outcome_.good = false;
    summary_.bytes_in += result.bytes_read;
    summary_.written.push_back({source.name, {}, result.bytes_read, 0, one.seconds, result.verdict != Verdict::intact});
  }

  /// A file that is no image may be one of a list's all the same: a firmware, a subchannel file.
  void take_failure(const Source& source, const Error& error) {
    if (!known_ || !is_no_image(error.details.cause)) return failed(error);
    try {
      known_->add_file(source.name, context_);
    } catch (const Error& e) {
      failed(e);
    }
  }

  void tell_known() {
    for (const std::string& word : job_.inputs)
      if (std::filesystem::is_directory(word)) known_->add_folder(word, context_);
    known_->add_members(context_);
    for (const Error& e : known_->failures()) failed(e);
    const KnownCollector::Known known = known_->finish(context_);
    listener_.result(KnownTold{lists_.lists, lists_.refused, known.collection, known.matches, known.images, !searched_,
                               job_.inputs.size() == 1 ? job_.inputs.front() : ""});
    outcome_.good = outcome_.good && known.good;
  }

  const CheckJob& job_;
  Listener& listener_;
  JobContext& context_;
  CheckOptions options_;
  Lists lists_;
  std::optional<KnownCollector> known_;
  std::vector<Source> all_;
  std::vector<LeftOut> unchecked_;
  bool searched_ = false;
  BatchSummary summary_{.verb = "checked", .flaw = "not intact"};
  CheckOutcome outcome_;
};

}  // namespace

CheckOutcome run(const CheckJob& job, Listener& listener, JobContext& context) {
  return CheckRun(job, listener, context).run();
}

namespace {

/// What would otherwise be passed over in silence.
void refuse_lists(const Settings& settings, const char* job) {
  if (settings.has(kAgainst))
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = std::string("known lists are asked in a check of their own, not while ") + job,
                 .hint = "give <against> to a check without it"});
}

}  // namespace

CompareJob CompareJob::of(std::vector<std::string> inputs, const Settings& settings) {
  refuse_lists(settings, "comparing");
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
  refuse_lists(settings, "repairing");
  if (settings.text(kOut).empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "repairing writes a copy and needs a path for it",
                 .hint = "add <out>: the input is never changed"});
  RepairJob job{.inputs = inputs, .out = settings.text(kOut)};
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

/// Verdict of the copy.
Verdict repair_one(const RepairJob& job, const Image& image, const CheckResult& result, const WriteRules& rules,
                   Listener& listener, JobContext& context) {
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
  for (const Warning& w : repaired.warnings)
    if (w.code == "mended") listener.message(w);
  listener.result(Checked{copy.image, copy.result, false, false});
  return copy.result.verdict;
}

/// All copies that there may be: no two of one name, none in the way, and room for all of them.
void refuse_walls(const RepairJob& job, const std::vector<Source>& sources, const WriteRules& rules) {
  std::map<std::string, std::string> taken;
  std::vector<std::filesystem::path> targets;
  PlannedTotal total(rules.target(job.out));
  for (const Source& source : sources) {
    const Image image = open_source(source.input);
    const auto out = leading_output(image, *image.format, job.out);
    for (const PlannedFile& file : planned_files(plan_repaired_copy(image, out))) {
      const auto [at, is_new] = taken.try_emplace(fold_case(file.path.string()), source.name);
      if (!is_new)
        throw Error({.fault = Fault::needs_word,
                     .code = "same_output",
                     .what = "several images would get copies of the same name",
                     .file = file.path.string(),
                     .found = at->second + " + " + source.name,
                     .expected = "a name for each",
                     .hint = "repair them into different folders with <out>"});
      targets.push_back(file.path);
      total.add(file);
    }
  }
  refuse_existing(targets, rules.inputs, rules.existing);
  total.check();
}

bool can_be_repaired(const Image& image) {
  try {
    refuse_unrepairable(image);
    return true;
  } catch (const Error& e) {
    if (e.details.cause != Cause::nothing_to_repair) throw;
    return false;
  }
}

/// Many images: all are checked first; what is intact, or has nothing that corrects errors, is left out and told.
class RepairBatch {
 public:
  RepairBatch(const RepairJob& job, Listener& listener, JobContext& context)
      : job_(job), rules_(job.writing), listener_(listener), context_(context) {}

  CheckOutcome run() {
    refuse_file();
    const Stopwatch watch;
    std::vector<Source> found = find();
    for (std::size_t i = 0; i < found.size(); ++i) {
      listener_.begins({i + 1, found.size(), found[i].name});
      attempt(found[i].name, [&] { check(std::move(found[i])); });
    }
    if (!damaged_.empty()) refuse_walls(job_, damaged_, rules_);
    for (std::size_t i = 0; i < damaged_.size(); ++i)
      attempt(damaged_[i].name, [&] { repair(damaged_[i], results_[i]); });
    summary_.seconds = watch.seconds();
    listener_.ended(summary_);
    return std::move(outcome_);
  }

 private:
  void refuse_file() const {
    if (job_.out.ends_with('/') || std::filesystem::is_directory(job_.out)) return;
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "there may be several images to repair, and one output file is named",
                 .file = job_.out,
                 .hint = "name a folder with <out>, ending in /"});
  }

  /// The failure of one is not the end.
  template <typename Do>
  void attempt(const std::string& name, const Do& action) {
    try {
      action();
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      outcome_.failures.push_back(e.details);
      summary_.left_out.push_back({name, e.details});
      listener_.failed(e);
    }
  }

  std::vector<Source> find() {
    Sources found = find_sources(job_.inputs, job_.reading, Wanted::all, context_);
    rules_.inputs.add(found.files);
    for (LeftOut& left : found.left_out) {
      if (left.failed)
        attempt(left.name, [&] { throw Error(left.why); });
      else
        summary_.left_out.push_back(std::move(left));
    }
    return std::move(found.images);
  }

  void check(Source source) {
    const Image image = open_source(source.input);
    rules_.inputs.add(input_paths(image));
    CheckResult result = check_image(image, job_.options, context_);
    listener_.result(Checked{image, result, true, true});
    outcome_.verdicts.emplace_back(source.name, result.verdict);
    summary_.bytes_in += result.bytes_read;
    if (result.verdict == Verdict::intact) return leave_out(source.name, "it is intact");
    if (!can_be_repaired(image)) {
      outcome_.good = false;
      return leave_out(source.name, "it has no sectors with error correction of their own");
    }
    damaged_.push_back(std::move(source));
    results_.push_back(std::move(result));
  }

  void repair(const Source& source, const CheckResult& result) {
    const Stopwatch own;
    const Verdict verdict = repair_one(job_, open_source(source.input), result, rules_, listener_, context_);
    if (verdict != Verdict::intact) outcome_.good = false;
    summary_.written.push_back(
        {source.name, job_.out, result.bytes_read, 0, own.seconds(), verdict != Verdict::intact});
  }

  void leave_out(const std::string& name, const char* why) {
    summary_.left_out.push_back({name, {.code = "nothing_to_repair", .what = why, .file = name}, false});
  }

  const RepairJob& job_;
  WriteRules rules_;
  Listener& listener_;
  JobContext& context_;
  std::vector<Source> damaged_;
  std::vector<CheckResult> results_;  // of each of them
  CheckOutcome outcome_;
  BatchSummary summary_{.verb = "repaired", .flaw = "not intact"};
};

}  // namespace

CheckOutcome run(const RepairJob& job, Listener& listener, JobContext& context) {
  const bool several = job.inputs.size() > 1 || std::filesystem::is_directory(job.inputs.front());
  if (several) return RepairBatch(job, listener, context).run();
  WriteRules rules = job.writing;
  const Image image = open_one(job.inputs.front(), job.reading, rules.inputs);
  refuse_unrepairable(image);
  const CheckResult result = check_image(image, job.options, context);
  listener.result(Checked{image, result, true, false});
  CheckOutcome outcome;
  const Verdict verdict = repair_one(job, image, result, rules, listener, context);
  outcome.verdicts.emplace_back(leading_output(image, *image.format, job.out).string(), verdict);
  // A repaired copy is good news; what stays broken is told by its own check.
  outcome.good = verdict == Verdict::intact;
  return outcome;
}

}  // namespace opifex::jobs
