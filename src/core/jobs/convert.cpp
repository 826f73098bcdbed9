#include "opifex/core/jobs/convert.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/build.hpp"
#include "opifex/core/jobs/files.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/platforms/title_list.hpp"
#include "opifex/core/stage/naming.hpp"

#include "parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

std::uint64_t limit_of(const Settings& settings, const Setting& limit) {
  if (settings.text(limit) == "fat32") return kFat32Part;  // whole clusters, as loaders take them
  return settings.bytes(limit).value_or(0);
}

/// What the target cannot make anything of is not left out in silence.
void refuse_foreign_settings(const Settings& settings, const Format& target) {
  for (const Setting* setting : convert_settings()) {
    if (!settings.has(*setting) || find_setting(target.settings, setting->name)) continue;
    const auto with = formats_with(*setting);
    if (with.empty() || find_setting(read_settings(), setting->name)) continue;
    std::vector<std::string_view> ids;
    for (const Format* f : with) ids.push_back(f->id);
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = fmt::format("{} has no setting {}", target.id, setting->name),
                 .hint = fmt::format("<{}> is for {}", setting->name, fmt::join(ids, ", "))});
  }
}

/// A file that the target reads too may be meant for the output alone: the input may need it, but does not have to.
void share_files(OpenOptions& opening, const Format& target) {
  SettingList own;
  for (const Setting* setting : format_read_settings()) {
    const bool shared = setting->type == SettingType::reads && find_setting(target.settings, setting->name);
    if (!shared)
      own.push_back(setting);
    else if (opening.settings.has(*setting))
      opening.needed.emplace_back(opening.settings.text(*setting));
  }
  opening.settings = opening.settings.only(own);
}

[[noreturn]] void need_out(const char* what) {
  throw Error({.fault = Fault::usage, .code = "usage", .what = what, .hint = "add <out>"});
}

/// Several images go into a folder.
void refuse_one_file_for_many(const Sources& sources, const std::string& out, const std::string& first) {
  if (sources.images.size() < 2 || out.empty() || out.ends_with('/') || fs::is_directory(out)) return;
  throw Error({.fault = Fault::usage,
               .code = "usage",
               .what = fmt::format("there are {} images, and one output file is named", sources.images.size()),
               .file = first,
               .hint = "name a folder with <out>, ending in /, or choose one image of an archive with <pick>"});
}

/// Containers are called by hexadecimal numbers: their outputs by the title, else by the user's list, else by the id.
void name_by_title(Image& image, const TitleList& titles) {
  if (image.name.empty() || titles.empty()) return;
  Identity id = identify_platform(image);
  if (image.name != id.serial) return;
  titles.apply(id);
  if (!id.title.empty() && name_fault(id.title).empty()) image.name = id.title;
}

ScrubRequest scrub_request(const ConvertJob& job) {
  ScrubRequest request{.unused = job.scrub, .keep = job.keep};
  // A block that holds anything used is stored whole anyway: its other clusters may as well stay.
  if (job.target->unit_bytes != 0) request.unit_bytes = job.target->unit_bytes;
  if (const Setting* unit = job.target->unit_setting)
    if (const auto bytes = job.settings.bytes(*unit)) request.unit_bytes = *bytes;
  return request;
}

}  // namespace

ConvertJob ConvertJob::of(std::vector<std::string> inputs, const Settings& settings) {
  ConvertJob job;
  job.inputs = std::move(inputs);
  job.out = settings.text(kOut);
  job.reading = ReadRules::of(settings);
  if (settings.text(kToOrFolder) == kFolderWord) {
    job.writing = WriteRules::of(settings);
    job.writing.inputs = named_inputs(job.inputs, settings, convert_settings());
    return job;
  }
  job.target = &writable_format(settings.text(kToOrFolder));
  refuse_foreign_settings(settings, *job.target);
  share_files(job.reading.opening, *job.target);
  job.writing = WriteRules::of(settings);
  job.writing.inputs = named_inputs(job.inputs, settings, convert_settings());
  job.settings = settings.only(job.target->settings);
  job.scrub = settings.flag(kScrub);
  job.keep = settings.text(kKeep) == "game" ? WiiKeep::game : WiiKeep::all;
  job.limit_bytes = limit_of(settings, kLimit);
  job.titles = settings.text(kTitles);
  job.skip_existing = settings.flag(kSkipExisting);
  return job;
}

namespace {

Outcome convert_images(const ConvertJob& job, Listener& listener, JobContext& context);

/// Files out of images: a folder beside each, or below the one that is named.
Outcome into_folders(const ConvertJob& job, Listener& listener, JobContext& context) {
  Outcome outcome;
  for (const std::string& input : job.inputs) {
    ExtractFilesJob extract{.inputs = {input}, .into = job.out};
    if (extract.into.empty()) extract.into = fs::path(input).replace_extension().string();
    if (fs::weakly_canonical(extract.into) == fs::weakly_canonical(input)) extract.into += " files";
    if (job.inputs.size() > 1 && !job.out.empty()) extract.into = (fs::path(job.out) / fs::path(input).stem()).string();
    extract.reading = job.reading;
    extract.writing = job.writing;
    const Outcome one = run(extract, listener, context);
    outcome.good = outcome.good && one.good;
    outcome.failures.insert(outcome.failures.end(), one.failures.begin(), one.failures.end());
  }
  return outcome;
}

/// Of a format that is made of files: a folder without any image is one of files.
bool is_folder_of_files(const std::string& word, const ConvertJob& job, JobContext& context) {
  if (job.target->volume.empty() || !fs::is_directory(word)) return false;
  try {
    find_sources({word}, job.reading, Wanted::all, context);
    return false;
  } catch (const Error& e) {
    if (e.details.cause != Cause::no_image) throw;
    return true;
  }
}

Outcome of_folders(const std::vector<std::string>& folders, const ConvertJob& job, Listener& listener,
                   JobContext& context) {
  const auto builder =
      std::find_if(builders().begin(), builders().end(), [&](const Builder& b) { return b.id == job.target->id; });
  BuildJob build{.folders = folders, .builder = &*builder, .out = job.out};
  build.writing = job.writing;
  return run(build, listener, context);
}

}  // namespace

Outcome run(const ConvertJob& job, Listener& listener, JobContext& context) {
  if (!job.target) return into_folders(job, listener, context);
  std::vector<std::string> folders, images;
  for (const std::string& word : job.inputs)
    (is_folder_of_files(word, job, context) ? folders : images).push_back(word);
  if (folders.empty()) return convert_images(job, listener, context);
  Outcome outcome = of_folders(folders, job, listener, context);
  if (images.empty()) return outcome;
  ConvertJob rest = job;
  rest.inputs = images;
  const Outcome more = convert_images(rest, listener, context);
  outcome.good = outcome.good && more.good;
  outcome.failures.insert(outcome.failures.end(), more.failures.begin(), more.failures.end());
  return outcome;
}

namespace {

Outcome convert_images(const ConvertJob& job, Listener& listener, JobContext& context) {
  const ScrubRequest scrubbing = scrub_request(job);
  const TitleList titles = job.titles.empty() ? TitleList{} : TitleList::read(job.titles);
  BatchRequest batch{.sources = find_sources(job.inputs, job.reading, Wanted::whole, context),
                     .order = {},
                     .rules = job.writing,
                     .skip_existing = job.skip_existing};
  batch.rules.inputs.add(batch.sources.files);
  // A container makes its own folders below whatever is named.
  if (job.target->shape != Shape::tree) refuse_one_file_for_many(batch.sources, job.out, job.inputs.front());
  batch.order = [&](const Source& source, const std::string& stem) {
    Scrubbed scrubbed{open_source(source.input), {}};
    if (scrubbing.unused || scrubbing.keep != WiiKeep::all) scrubbed = scrub(scrubbed.image, scrubbing);
    name_by_title(scrubbed.image, titles);
    if (!stem.empty()) scrubbed.image.name = stem;
    fs::path out = leading_output(scrubbed.image, *job.target, job.out, job.settings);
    return ConversionOrder{std::move(scrubbed.image),  job.target,     std::move(out), job.settings,
                           std::move(scrubbed.losses), job.limit_bytes};
  };
  return run_batch(std::move(batch), listener, context);
}

}  // namespace

MergeJob MergeJob::of(std::vector<std::string> inputs, const Settings& settings) {
  MergeJob job{.inputs = std::move(inputs), .out = settings.text(kOut)};
  if (job.out.empty()) need_out("merge needs a path for the new set");
  job.reading = ReadRules::of(settings);
  job.writing = WriteRules::of(settings);
  job.writing.inputs = named_inputs(job.inputs, settings, merge_settings());
  job.skip_existing = settings.flag(kSkipExisting);
  return job;
}

Outcome run(const MergeJob& job, Listener& listener, JobContext& context) {
  if (job.inputs.size() == 1 && !fs::is_directory(job.inputs.front()) && is_in_parts(job.inputs.front()))
    return join_parts(job.inputs.front(), job.out, job.writing, listener, context);
  BatchRequest batch{.sources = find_sources(job.inputs, job.reading, Wanted::whole, context),
                     .order = {},
                     .rules = job.writing,
                     .skip_existing = job.skip_existing};
  batch.rules.inputs.add(batch.sources.files);
  const Format& target = sheet_format(Stored::sectors);
  refuse_one_file_for_many(batch.sources, job.out, job.inputs.front());
  batch.order = [&](const Source& source, const std::string& stem) {
    ConversionOrder order{.image = open_source(source.input), .target = &target, .out = {}};
    if (!stem.empty()) order.image.name = stem;
    order.out = leading_output(order.image, target, job.out);
    return order;
  };
  return run_batch(std::move(batch), listener, context);
}

SplitJob SplitJob::of(std::vector<std::string> inputs, const Settings& settings) {
  SplitJob job{.inputs = std::move(inputs), .out = settings.text(kOut)};
  if (job.out.empty()) need_out("split needs a folder for the new set");
  job.reading = ReadRules::of(settings);
  job.writing = WriteRules::of(settings);
  job.writing.inputs = named_inputs(job.inputs, settings, split_settings());
  job.settings = settings.only(sheet_format(Stored::tracks).settings);
  job.limit_bytes = limit_of(settings, kLimitSplit);
  job.skip_existing = settings.flag(kSkipExisting);
  return job;
}

Outcome run(const SplitJob& job, Listener& listener, JobContext& context) {
  if (job.limit_bytes != 0) return cut_files(job.inputs, job.out, job.limit_bytes, job.writing, listener, context);
  BatchRequest batch{.sources = find_sources(job.inputs, job.reading, Wanted::whole, context),
                     .order = {},
                     .rules = job.writing,
                     .skip_existing = job.skip_existing};
  batch.rules.inputs.add(batch.sources.files);
  const Format& target = sheet_format(Stored::tracks);
  batch.order = [&](const Source& source, const std::string& stem) {
    ConversionOrder order{.image = open_source(source.input), .target = &target, .out = {}, .settings = job.settings};
    if (!stem.empty()) order.image.name = stem;
    const fs::path out = job.out;
    const std::string extension(target.extensions.front());
    order.out = out.extension() == extension ? out : out / (output_stem(order.image) + extension);
    return order;
  };
  return run_batch(std::move(batch), listener, context);
}

}  // namespace opifex::jobs
