#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/source_check.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/report/volume.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

std::vector<Volume> volumes_of(const Image& image) {
  std::vector<Volume> volumes = read_volumes(image);
  const bool rom = std::holds_alternative<RomContent>(image.content);
  if (volumes.empty())
    throw Error({.code = "no_file_system",
                 .what = rom ? "this is a ROM: there are no files in it"
                             : "there is no file system in this image that can be read",
                 .file = image.path.string(),
                 .found = describe(image.content),
                 .hint = "opifex identify says what it is"});
  return volumes;
}

struct Contents {
  Image image;
  std::vector<Volume> volumes;
};

/// The files in the image; of an archive its members, or with --pick the files in that image.
Contents open_contents(const Session& session, const OpenOptions& options) {
  const std::string word = session.list("words").front();
  const ArchivePtr archive = session.text("pick").empty() ? archive_of(session, word) : nullptr;
  if (!archive) {
    Image image = one_image(session, word, options);
    std::vector<Volume> volumes = volumes_of(image);
    return {std::move(image), std::move(volumes)};
  }
  Contents contents;
  contents.image.path = word;
  contents.volumes.push_back(archive_volume(*archive));
  return contents;
}

bool any_damage(const std::vector<Volume>& volumes) {
  return std::any_of(volumes.begin(), volumes.end(), [](const Volume& v) { return v.damaged(); });
}

void declare_files(po::options_description& options) {
  options.add_options()("tree", po::bool_switch(), "folders indented instead of whole paths");
  declare_read_options(options);
}

void run_files(Session& session) {
  const auto words = session.list("words");
  if (words.size() > 2)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "files takes an image and at most one path"});
  OpenOptions opening = open_options(session);
  opening.allow_missing = true;
  const auto contents = open_contents(session, opening);
  const Image& image = contents.image;
  const std::vector<Volume>& volumes = contents.volumes;
  const std::string path = words.size() > 1 ? words[1] : "";
  const bool found = path.empty() || std::any_of(volumes.begin(), volumes.end(), [&](const Volume& v) {
                       return std::any_of(v.entries.begin(), v.entries.end(),
                                          [&](const VolumeEntry& e) { return path_fits(path, e.path); });
                     });
  if (!found)
    throw Error({.fault = Fault::usage,
                 .code = "no_such_path",
                 .what = "nothing in the image fits this path",
                 .file = words[0],
                 .found = printable(path)});
  const auto view = session.flag("tree") ? report::FilesView::tree : report::FilesView::flat;
  session.result_of([&] { return report::files_json(image, volumes, path); },
                    [&] { return report::files_text(image, volumes, path, view); });
  if (any_damage(volumes)) session.bad_news();
}

void declare_extract(po::options_description& options) {
  options.add_options()("into", po::value<std::string>()->value_name("DIR"), "the folder to write to")(
      "check", po::bool_switch(), "read every file back and compare it with the image")(
      "form2", po::value<std::string>()->value_name("HOW"),
      "streamed files of CD-ROM XA: raw (default, sectors of 2352 bytes) or payload (2324)")(
      "strict", po::bool_switch(), "write nothing if the image turns out to be damaged")(
      "plan", po::bool_switch(), "say what would be written; write nothing")("overwrite", po::bool_switch(),
                                                                             "replace existing files that differ")(
      "fs", po::value<std::string>()->value_name("TYPE"), "rules of the target drive: fat32, exfat, ntfs, ext4");
  declare_read_options(options);
}

Form2As form2_as(const Session& session) {
  const std::string word = session.text("form2");
  if (word == "payload") return Form2As::payload;
  if (!word.empty() && word != "raw") unknown_word("way to write streamed files", word, {"raw", "payload"});
  return Form2As::raw;
}

/// A disc of 2048-byte blocks has lost what streamed sectors hold beyond them.
void warn_of_form2(Session& session, const Image& image, const ExtractPlan& plan) {
  const auto cut =
      std::count_if(plan.items.begin(), plan.items.end(), [&](const ExtractItem& i) { return i.entry->form2; });
  if (cut > 0 && (!image.cd() || image.blocks()))
    session.message(fmt::format(
        "opifex: {} streamed file{} had sectors of more than 2048 bytes; this image holds only 2048 of each\n", cut,
        cut == 1 ? "" : "s"));
}

/// What is wrong with the image as far as this extraction is concerned.
std::vector<Finding> damage_of(const Image& image, const std::vector<Volume>& volumes, const ExtractPlan& plan,
                               Work& work) {
  std::vector<Finding> findings;
  if (image.format)
    findings = SourceCheck(image, false, work, &volumes).finish();  // an archive's members have their own checksums
  for (const Volume& volume : volumes) {
    std::vector<const VolumeEntry*> files;
    for (const ExtractItem& item : plan.items)
      if (!item.is_folder() && item.volume == &volume) files.push_back(item.entry);
    for (Finding& f : bad_sectors_of(image, files, volume, work)) findings.push_back(std::move(f));
  }
  return findings;
}

/// Files in regions that are encrypted are written as they are: of no use to anybody without the key.
void warn_of_ciphertext(Session& session, const Image& image, const ExtractPlan& plan) {
  const auto disc = image.blocks() ? read_ps3_disc(*image.blocks()) : std::nullopt;
  if (!disc || !disc->has_encrypted()) return;
  Identity id = identify_platform(image);
  if (id.state != "encrypted") return;
  const auto hit = std::count_if(plan.items.begin(), plan.items.end(), [&](const ExtractItem& i) {
    return std::any_of(i.entry->extents.begin(), i.entry->extents.end(), [&](const VolumeExtent& x) {
      const std::uint64_t last = x.sector + (x.sectors() > 0 ? x.sectors() - 1 : 0);
      return disc->is_encrypted(x.sector) || disc->is_encrypted(last);
    });
  });
  if (hit == 0) return;
  session.message(fmt::format("opifex: {} file{} encrypted, and written as {}: --key-file decrypts\n", hit,
                              hit == 1 ? " is" : "s are", hit == 1 ? "it is" : "they are"));
  session.bad_news();
}

void run_extract_command(Session& session) {
  const auto words = session.list("words");
  if (session.text("into").empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "extract needs --into DIR for the files",
                 .hint = "the folder is made if it is not there"});
  const auto start = std::chrono::steady_clock::now();
  const auto contents = open_contents(session, open_options(session));
  const Image& image = contents.image;
  const std::vector<Volume>& volumes = contents.volumes;
  const WriteJob write = write_job(session, session.text("into"));
  const ExtractPlan plan = plan_extract(
      image, volumes, {{words.begin() + 1, words.end()}, session.text("into"), form2_as(session)}, write.target);
  report::ExtractOutcome outcome;
  if (!session.flag("plan")) {
    InputFiles inputs = write.inputs;
    inputs.add(input_paths(image));
    if (session.flag("strict"))
      take_findings(session, damage_of(image, volumes, plan, session.work()), image, outcome.warnings);
    outcome.items = run_extract(
        plan, {write.existing, session.flag("check"), write.target, session.text("into"), std::move(inputs)},
        session.work());
    outcome.verified = session.flag("check");
    if (!session.flag("strict"))
      take_findings(session, damage_of(image, volumes, plan, session.work()), image, outcome.warnings);
  }
  outcome.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  warn_of_form2(session, image, plan);
  session.result_of([&] { return report::extract_json(image, plan, outcome); },
                    [&] { return report::extract_text(plan, outcome, session.text("into")); });
  warn_of_ciphertext(session, image, plan);
  const bool lost = any_damage(volumes) || std::any_of(volumes.begin(), volumes.end(), [](const Volume& v) {
                      return std::any_of(v.entries.begin(), v.entries.end(), [](const VolumeEntry& e) {
                        return (e.kind == EntryKind::file && !e.sound) || !e.refused.empty();
                      });
                    });
  if (lost) session.bad_news();
}

}  // namespace

extern const Command kFiles = {
    "files",
    "IMAGE [PATH]",
    "lists the files inside an image: size, date, place, attributes",
    "PATH is a folder, a file or a pattern: * and ? within a name, ** over folders; case does not matter. ISO 9660 "
    "with "
    "Joliet,\n"
    "Rock Ridge and XA, UDF, 3DO, GameCube, Xbox and (with --key-file) Wii discs and Xbox 360 packages are read, in "
    "whatever\n"
    "format the image is. Addresses are LBAs of the disc.",
    "  opifex files 'Moth & Lantern.cue'\n  opifex files game.chd 'DATA/*.BIN' --json\n",
    &declare_files,
    kSomeWords,
    &run_files};

extern const Command kExtract = {
    "extract",
    "IMAGE [PATH...] --into DIR",
    "writes the files inside an image to a folder",
    "Without PATH everything is written. Dates are kept. Files that are there already with the same size and date are "
    "left alone, so\n"
    "a stopped job goes on where it was. Names that no drive can have get _ in place of what is wrong.",
    "  opifex extract 'Moth & Lantern.cue' --into moth/\n  opifex extract game.chd '**/*.TXT' --into texts/ --check\n",
    &declare_extract,
    kSomeWords,
    &run_extract_command};

}  // namespace opifex::cli
