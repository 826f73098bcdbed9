#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/wbfs/wbfs.hpp"
#include "opifex/core/platforms/unrecognised.hpp"
#include "opifex/core/stage/naming.hpp"
#include "opifex/core/stage/survey.hpp"
#include "opifex/report/archive.hpp"
#include "opifex/report/survey.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

/// Names that cannot be copied to the drives loaders read.
void warn_of_names(Image& image) {
  std::vector<std::filesystem::path> names = {image.path.filename()};
  for (const ImageFile& file : image.files) names.push_back(file.path.filename());
  std::sort(names.begin(), names.end());
  names.erase(std::unique(names.begin(), names.end()), names.end());
  for (const auto& name : names) {
    const std::string fault = name_fault(name.string());
    if (fault.empty()) continue;
    const bool too_long = utf16_units(name.string()) > kLongestName;
    image.warnings.push_back(
        {too_long ? "overlong_name" : "odd_name",
         fmt::format(
             "{} cannot be copied to a FAT, exFAT or NTFS drive ({}); opifex rename gives the set a name that can",
             printable(name.string()), fault)});
  }
}

void unknown(Session& session, const std::string& path, const Error& e) {
  session.result({{"path", path},
                  {"format", nullptr},
                  {"platform", nullptr},
                  {"complete", nullptr},
                  {"confidence", nullptr},
                  {"warnings", report::Json::array({{{"code", e.details.code}, {"message", e.details.what}}})}},
                 fmt::format("{}\n  Format      unknown: {}\n", printable(path), printable(e.details.found)));
  session.bad_news();
}

void identify_image(Session& session, const Input& input, const TitleList& titles) {
  Image image = open_input(input);
  warn_of_names(image);
  Identity id = identify_platform(image);
  titles.apply(id);
  if (id.state == "truncated") image.complete = false;
  const auto unrecognised = why_unrecognised(image);
  if (unrecognised) image.warnings.push_back({"unrecognised", *unrecognised});
  session.result(report::identify_json(image, id), report::identify_text(image, id));
  const bool wrong_key =
      std::any_of(id.warnings.begin(), id.warnings.end(), [](const Warning& w) { return w.code == "wrong_key"; });
  if (!image.complete || wrong_key || unrecognised) session.bad_news();
}

void identify_archive(Session& session, const std::string& path, ArchivePtr archive, const OpenOptions& options,
                      const TitleList& titles) {
  session.result(report::archive_json(path, *archive), report::archive_text(path, *archive));
  for (const Input& input : images_in(std::move(archive), options, session.text("pick")).images)
    identify_image(session, input, titles);
}

void show_other(Session& session, const std::string& path, NonImage other, const TitleList& titles) {
  titles.apply(other.id);
  report::Json json = report::other_json(path, other);
  const bool complete = json["complete"];
  session.result(std::move(json), report::other_text(path, other));
  if (!complete) session.bad_news();
}

void identify_folder(Session& session, const std::string& path, const OpenOptions& options, const TitleList& titles) {
  if (auto game = identify_game_folder(path)) return show_other(session, path, std::move(*game), titles);
  TargetFacts drive = target_facts(path);
  if (const std::string type = session.text("fs"); !type.empty()) drive = with_file_system(drive, type);
  const Survey survey = survey_folder({path, drive, options, titles}, session.work());
  session.result(report::survey_json(survey), report::survey_text(survey));
  const bool sound =
      std::all_of(survey.items.begin(), survey.items.end(), [](const SurveyItem& i) { return i.complete; });
  if (!sound) session.bad_news();
}

/// A file that is no image, unless it is one by its contents.
std::optional<NonImage> other_file(const std::string& path) {
  return std::filesystem::is_regular_file(path) ? identify_non_image(*open_file(path)) : std::nullopt;
}

/// A file by itself: an image, or what may be bare audio. Only here: a file in an archive says nothing of the archive.
void identify_plain(Session& session, const std::string& path, const OpenOptions& options, const TitleList& titles) {
  try {
    identify_image(session, {path, options}, titles);
  } catch (const Error& e) {
    if (e.details.code == "several_discs" && session.text("pick").empty()) {
      const WbfsListing listing = list_wbfs(host_files()->open(path));
      return session.result(report::wbfs_json(path, listing), report::wbfs_text(path, listing));
    }
    auto audio = e.details.code == "unknown_layout" ? guess_audio(*open_file(path)) : std::nullopt;
    if (!audio) throw;
    show_other(session, path, std::move(*audio), titles);
  }
}

void run_identify(Session& session) {
  OpenOptions options = open_options(session);
  options.allow_missing = true;
  const std::string list = session.text("titles");
  const TitleList titles = list.empty() ? TitleList{} : TitleList::read(list);
  for (const std::string& path : session.list("words")) {
    try {
      if (std::filesystem::is_directory(path))
        identify_folder(session, path, options, titles);
      else if (ArchivePtr archive = archive_of(session, path))
        identify_archive(session, path, std::move(archive), options, titles);
      else if (auto other = other_file(path))
        show_other(session, path, std::move(*other), titles);
      else
        identify_plain(session, path, options, titles);
    } catch (const Error& e) {
      if (e.details.code == "unknown_format")
        unknown(session, path, e);
      else
        session.failed(e);
    }
    session.work().progress.check_stop();
  }
}

void declare_identify(po::options_description& options) {
  options.add_options()("titles", po::value<std::string>()->value_name("FILE"),
                        "your own list (CSV: id,title) names what has only an id")(
      "fs", po::value<std::string>()->value_name("TYPE"),
      "for folders: hold names and sizes against the rules of fat32, exfat, ntfs or ext4 (default: found out)");
  declare_read_options(options);
}

}  // namespace

extern const Command kIdentify = {
    "identify",
    "PATH...",
    "says what each file, folder, set or archive is: format, platform, serial, tracks, what is missing",
    "Everything is read from the contents; names only break ties. For a set name its .cue; a lone .bin, .iso or\n"
    ".vcd is named itself. Of a folder or drive comes a table of all games in it, with what is left over, double or\n"
    "missing. Times are minutes:seconds:frames, 75 frames a second; 00:02:00 is LBA 0.",
    "  opifex identify 'Moth & Lantern.cue'\n  opifex identify *.bin --json\n  opifex identify /media/usb "
    "--fs fat32\n",
    &declare_identify,
    kSomeWords,
    &run_identify};

}  // namespace opifex::cli
