#include "opifex/core/jobs/rescue.hpp"

#include <algorithm>

#include "opifex/core/check/prove.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/sources.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

RescueJob RescueJob::of(std::vector<std::string> inputs, const Settings& settings) {
  RescueJob job{.inputs = std::move(inputs), .out = settings.text(kOut)};
  if (job.out.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "rescue needs a path for the joined image",
                 .hint = "add <out>"});
  if (const std::string id = settings.text(kTo); !id.empty()) job.target = &writable_format(id);
  job.reading = ReadRules::of(settings);
  job.writing = WriteRules::of(settings);
  job.writing.inputs = named_inputs(job.inputs, settings, rescue_settings());
  job.record = settings.flag(kRecord);
  return job;
}

namespace {

const Format& target_format(const RescueJob& job, const Image& image) {
  if (job.target) return *job.target;
  const bool bare = image.format->is_bare() && image.format->stored == Stored::sectors;
  return image.format->plan_write && !bare ? *image.format : usual_format(true);
}

SectorMapFile map_of(const RescueResult& rescued) {
  SectorMapFile map{{}, rescued.map, {}};
  // Nobody knows which samples of music it is.
  for (const StateRange& r : rescued.map.ranges())
    for (cd::Lba lba = r.first; lba < r.end && r.state == SectorState::audio_unsure; ++lba)
      map.suspect_bytes[lba] = {{0, cd::kRawBytes - 1}};
  return map;
}

/// The dumps, and every file that is read for them.
std::vector<RescueInput> open_dumps(const RescueJob& job, InputFiles& files, JobContext& context) {
  std::vector<RescueInput> inputs;
  for (const std::string& word : job.inputs) {
    std::vector<Image> images;
    if (fs::is_directory(word)) {
      // A dump that cannot be used is no reason to go on without it in silence.
      const Sources found = find_sources({word}, job.reading, Wanted::all, context);
      for (const LeftOut& left : found.left_out)
        if (left.failed) throw Error(left.why);
      files.add(found.files);
      for (const Source& source : found.images) images.push_back(open_source(source.input));
    } else {
      images.push_back(open_one(word, job.reading, files));
    }
    for (Image& image : images) {
      files.add(input_paths(image));
      auto map = find_sector_map(image);
      inputs.push_back({std::move(image), std::move(map)});
    }
  }
  return inputs;
}

}  // namespace

Outcome run(const RescueJob& job, Listener& listener, JobContext& context) {
  const Stopwatch watch;
  WriteRules rules = job.writing;
  std::vector<RescueInput> inputs = open_dumps(job, rules.inputs, context);
  std::vector<std::string> names;
  for (const RescueInput& input : inputs) names.push_back(input.image.path.string());
  const Image first = inputs.front().image;
  const Format& target = target_format(job, first);
  const fs::path out = leading_output(first, target, job.out);
  const RescueResult rescued = plan_rescue(std::move(inputs), context);

  const ConvertRequest request{&target, out, {}, rules.accepted};
  Conversion conversion = plan_conversion(rescued.image, request, context);
  conversion.warnings.insert(conversion.warnings.begin(), rescued.warnings.begin(), rescued.warnings.end());
  refuse_losses(conversion, rescued.image, target);
  WriteJob write = rules.for_folder(out.parent_path());
  const std::string base = fs::path(out).replace_extension().string(), map = base + ".opifex-map";
  std::vector<fs::path> companions = {map};
  if (job.record) companions.insert(companions.end(), {base + ".rescue.txt", base + ".rescue.json"});
  refuse_existing(companions, write.inputs, write.existing);

  Written written{.source = rescued.image,
                  .becomes = std::string(target.title),
                  .conversion = conversion,
                  .planned_only = rules.plan_only,
                  .seconds = watch.seconds()};
  const bool changed = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                   [](const Loss& l) { return is_content_loss(l.kind); });
  const Inspect how = changed ? Inspect::readable : rules.prove ? Inspect::prove : Inspect::layout;
  write.inspect = inspection_of(rescued.image, request, conversion.plan, how, written.proof, context);
  const bool unsure = rescued.count(RescueHow::unsure) + rescued.count(RescueHow::conflict) > 0;
  const bool whole = rescued.complete() && !unsure;
  if (!whole) write.texts[map] = print(map_of(rescued));
  carry_out(written, write, context);
  if (!rules.plan_only && whole) remove_old_map(map);
  Rescued result{.written = written, .rescue = rescued, .inputs = std::move(names), .rules = rules};
  if (job.record && !rules.plan_only) {
    result.record_text = base + ".rescue.txt";
    result.record_json = base + ".rescue.json";
  }
  listener.result(result);
  return {.good = whole};
}

}  // namespace opifex::jobs
