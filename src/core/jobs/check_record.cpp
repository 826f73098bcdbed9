// How "nothing has changed" could be false: a file that is not there any more, one of another content with the same
// size and date, an output that lies there as it was and decodes to something else by now (a parent that is gone), a
// record that contradicts itself, one without any file, a read error taken for a file that is gone.
#include "opifex/core/jobs/check_record.hpp"

#include <algorithm>
#include <array>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/recorder.hpp"
#include "opifex/core/jobs/settings.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

CheckRecordJob CheckRecordJob::of(const std::vector<std::string>& words, const Settings& settings) {
  CheckRecordJob job{.records = settings.all(kCheckRecord), .reading = ReadRules::of(settings)};
  for (const std::string& word : words) (fs::is_directory(word) ? job.folders : job.records).push_back(word);
  for (const Setting* other : {&kAgainst, &kSameAs, &kHashes})
    if (settings.has(*other))
      throw Error({.fault = Fault::usage,
                   .code = "usage",
                   .what = fmt::format("--{} means nothing while a record is checked", other->name),
                   .hint = "leave it out"});
  return job;
}

std::string_view to_string(FileState state) {
  constexpr std::array<std::string_view, 5> kWords{"unchanged", "moved", "changed", "gone", "replaced"};
  return kWords[static_cast<std::size_t>(state)];
}

std::string_view to_string(ContentState state) {
  constexpr std::array<std::string_view, 5> kWords{"not_recorded", "same", "differs", "unreadable", "gone"};
  return kWords[static_cast<std::size_t>(state)];
}

namespace {

/// Error (device) if nobody can tell.
bool is_file(const fs::path& path) {
  std::error_code error;
  const fs::file_status status = fs::status(path, error);
  if (error && status.type() != fs::file_type::not_found)
    throw_system_error("cannot look at a file of the record", path.string(), error.value());
  return status.type() == fs::file_type::regular;
}

bool same_content(const RecordedFile& a, const RecordedFile& b) {
  return a.size_bytes == b.size_bytes && a.sha1 == b.sha1 && a.sha256 == b.sha256;
}

/// Files in the folders, by size, hashed when somebody asks.
class Elsewhere {
 public:
  Elsewhere(const std::vector<std::string>& folders, JobContext& context) : context_(context) {
    for (const std::string& folder : folders)
      for (const auto& entry : fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied))
        if (entry.is_regular_file() && !entry.is_symlink()) by_size_.emplace(entry.file_size(), entry.path());
  }

  /// Empty: nowhere. Of several the one of the same name comes first.
  fs::path find(const RecordedFile& wanted) {
    const auto [from, to] = by_size_.equal_range(wanted.size_bytes);
    std::vector<fs::path> likely;
    for (auto at = from; at != to; ++at) likely.push_back(at->second);
    std::stable_sort(likely.begin(), likely.end(), [&](const fs::path& a, const fs::path& b) {
      return (a.filename() == wanted.path.filename()) > (b.filename() == wanted.path.filename());
    });
    for (const fs::path& path : likely)
      if (same_content(hashed(path), wanted)) return path;
    return {};
  }

 private:
  const RecordedFile& hashed(const fs::path& path) {
    const auto at = known_.find(path);
    return at != known_.end() ? at->second : known_.emplace(path, record_file(path, context_)).first->second;
  }

  JobContext& context_;
  std::multimap<std::uint64_t, fs::path> by_size_;
  std::map<fs::path, RecordedFile> known_;
};

class RecordChecker {
 public:
  RecordChecker(const CheckRecordJob& job, JobContext& context)
      : job_(job), context_(context), elsewhere_(job.folders, context) {}

  RecordTold check(const fs::path& file) {
    RecordTold told{.file = file, .record = read_record(file), .results = {}};
    told.good = !told.record.results.empty() && told.record.failures.empty();
    for (const RecordedResult& recorded : told.record.results) {
      CheckedResult result = check_result(recorded);
      told.good = told.good && is_good(recorded, result);
      told.results.push_back(std::move(result));
    }
    return told;
  }

 private:
  CheckedFile check_file(const RecordedFile& recorded) {
    CheckedFile file{.recorded = recorded};
    if (recorded.replaced) {
      file.state = FileState::replaced;
      return file;
    }
    const bool there = is_file(recorded.path);
    if (there && same_content(record_file(recorded.path, context_), recorded)) {
      file.state = FileState::unchanged;
      file.found = recorded.path;
    } else if (const fs::path found = elsewhere_.find(recorded); !found.empty()) {
      file.state = FileState::moved;
      file.found = found;
    } else {
      file.state = there ? FileState::changed : FileState::gone;
    }
    return file;
  }

  CheckedResult check_result(const RecordedResult& recorded) {
    CheckedResult result;
    for (const RecordedFile& f : recorded.inputs) result.inputs.push_back(check_file(f));
    for (const RecordedFile& f : recorded.outputs) result.outputs.push_back(check_file(f));
    std::optional<Image> input, output;
    result.input = check_content(recorded.input, result.inputs, input, result.trouble);
    result.output = check_content(recorded.output, result.outputs, output, result.trouble);
    const bool both = result.input == ContentState::same && result.output == ContentState::same;
    if (recorded.same && both) result.agree = true;  // both digests are what they were, and those are equal
    if (!recorded.compared.empty() && both) {
      const auto kept = compare_kept(*input, *output, context_);
      result.agree = kept && kept->sha1 == recorded.kept_sha1;
    }
    return result;
  }

  /// Where the file that opens the image is now.
  static fs::path place_of(const fs::path& lead, const std::vector<CheckedFile>& files) {
    for (const CheckedFile& file : files)
      if (file.recorded.path == lead) return file.found.empty() ? file.recorded.path : file.found;
    return lead;
  }

  ContentState check_content(const std::optional<RecordedContent>& recorded, const std::vector<CheckedFile>& files,
                             std::optional<Image>& image, std::string& trouble) {
    if (!recorded) return ContentState::not_recorded;
    RecordedContent now = *recorded;
    now.lead = place_of(recorded->lead, files);
    if (!is_file(now.lead)) return ContentState::gone;
    try {
      image = open_recorded(now, job_.reading);
      return digest_content(*image, context_) == recorded->digest ? ContentState::same : ContentState::differs;
    } catch (const Error& e) {
      if (ends_all(e) || e.details.fault == Fault::device) throw;
      trouble = e.details.what;
      return ContentState::unreadable;
    }
  }

  static bool is_good(const RecordedResult& recorded, const CheckedResult& result) {
    const auto fine = [](const CheckedFile& f) {
      return f.state == FileState::unchanged || f.state == FileState::moved || f.state == FileState::replaced;
    };
    const auto content_fine = [](ContentState s) { return s == ContentState::same || s == ContentState::not_recorded; };
    return !recorded.outputs.empty() && std::all_of(result.inputs.begin(), result.inputs.end(), fine) &&
           std::all_of(result.outputs.begin(), result.outputs.end(), fine) && content_fine(result.input) &&
           content_fine(result.output) && result.agree.value_or(true);
  }

  const CheckRecordJob& job_;
  JobContext& context_;
  Elsewhere elsewhere_;
};

}  // namespace

Outcome run(const CheckRecordJob& job, Listener& listener, JobContext& context) {
  Outcome outcome;
  RecordChecker checker(job, context);
  for (const std::string& record : job.records) {
    try {
      const RecordTold told = checker.check(record);
      outcome.good = outcome.good && told.good;
      listener.result(told);
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      outcome.failures.push_back(e.details);
      listener.failed(e);
    }
  }
  return outcome;
}

}  // namespace opifex::jobs
