#include "opifex/core/jobs/lists.hpp"

#include <algorithm>

#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/core/jobs/known.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/lists/write_list.hpp"

namespace opifex::jobs {

ListsJob ListsJob::of(std::vector<std::string> words, const Settings& settings) {
  if (words.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "no list is named",
                 .hint = "name a list, or a folder of lists"});
  return {.words = std::move(words), .sets = settings.text(kSets)};
}

namespace {

std::vector<std::uint32_t> sets_like(const KnownList& list, const std::string& pattern) {
  std::vector<std::uint32_t> found;
  if (pattern.empty()) return found;
  for (std::uint32_t s = 0; s < list.sets.size(); ++s)
    if (path_fits(pattern, list.name(list.sets[s]))) found.push_back(s);
  return found;
}

void tell_refused(const Lists& lists, Outcome& outcome, Listener& listener) {
  for (const RefusedList& refused : lists.refused) {
    outcome.failures.push_back(refused.why);
    listener.failed(Error(refused.why));
  }
}

}  // namespace

Outcome run(const ListsJob& job, Listener& listener, JobContext& context) {
  Outcome outcome;
  const Lists lists = find_lists(job.words, job.cache, context);
  for (const KnownListPtr& list : lists.lists) {
    listener.result(ListTold{*list, sets_like(*list, job.sets)});
    if (!list->problems.empty()) outcome.good = false;
  }
  tell_refused(lists, outcome, listener);
  return outcome;
}

MissingJob MissingJob::of(std::vector<std::string> words, const Settings& settings) {
  MissingJob job{.words = std::move(words), .folder = settings.text(kMissing)};
  if (job.words.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "no list is named",
                 .hint = "name the list that the folder is held against"});
  job.reading = ReadRules::of(settings);
  return job;
}

namespace {

/// Passes on what went wrong, and of the results only what the lists know.
class MissingListener : public Listener {
 public:
  using Listener::result;
  explicit MissingListener(Listener& to, std::string folder) : to_(to), folder_(std::move(folder)) {}
  void failed(const Error& e) override { to_.failed(e); }
  void begins(const BatchStep& step) override { to_.begins(step); }
  void result(const KnownTold& told) override {
    for (std::size_t i = 0; i < told.lists.size(); ++i) {
      to_.result(MissingTold{*told.lists[i], told.matches[i], folder_});
      for (const auto& [verdict, count] : told.matches[i].totals)
        nothing_missing = nothing_missing && (verdict == SetVerdict::complete || verdict == SetVerdict::unverifiable);
    }
  }
  bool nothing_missing = true;

 private:
  Listener& to_;
  std::string folder_;
};

}  // namespace

Outcome run(const MissingJob& job, Listener& listener, JobContext& context) {
  if (!std::filesystem::is_directory(job.folder))
    throw Error({.fault = Fault::usage,
                 .code = "not_a_folder",
                 .what = "this is no folder",
                 .file = job.folder,
                 .hint = "name the folder with your images"});
  CheckJob check;
  check.inputs = {job.folder};
  check.reading = job.reading;
  check.reading.opening.allow_missing = true;
  check.against = job.words;
  check.cache = job.cache;
  MissingListener only(listener, job.folder);
  const CheckOutcome checked = run(check, only, context);
  Outcome outcome;
  outcome.good = only.nothing_missing;
  outcome.failures = checked.failures;
  return outcome;
}

MakeListJob MakeListJob::of(const std::vector<std::string>& words, const Settings& settings) {
  if (!words.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "a list is made of a folder, and lists are named beside it",
                 .file = words.front(),
                 .hint = "leave the lists out"});
  MakeListJob job{.folder = settings.text(kMake), .out = settings.text(kOut), .name = settings.text(kTitle)};
  if (job.out.empty())
    throw Error(
        {.fault = Fault::usage, .code = "usage", .what = "the new list needs a name", .hint = "add <out> FILE"});
  job.reading = ReadRules::of(settings);
  job.writing = WriteRules::of(settings);
  return job;
}

namespace {

/// The entries of a set for each image that is sound enough to be trusted.
class ListMaker : public Listener {
 public:
  using Listener::result;
  explicit ListMaker(Listener& to) : to_(to) {}
  void failed(const Error& e) override { to_.failed(e); }
  void begins(const BatchStep& step) override { to_.begins(step); }

  void result(const Checked& checked) override {
    const Image& image = checked.image;
    if (checked.result.verdict != Verdict::intact && checked.result.verdict != Verdict::unsupported) {
      to_.message({"left_out", fmt::format("{} is {}: it is not in the list", printable(image.path.string()),
                                           to_string(checked.result.verdict))});
      all_taken = false;
      return;
    }
    MadeSet set{.name = image.name.empty() ? image.path.stem().string() : image.name};
    if (image.container)
      add_content(set, image, checked.result);
    else
      add_files(set, image, checked.result);
    sets.push_back(std::move(set));
  }

  std::vector<MadeSet> sets;
  bool all_taken = true;

 private:
  static void add_files(MadeSet& set, const Image& image, const CheckResult& result) {
    if (image.format->read_sheet && image.archive.empty()) {
      constexpr std::size_t kLargest = 1 << 20;
      const Bytes sheet = read_up_to(*open_file(image.path), 0, kLargest);
      MadeEntry entry{.name = image.path.filename().string(), .size_bytes = sheet.size()};
      for (const char* name : {"crc32", "md5", "sha1"}) entry.hashes.push_back({name, digest_of(name, sheet)});
      set.entries.push_back(std::move(entry));
    }
    for (const FileCheck& file : result.files)
      set.entries.push_back({file.path.filename().string(), file.size_bytes, file.hashes});
  }

  /// A list speaks of raw dumps: the tracks as bins of their own would be, the disc of blocks as an image of them.
  static void add_content(MadeSet& set, const Image&, const CheckResult& result) {
    const auto bin = bare_format(Stored::sectors).extensions.front(),
               iso = bare_format(Stored::blocks).extensions.front();
    const int digits = result.tracks.size() > 9 ? 2 : 1;
    for (const TrackCheck& track : result.tracks) {
      const std::string number = result.tracks.size() == 1 ? "" : fmt::format(" (Track {:0{}})", track.number, digits);
      set.entries.push_back({set.name + number + std::string(bin), track.size_bytes, track.hashes});
    }
    if (result.disc) set.entries.push_back({set.name + std::string(iso), result.disc->size_bytes, result.disc->hashes});
  }

  Listener& to_;
};

}  // namespace

Outcome run(const MakeListJob& job, Listener& listener, JobContext& context) {
  InputFiles inputs = job.writing.inputs;
  inputs.add_folder(job.folder);
  refuse_existing({job.out}, inputs, job.writing.existing);
  CheckJob check;
  check.inputs = {job.folder};
  check.reading = job.reading;
  ListMaker maker(listener);
  const CheckOutcome checked = run(check, maker, context);
  std::filesystem::path folder = std::filesystem::weakly_canonical(job.folder);
  const std::string text = list_text(job.name.empty() ? folder.filename().string() : job.name, maker.sets);
  ListMade made{
      .out = job.out, .sets = maker.sets.size(), .size_bytes = text.size(), .planned_only = job.writing.plan_only};
  for (const MadeSet& set : maker.sets) made.entries += set.entries.size();
  if (!made.planned_only) write_whole_file(job.out, text, job.writing.existing, inputs);
  listener.result(made);
  Outcome outcome;
  outcome.good = maker.all_taken;
  outcome.failures = checked.failures;
  return outcome;
}

}  // namespace opifex::jobs
