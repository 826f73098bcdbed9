#include "opifex/core/jobs/recorder.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/convert/extract.hpp"
#include "opifex/core/image/inputs.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/check_record.hpp"
#include "opifex/core/jobs/edit.hpp"
#include "opifex/core/jobs/files.hpp"
#include "opifex/core/jobs/lists.hpp"
#include "opifex/core/jobs/patch.hpp"
#include "opifex/core/jobs/rename.hpp"
#include "opifex/core/jobs/rename_by.hpp"
#include "opifex/core/jobs/rescue.hpp"
#include "opifex/core/jobs/save.hpp"
#include "opifex/core/jobs/sources.hpp"
#include "opifex/core/jobs/writing.hpp"

#include "../base/json_names.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

std::vector<std::pair<std::string, std::string>> recorded_settings(const Settings& settings,
                                                                   std::span<const Setting* const> list,
                                                                   const fs::path& folder) {
  std::vector<std::pair<std::string, std::string>> all;
  for (const Setting* setting : list) {
    if (!settings.has(*setting)) continue;
    const bool file = setting->type == SettingType::reads || setting->type == SettingType::writes;
    std::string value;
    for (const std::string& one : setting->repeats ? settings.all(*setting) : std::vector{settings.text(*setting)})
      value += (value.empty() ? "" : ", ") + (file && !one.empty() ? seen_from(folder, one) : one);
    all.emplace_back(setting->name, setting->type == SettingType::flag ? "yes" : value);
  }
  return all;
}

RecordedFile record_file(const fs::path& path, JobContext& context) {
  const std::vector<NamedHash> hashes = hash_file(path.string(), {"sha1", "sha256"}, context);
  return {.path = path, .size_bytes = fs::file_size(path), .sha1 = hashes[0].value, .sha256 = hashes[1].value};
}

Image open_recorded(const RecordedContent& content, const ReadRules& rules) {
  if (content.inside.empty()) return open_source({content.lead, rules.opening});
  InputFiles ignored;
  ReadRules inside = rules;
  inside.pick = content.inside;
  return open_one(content.lead.string(), inside, ignored);
}

std::optional<Kept> compare_kept(const Image& input, const Image& output, JobContext& context) {
  if (!output.format) return std::nullopt;
  try {
    const Proof proof = prove_same(input, output, {.holds = output.format->holds}, context);
    return Kept{proof.compared, proof.sha1};
  } catch (const Error& e) {
    if (ends_all(e)) throw;
    return std::nullopt;  // it differs, or is no image of that kind: nothing is claimed
  }
}

namespace {

/// All files below a folder, or the file itself.
std::vector<fs::path> files_of(const fs::path& word) {
  std::error_code error;
  if (!fs::is_directory(word, error))
    return fs::is_regular_file(word, error) ? std::vector{word} : std::vector<fs::path>{};
  std::vector<fs::path> files;
  for (fs::recursive_directory_iterator at(word, error), end; !error && at != end; at.increment(error))
    if (at->is_regular_file() && !at->is_symlink()) files.push_back(at->path());
  std::sort(files.begin(), files.end());
  return files;
}

RecordedContent lead_of(const Image& image) {
  RecordedContent content{.lead = image.path};
  if (!image.archive.empty()) {
    content.lead = image.archive;
    content.inside = image.path.lexically_relative(image.archive).generic_string();
  }
  if (image.format) content.format = std::string(image.format->id);
  return content;
}

/// Of an archive the archive, not its members.
std::vector<fs::path> files_of(const Image& image) {
  std::vector<fs::path> files;
  for (const fs::path& path : input_paths(image))
    if (fs::is_regular_file(path) && std::find(files.begin(), files.end(), path) == files.end()) files.push_back(path);
  return files;
}

}  // namespace

std::vector<fs::path> files_behind(const std::vector<std::string>& words, const ReadRules& rules) {
  std::vector<fs::path> all;
  for (const std::string& word : words) {
    std::vector<fs::path> files = files_of(fs::path(word));
    OpenOptions opening = rules.opening;
    opening.allow_missing = true;
    if (fs::is_regular_file(word)) try {
        files = files_of(open_image(word, opening));
      } catch (const Error& e) {
        if (ends_all(e) || e.details.fault == Fault::device) throw;
      }
    all.insert(all.end(), files.begin(), files.end());
  }
  return all;
}

namespace {

/// Fills in what the image holds. Something that is no image has no content of its own.
std::optional<Image> digest_of_lead(std::optional<RecordedContent>& content, const ReadRules& reading,
                                    JobContext& context) {
  if (!content) return std::nullopt;
  try {
    Image image = open_recorded(*content, reading);
    content->format = std::string(image.format->id);
    content->digest = digest_content(image, context);
    if (!content->digest.kind.empty()) return image;
  } catch (const Error& e) {
    if (ends_all(e) || e.details.fault == Fault::device) throw;
  }
  content.reset();
  return std::nullopt;
}

}  // namespace

struct Recorder::State {
  Listener& outer;
  RecordRequest request;
  JobContext& context;
  Record record = {};
  std::map<fs::path, RecordedFile> before = {};  // of files that the job may change

  /// A result whose files are hashed at the end.
  RecordedResult& add(std::string what, std::vector<fs::path> inputs, std::vector<fs::path> outputs) {
    RecordedResult result{.what = std::move(what)};
    for (fs::path& path : inputs) result.inputs.push_back({.path = std::move(path)});
    for (fs::path& path : outputs) result.outputs.push_back({.path = std::move(path)});
    record.results.push_back(std::move(result));
    return record.results.back();
  }

  /// A file that was changed where it lies: what it was is not there any more.
  void add_changed(std::string what, const fs::path& path, const std::vector<fs::path>& further) {
    RecordedResult& result = add(std::move(what), further, {path});
    const auto old = before.find(path.lexically_normal());
    if (old == before.end()) return;
    result.inputs.insert(result.inputs.begin(), old->second);
    result.inputs.front().replaced = true;
  }

  std::vector<fs::path> words_as_files(std::size_t from = 0) const {
    std::vector<fs::path> all;
    for (std::size_t i = from; i < request.words.size(); ++i)
      for (fs::path& file : files_of(request.words[i])) all.push_back(std::move(file));
    return all;
  }

  void take_written(const Written& w, std::vector<fs::path> inputs) {
    std::vector<fs::path> outputs;
    for (const WrittenFile& file : w.outputs) outputs.push_back(file.path);
    RecordedResult& result = add(w.becomes, std::move(inputs), std::move(outputs));
    result.steps = w.conversion.plan.steps;
    result.losses = w.conversion.losses;
    if (!w.outputs.empty()) result.output = RecordedContent{.lead = leading_file(w.conversion.plan, w.outputs).path};
  }

  void hash_all() {
    for (RecordedResult& result : record.results) {
      for (RecordedFile& file : result.inputs)
        if (!file.replaced) file = record_file(file.path, context);
      for (RecordedFile& file : result.outputs) file = record_file(file.path, context);
      digest_both(result);
    }
  }

  void digest_both(RecordedResult& result) {
    const std::optional<Image> input = digest_of_lead(result.input, request.reading, context),
                               output = digest_of_lead(result.output, request.reading, context);
    if (!input || !output) return;
    result.same = result.input->digest == result.output->digest;
    if (result.same) return;
    if (const auto kept = compare_kept(*input, *output, context))
      result.compared = kept->compared, result.kept_sha1 = kept->sha1;
  }

  void refuse_own_files() const {
    const auto is_record = [&](const fs::path& path) {
      std::error_code ignored;
      return path.lexically_normal() == request.file.lexically_normal() || fs::equivalent(path, request.file, ignored);
    };
    for (const RecordedResult& result : record.results)
      for (const auto* files : {&result.inputs, &result.outputs})
        for (const RecordedFile& file : *files)
          if (is_record(file.path))
            throw Error({.fault = Fault::needs_word,
                         .code = "exists",
                         .cause = Cause::exists,
                         .what = "the record would replace one of the files it is about",
                         .file = request.file.string(),
                         .hint = "give it another name; the job itself is done"});
  }
};

Recorder::Recorder(Listener& outer, RecordRequest request, JobContext& context)
    : state_(new State{outer, std::move(request), context}) {
  refuse_existing({state_->request.file}, {}, state_->request.existing);
  state_->record.job = state_->request.job;
  state_->record.version = state_->request.version;
  state_->record.settings = state_->request.settings;
  state_->record.began = seconds_now();
  if (!state_->request.in_place) return;
  for (const fs::path& file : state_->words_as_files())
    state_->before[file.lexically_normal()] = record_file(file, context);
}

Recorder::~Recorder() = default;

void Recorder::result(const Identified& r) { state_->outer.result(r); }
void Recorder::result(const Checked& r) { state_->outer.result(r); }
void Recorder::result(const Compared& r) { state_->outer.result(r); }
void Recorder::result(const Listed& r) { state_->outer.result(r); }
void Recorder::result(const Dumped& r) { state_->outer.result(r); }
void Recorder::result(const CopiedFolder& r) { state_->outer.result(r); }
void Recorder::result(const DumpedCartridge& r) { state_->outer.result(r); }
void Recorder::result(const PatchTold& r) { state_->outer.result(r); }
void Recorder::result(const KnownTold& r) { state_->outer.result(r); }
void Recorder::result(const ListTold& r) { state_->outer.result(r); }
void Recorder::result(const RecordTold& r) { state_->outer.result(r); }
void Recorder::result(const ShelfTold& r) { state_->outer.result(r); }
void Recorder::result(const MissingTold& r) { state_->outer.result(r); }
void Recorder::message(const Warning& w) { state_->outer.message(w); }
void Recorder::planned(const BatchPlan& p) { state_->outer.planned(p); }
void Recorder::begins(const BatchStep& s) { state_->outer.begins(s); }
void Recorder::ended(const BatchSummary& s) { state_->outer.ended(s); }

void Recorder::failed(const Error& e) {
  state_->outer.failed(e);
  state_->record.failures.push_back(e.details.file.empty() ? e.details.what : e.details.file + ": " + e.details.what);
}

void Recorder::result(const Written& w) {
  state_->outer.result(w);
  if (w.planned_only) return;
  const bool folder = fs::is_directory(w.source.path);
  state_->take_written(w, folder ? files_of(w.source.path) : files_of(w.source));
  if (!folder && fs::exists(lead_of(w.source).lead)) state_->record.results.back().input = lead_of(w.source);
}

void Recorder::result(const ExtractedFiles& r) {
  state_->outer.result(r);
  if (r.items.empty()) return;  // only planned
  std::vector<fs::path> outputs;
  for (const ExtractItem& item : r.plan.items)
    if (!item.is_folder() && fs::is_regular_file(item.target)) outputs.emplace_back(item.target);
  state_->add("files of an image", files_of(r.image), std::move(outputs)).input = lead_of(r.image);
}

void Recorder::result(const Renamed& r) {
  state_->outer.result(r);
  if (r.planned_only) return;
  std::vector<fs::path> outputs;
  for (const RenameStep& step : r.plan.steps) outputs.push_back(step.to);
  if (r.plan.sheet) outputs.push_back(r.plan.sheet->to);
  state_->add("renamed files", {}, std::move(outputs));
}

void Recorder::result(const RenamedByList& r) {
  state_->outer.result(r);
  if (r.planned_only) return;
  for (const RenameGroup& group : r.groups) {
    std::vector<fs::path> outputs;
    for (const RenameStep& step : group.steps) outputs.push_back(step.to);
    if (group.sheet) outputs.push_back(group.sheet->to);
    state_->add(group.what, {}, std::move(outputs));
  }
}

void Recorder::result(const Rescued& r) {
  state_->outer.result(r);
  if (!r.written.planned_only) state_->take_written(r.written, files_behind(r.inputs, state_->request.reading));
}

void Recorder::result(const SaveTold& r) {
  state_->outer.result(r);
  const bool writes = r.action == SaveAction::convert || r.action == SaveAction::restore;
  if (!writes || r.state == "planned" || r.state == "unchanged") return;
  if (r.action == SaveAction::restore) return state_->add_changed("a save that was brought back", r.path, {});
  state_->add("a converted save", {r.path}, {r.other});
}

void Recorder::result(const Changed& r) {
  state_->outer.result(r);
  if (r.planned_only) return;
  std::vector<fs::path> others;
  for (const fs::path& file : state_->words_as_files())
    if (!fs::equivalent(file, r.out)) others.push_back(file);
  std::error_code ignored;
  if (fs::equivalent(r.input, r.out, ignored) || !r.kept.empty())
    state_->add_changed(r.what, r.out, others);
  else
    state_->add(r.what, std::move(others), {r.out});
}

void Recorder::result(const Edited& r) {
  state_->outer.result(r);
  if (r.planned_only) return;
  state_->add_changed("a changed image", r.path, state_->words_as_files(1));
  state_->record.results.back().output = RecordedContent{.lead = r.path};
}

void Recorder::result(const ListMade& r) {
  state_->outer.result(r);
  if (!r.planned_only) state_->add("a list", {}, {r.out});
}

bool Recorder::finish() {
  if (state_->record.results.empty()) return false;
  state_->refuse_own_files();
  state_->hash_all();
  for (const RecordedResult& result : state_->record.results) {
    const bool unproved = result.input && result.output && !result.same && result.compared.empty();
    if (unproved)
      state_->outer.message(
          {"not_proved", fmt::format("{}: its record proves what it is, not that it holds what the input holds",
                                     result.output->lead.string())});
  }
  state_->record.ended = seconds_now();
  const fs::path& file = state_->request.file;
  write_whole_file(file, record_text(state_->record, file.parent_path()), state_->request.existing);
  return true;
}

Record record_of_dump(Record record, const fs::path& lead, const std::vector<fs::path>& inputs,
                      const std::vector<fs::path>& outputs, JobContext& context) {
  record.ended = seconds_now();
  RecordedResult result{.what = "an image"};
  for (const fs::path& path : inputs) result.inputs.push_back(record_file(path, context));
  for (const fs::path& path : outputs) result.outputs.push_back(record_file(path, context));
  result.output = RecordedContent{.lead = lead};
  digest_of_lead(result.output, {}, context);
  record.results.push_back(std::move(result));
  return record;
}

}  // namespace opifex::jobs
