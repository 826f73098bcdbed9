#include "opifex/core/jobs/identify.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/sources.hpp"
#include "opifex/core/platforms/unrecognised.hpp"
#include "opifex/core/stage/naming.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

IdentifyJob IdentifyJob::of(std::vector<std::string> paths, const Settings& settings) {
  IdentifyJob job{.paths = std::move(paths), .reading = ReadRules::of(settings)};
  job.reading.opening.allow_missing = true;
  job.titles = settings.text(kTitles);
  job.file_system = settings.text(kFileSystem);
  return job;
}

namespace {

/// Names that cannot be copied to the drives loaders read.
void warn_of_names(Image& image) {
  std::vector<fs::path> names = {image.path.filename()};
  for (const ImageFile& file : image.files) names.push_back(file.path.filename());
  std::sort(names.begin(), names.end());
  names.erase(std::unique(names.begin(), names.end()), names.end());
  for (const auto& name : names) {
    const std::string fault = name_fault(name.string());
    if (fault.empty()) continue;
    const bool too_long = utf16_units(name.string()) > kLongestName;
    image.warnings.push_back(
        {too_long ? "overlong_name" : "odd_name",
         fmt::format("{} cannot be copied to a FAT, exFAT or NTFS drive ({})", printable(name.string()), fault),
         "<job rename> gives the set a name that can"});
  }
}

bool is_whole(const NonImage& other) {
  return other.size_check != "short" && std::all_of(other.split_files.begin(), other.split_files.end(),
                                                    [](const auto& split) { return split.complete; });
}

class Identification {
 public:
  Identification(const IdentifyJob& job, Listener& listener, JobContext& context)
      : job_(job),
        titles_(job.titles.empty() ? TitleList{} : TitleList::read(job.titles)),
        listener_(listener),
        context_(context) {}

  Outcome run() {
    for (const std::string& path : job_.paths) {
      try {
        identify(path);
      } catch (const Error& e) {
        if (e.details.cause == Cause::unknown_format) {
          tell({path, UnknownFile{e.details}, false});
        } else {
          outcome_.failures.push_back(e.details);
          listener_.failed(e);
        }
      }
      context_.progress.check_stop();
    }
    return std::move(outcome_);
  }

 private:
  void tell(Identified what) {
    if (!what.sound) outcome_.good = false;
    listener_.result(what);
  }

  void identify(const std::string& path) {
    if (fs::is_directory(path)) return folder(path);
    if (ArchivePtr archive = open_archive(path, job_.reading.spool_folder)) return packed(path, std::move(archive));
    if (auto other = fs::is_regular_file(path) ? identify_non_image(*open_file(path)) : std::nullopt)
      return non_image(path, std::move(*other));
    plain(path);
  }

  void folder(const std::string& path) {
    if (auto game = identify_game_folder(path)) return non_image(path, std::move(*game));
    TargetFacts drive = target_facts(path);
    if (!job_.file_system.empty()) drive = with_file_system(drive, job_.file_system);
    Survey survey = survey_folder({path, drive, job_.reading.opening, titles_}, context_);
    const bool sound =
        std::all_of(survey.items.begin(), survey.items.end(), [](const SurveyItem& i) { return i.complete; });
    tell({path, std::move(survey), sound});
  }

  void packed(const std::string& path, ArchivePtr archive) {
    tell({path, archive, true});
    for (const Input& input : images_in(std::move(archive), job_.reading.opening, job_.reading.pick).images)
      image(path, input);
  }

  void non_image(const std::string& path, NonImage other) {
    titles_.apply(other.id);
    const bool sound = is_whole(other);
    tell({path, std::move(other), sound});
  }

  /// A file by itself: an image, or what may be bare audio. Only here: a file in an archive says nothing of the
  /// archive.
  void plain(const std::string& path) {
    if (job_.reading.pick.empty())
      if (auto listing = list_images(path)) return tell({path, std::move(*listing), true});
    try {
      image(path, {path, job_.reading.opening});
    } catch (const Error& e) {
      auto audio = e.details.cause == Cause::unknown_layout ? guess_audio(*open_file(path)) : std::nullopt;
      if (!audio) throw;
      non_image(path, std::move(*audio));
    }
  }

  void image(const std::string& path, const Input& input) {
    IdentifiedImage found{open_source(input), {}};
    warn_of_names(found.image);
    found.id = identify_platform(found.image);
    titles_.apply(found.id);
    if (found.id.state == "truncated") found.image.complete = false;
    const auto unrecognised = why_unrecognised(found.image);
    if (unrecognised) found.image.warnings.push_back({"unrecognised", *unrecognised});
    const bool wrong_key = std::any_of(found.id.warnings.begin(), found.id.warnings.end(),
                                       [](const Warning& w) { return w.cause == Cause::wrong_key; });
    const bool sound = found.image.complete && !wrong_key && !unrecognised;
    tell({path, std::move(found), sound});
  }

  const IdentifyJob& job_;
  const TitleList titles_;
  Listener& listener_;
  JobContext& context_;
  Outcome outcome_;
};

}  // namespace

Outcome run(const IdentifyJob& job, Listener& listener, JobContext& context) {
  return Identification(job, listener, context).run();
}

}  // namespace opifex::jobs
