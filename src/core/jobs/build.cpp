#include "opifex/core/jobs/build.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/writing.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/volumes/gamecube_writer.hpp"
#include "opifex/core/volumes/iso9660_writer.hpp"
#include "opifex/core/volumes/xdvdfs_writer.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

using enum SettingType;

constexpr Setting kLabel{.name = "label",
                         .type = text,
                         .help = "volume label, up to 32 characters (default: the folder's name)",
                         .value = "NAME"};
constexpr Setting kNames{
    .name = "names",
    .type = choice,
    .help = "plain names: level1 (8 + 3), level2 (default, 30 characters) or relaxed (as they are)",
    .value = "RULE",
    .preset = "level2",
    .words = [] {
      return std::vector<std::string>{"level1", "level2", "relaxed"};
    }};
constexpr Setting kNoJoliet{.name = "no-joliet", .help = "leave out the second tree with the names as they are"};
constexpr Setting kFixedDates{.name = "fixed-dates",
                              .type = date,
                              .help = "one date for everything: the same files give the same bytes",
                              .value = "YYYY-MM-DD",
                              .implied = "2000-01-01"};
constexpr Setting kPadding{.name = "padding",
                           .type = number,
                           .help = "empty sectors at the end",
                           .value = "N",
                           .range = {0, UINT32_MAX},
                           .unit = "sectors"};
constexpr Setting kOrder{
    .name = "order", .type = reads, .help = "a list of paths, one a line, whose data comes first", .value = "FILE"};
constexpr Setting kBootArea{
    .name = "boot-area", .type = reads, .help = "up to 32768 bytes for the first 16 sectors", .value = "FILE"};
constexpr Setting kFull{.name = "full", .help = "for gamecube-iso: filled up to the size of a pressed disc"};

std::vector<std::string> lines_of(const fs::path& path) {
  const SourcePtr file = open_file(path);
  constexpr std::size_t kMost = 16 << 20;
  const Bytes bytes = read_up_to(*file, 0, kMost);
  std::vector<std::string> lines;
  std::string_view rest = as_text(bytes);
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find('\n'), rest.size());
    const std::string_view line = trim(rest.substr(0, end));
    if (!line.empty()) lines.emplace_back(line);
    rest.remove_prefix(std::min(end + 1, rest.size()));
  }
  return lines;
}

IsoOptions iso_options(const Settings& settings) {
  IsoOptions options;
  options.volume_id = settings.text(kLabel);
  options.names = settings.choice<IsoNames>(kNames);
  options.joliet = !settings.flag(kNoJoliet);
  options.fixed_time = settings.day(kFixedDates);
  options.padding_sectors = static_cast<std::uint32_t>(settings.number(kPadding).value_or(0));
  if (const std::string order = settings.text(kOrder); !order.empty()) options.first_files = lines_of(order);
  options.system_area = settings.text(kBootArea);
  return options;
}

void add_notices(Conversion& conversion, const std::vector<std::string>& notices) {
  for (const std::string& notice : notices) conversion.warnings.push_back({"left_out", notice});
}

/// A plan with what the user should know of it.
Conversion plan_plain_iso(const Builder&, const fs::path& folder, const fs::path& out, const Settings& settings) {
  IsoOptions options = iso_options(settings);
  Conversion conversion;
  if (auto own = ps3_iso_options(folder, options)) {
    options = std::move(*own);
    conversion.warnings.push_back(
        {"ps3_layout", "made as a plain PS3 disc: the same files, never bit for bit the pressed disc"});
  }
  IsoBuild build = plan_iso(folder, out, options);
  add_notices(conversion, build.notices);
  conversion.plan = std::move(build.plan);
  return conversion;
}

Conversion plan_gamecube_iso(const Builder&, const fs::path& folder, const fs::path& out, const Settings& settings) {
  GameCubeBuild build = plan_gamecube(folder, out, {.full = settings.flag(kFull)});
  Conversion conversion;
  add_notices(conversion, build.notices);
  conversion.plan = std::move(build.plan);
  return conversion;
}

/// The folder as the game partition of a disc, in the format that has the builder's name.
Conversion plan_game(const Builder& builder, const fs::path& folder, const fs::path& out, const Settings& settings) {
  refuse_inside(folder, builder.makes_folders ? out.parent_path() : out);
  Conversion conversion;
  const FolderTree tree = read_folder(folder);
  add_notices(conversion, tree.notices);
  Image image;
  image.path = folder;
  image.format = &bare_format(Stored::blocks);
  image.content = BlockContent{.bytes = make_xdvdfs(xdvdfs_tree(tree), {.padded = false}).image};
  const Format& target = writable_format(builder.id);
  conversion.plan = target.plan_write(image, out, settings.only(target.settings));
  return conversion;
}

}  // namespace

const std::vector<Builder>& builders() {
  static const std::vector<Builder> all = [] {
    std::vector<Builder> list;
    // Offsets in these two files of a GameCube disc are the image's own.
    list.push_back({"gamecube-iso", {&kFull}, false, {"system/header.bin", "system/files.fst"}, &plan_gamecube_iso});
    list.push_back({std::string(usual_format(false).id),
                    {&kLabel, &kNames, &kNoJoliet, &kFixedDates, &kPadding, &kOrder, &kBootArea},
                    false,
                    {},
                    &plan_plain_iso});
    for (const Format* f : formats()) {
      if (!f->plan_write || !f->holds.game_partition) continue;
      SettingList own(f->settings.begin(), f->settings.end());
      std::erase_if(own, [](const Setting* s) { return s->name == kRebuild.name; });  // there is nothing to pack anew
      list.push_back({std::string(f->id), std::move(own), f->shape == Shape::tree, {}, &plan_game});
    }
    std::sort(list.begin(), list.end(), [](const Builder& a, const Builder& b) { return a.id < b.id; });
    return list;
  }();
  return all;
}

const Setting& as_setting() {
  static const Setting setting{
      .name = "as",
      .type = SettingType::text,
      .help = "what to make: iso, gamecube-iso, xiso, god",
      .value = "FORMAT",
      .details =
          "iso; xiso, the game partition of an Xbox disc; god, an installed Xbox game, which needs "
          "default.xex or default.xbe in the folder; or gamecube-iso from a folder that extract made "
          "of a GameCube disc, changed or not: what still fits stays in its place. Wii discs are not "
          "made: they would have to be encrypted and signed."};
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
  const fs::path whole = fs::weakly_canonical(folder);
  if (job.builder->makes_folders) return (job.out.empty() ? whole.parent_path() : fs::path(job.out)) / whole.filename();
  if (job.out.empty()) return fs::path(whole).concat(".iso");
  if (job.folders.size() < 2) return job.out;
  return fs::path(job.out) / (whole.filename().string() + ".iso");
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

void build_one(const BuildJob& job, const fs::path& folder, Listener& listener, Work& work) {
  Image source;
  source.path = folder;
  source.format = &bare_format(Stored::blocks);
  const Conversion conversion = job.builder->plan(*job.builder, folder, output_of(job, folder), job.settings);
  const Prover prover = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove) {
    OpenOptions options;
    options.files = staged;
    const Image made = open_image(leading_file(conversion.plan, written).path, options);
    return prove ? prove_folder(read_folder(folder), made, job.builder->made_anew, work) : Proof{};
  };
  run_plan(source, source.format->title, conversion, job.writing, prover, listener, work);
}

}  // namespace

Outcome run(const BuildJob& job, Listener& listener, Work& work) {
  Outcome outcome;
  for (const std::string& folder : job.folders) require_folder(folder);
  refuse_clashes(job);
  for (const std::string& folder : job.folders) {
    try {
      build_one(job, folder, listener, work);
    } catch (const Error& e) {
      if (job.folders.size() == 1 || ends_all(e)) throw;
      outcome.failures.push_back(e.details);
      listener.failed(e);
    }
  }
  return outcome;
}

}  // namespace opifex::jobs
