#include "opifex/core/jobs/build.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/writing.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/volumes/iso9660/writer.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

void add_notices(Conversion& conversion, const std::vector<std::string>& notices) {
  for (const std::string& notice : notices) conversion.warnings.push_back({"left_out", notice});
}

Conversion conversion_of(WritePlan plan, const std::vector<std::string>& notices) {
  Conversion conversion;
  add_notices(conversion, notices);
  conversion.plan = std::move(plan);
  return conversion;
}

Conversion plan_whole(const Builder& builder, const fs::path& folder, const fs::path& out, const Settings& settings) {
  FolderImage image = builder.system->build->plan(folder, out, settings, seconds_now());
  return conversion_of(std::move(image.plan), image.notices);
}

/// A plain data disc; the folder of one console's discs wants a layout of its own.
Conversion plan_plain(const Builder& builder, const fs::path& folder, const fs::path& out, const Settings& settings) {
  const auto own = ps3_iso_options(folder, iso_options(settings));
  if (!own) return plan_whole(builder, folder, out, settings);
  IsoBuild build = plan_iso(folder, out, *own);
  Conversion conversion = conversion_of(std::move(build.plan), build.notices);
  conversion.warnings.insert(
      conversion.warnings.begin(),
      {"ps3_layout", "made as a plain PS3 disc: the same files, never bit for bit the pressed disc"});
  return conversion;
}

/// The folder as the volume of a disc, in the format that has the builder's name.
Conversion plan_wrapped(const Builder& builder, const fs::path& folder, const fs::path& out, const Settings& settings) {
  refuse_inside(folder, builder.makes_folders ? out.parent_path() : out);
  Conversion conversion;
  std::vector<std::string> notices;
  Image image;
  image.path = folder;
  image.format = &bare_format(Stored::blocks);
  image.content = BlockContent{.bytes = builder.system->build->make(folder, notices)};
  add_notices(conversion, notices);
  const Format& target = writable_format(builder.id);
  conversion.plan = target.plan_write(image, out, settings.only(target.settings));
  return conversion;
}

SettingList list_of(std::span<const Setting* const> settings) { return {settings.begin(), settings.end()}; }

/// What images of folders with this file system are written as; null: a plain image of blocks.
const Format* own_format(const FileSystem& system) {
  const auto at =
      std::find_if(formats().begin(), formats().end(), [&](const Format* f) { return f->volume == system.id; });
  return at == formats().end() ? nullptr : *at;
}

/// A volume that is made whole is written as a plain image of blocks, of its console's own layout or any data disc's,
/// or in the format that is its own.
Builder whole_builder(const FileSystem& system) {
  if (const Format* own = own_format(system))
    return {.id = std::string(own->id),
            .settings = list_of(system.build->settings),
            .makes_folders = false,
            .made_anew = {},
            .system = &system,
            .format = own,
            .plan = &plan_whole};
  const std::string blocks(usual_format(false).id);
  const bool plain = system.company != Company::none;
  return {.id = plain ? blocks : fmt::format("{}-{}", system.id, blocks),
          .settings = list_of(system.build->settings),
          .makes_folders = false,
          .made_anew = {system.build->made_anew.begin(), system.build->made_anew.end()},
          .system = &system,
          .format = &usual_format(false),
          .plan = plain ? &plan_plain : &plan_whole};
}

/// What a format wraps: the game partition of a console's disc.
Builder wrapped_builder(const FileSystem& system, const Format& format) {
  SettingList own = list_of(format.settings);
  std::erase_if(own, [](const Setting* s) { return s->name == kRebuild.name; });  // there is nothing to pack anew
  return {.id = std::string(format.id),
          .settings = std::move(own),
          .makes_folders = format.shape == Shape::tree,
          .made_anew = {},
          .system = &system,
          .format = &format,
          .plan = &plan_wrapped};
}

}  // namespace

const std::vector<Builder>& builders() {
  static const std::vector<Builder> all = [] {
    std::vector<Builder> list;
    for (const FileSystem* system : file_systems()) {
      if (!system->build) continue;
      if (system->build->plan) list.push_back(whole_builder(*system));
      if (!system->build->make) continue;
      for (const Format* f : formats())
        if (f->plan_write && f->holds.game_partition) list.push_back(wrapped_builder(*system, *f));
    }
    std::sort(list.begin(), list.end(), [](const Builder& a, const Builder& b) { return a.id < b.id; });
    return list;
  }();
  return all;
}

const Setting& as_setting() {
  static const std::string help = [] {
    std::string ids;
    for (const Builder& b : builders()) ids += (ids.empty() ? "" : ", ") + b.id;
    return "what to make: " + ids;
  }();
  static const Setting setting{
      .name = "as",
      .type = SettingType::text,
      .help = help,
      .value = "FORMAT",
      .details =
          "iso; xiso, the game partition of an Xbox disc; god, an installed Xbox game, which needs "
          "default.xex or default.xbe in the folder; or gamecube-iso from a folder that extract made "
          "of a GameCube disc, changed or not: what still fits stays in its place. Wii discs are not "
          "made: they would have to be encrypted and signed. A floppy (adf), a memory card or save memory "
          "can be made of nothing, too: empty."};
  return setting;
}

BuildJob BuildJob::of(std::vector<std::string> folders, const Settings& settings) {
  BuildJob job{.folders = std::move(folders), .out = settings.text(kOut)};
  const std::string as = settings.text(as_setting());
  const auto builder = std::find_if(builders().begin(), builders().end(), [&](const Builder& b) { return b.id == as; });
  if (builder == builders().end()) {
    std::vector<std::string> known;
    for (const Builder& b : builders()) known.push_back(b.id);
    unknown_word("image to make of a folder", as.empty() ? "nothing" : as, known);
  }
  job.builder = &*builder;
  if (job.folders.empty() && !builder->makes_blank())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "build needs a folder",
                 .hint = "only a floppy or a memory card is made of nothing"});
  if (job.folders.empty() && job.out.empty())
    throw Error({.fault = Fault::usage, .code = "usage", .what = "an empty image needs a path", .hint = "<out> FILE"});
  job.writing = WriteRules::of(settings);
  job.writing.inputs = named_inputs(job.folders, settings, build_settings());
  job.settings = settings.only(builder->settings);
  return job;
}

namespace {

void require_folder(const fs::path& folder) {
  if (fs::is_directory(folder)) return;
  throw Error({.code = "not_a_folder",
               .what = fs::exists(folder) ? "build takes a folder" : "there is no folder of this name",
               .file = folder.string()});
}

/// The image, or where its tree begins.
fs::path output_of(const BuildJob& job, const fs::path& folder) {
  if (folder.empty()) return job.out;
  const fs::path whole = fs::weakly_canonical(folder);
  if (job.builder->makes_folders) return (job.out.empty() ? whole.parent_path() : fs::path(job.out)) / whole.filename();
  const std::string extension(job.builder->format->extensions.front());
  if (job.out.empty()) return fs::path(whole).concat(extension);
  if (job.folders.size() < 2) return job.out;
  return fs::path(job.out) / (whole.filename().string() + extension);
}

/// Of several folders: no two images of one name, and room for all.
void refuse_clashes(const BuildJob& job) {
  std::map<fs::path, std::string> outputs;
  for (const std::string& folder : job.folders) {
    const auto [at, is_new] = outputs.try_emplace(output_of(job, folder), folder);
    if (is_new) continue;
    throw Error({.fault = Fault::needs_word,
                 .code = "same_output",
                 .what = "the images of two folders would get one name",
                 .file = at->first.string(),
                 .found = at->second + " + " + folder,
                 .expected = "a name for each",
                 .hint = "make them into different folders with <out>"});
  }
}

/// What was compared with the folder while it was made is what lies on the drive.
Proof prove_written(const Conversion& conversion, const FileSpace& staged, bool is_blank) {
  const PlannedOutput& output = conversion.plan.outputs.front();
  const Bytes& wanted = std::get<Bytes>(output.pieces.front());
  const SourcePtr there = staged.open(output.path);
  if (there->size() != wanted.size() || read_up_to(*there, 0, wanted.size()) != wanted)
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "what was written does not read back as it should: nothing was put in place",
                 .file = output.path.string(),
                 .hint = "check the drive"});
  return {digest_of("sha1", wanted), is_blank ? "an empty volume" : "every file of the folder, byte by byte"};
}

void build_one(const BuildJob& job, const fs::path& folder, Listener& listener, JobContext& context) {
  Image source;
  source.path = folder.empty() ? fs::path("nothing") : folder;
  source.format = job.builder->format;
  const Conversion conversion = job.builder->plan(*job.builder, folder, output_of(job, folder), job.settings);
  const Prover prover = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove) {
    OpenOptions options;
    options.files = staged;
    const Image made = open_image(leading_file(conversion.plan, written).path, options);
    if (job.builder->system->build->proves_itself) return prove_written(conversion, *staged, folder.empty());
    return prove ? prove_folder(read_folder(folder), made, job.builder->made_anew, context) : Proof{};
  };
  run_plan(source, job.builder->format->title, conversion, job.writing, prover, listener, context);
}

}  // namespace

Outcome run(const BuildJob& job, Listener& listener, JobContext& context) {
  Outcome outcome;
  if (job.folders.empty()) {
    build_one(job, {}, listener, context);
    return outcome;
  }
  for (const std::string& folder : job.folders) require_folder(folder);
  refuse_clashes(job);
  for (const std::string& folder : job.folders) {
    try {
      build_one(job, folder, listener, context);
    } catch (const Error& e) {
      if (job.folders.size() == 1 || ends_all(e)) throw;
      outcome.failures.push_back(e.details);
      listener.failed(e);
    }
  }
  return outcome;
}

}  // namespace opifex::jobs
