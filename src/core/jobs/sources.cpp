#include "opifex/core/jobs/sources.hpp"

#include <algorithm>
#include <set>

#include <fmt/ranges.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/stage/survey.hpp"
#include "opifex/core/volumes/wii/disc.hpp"

#include "survey_sources.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

class Finder {
 public:
  Finder(const ReadRules& rules, Wanted wanted, JobContext& context)
      : rules_(rules), wanted_(wanted), context_(context) {}

  void add_word(const std::string& word) {
    if (fs::is_directory(word))
      add_folder(word);
    else
      add_file(word, InFolder::no);
  }

  void add_survey(const Survey& survey) {
    for (const SurveyItem& item : survey.items) add_item(item);
  }

  Sources take() { return std::move(found_); }

 private:
  enum class InFolder { no, yes };

  void add_folder(const std::string& folder) {
    found_.searched = true;
    const std::size_t before = found_.images.size(), left_before = found_.left_out.size();
    const Survey survey = survey_folder({folder, target_facts(folder), rules_.opening, {}, true}, context_);
    for (const SurveyItem& item : survey.items) add_item(item);
    // What the survey did not see may hold images, too.
    for (const Warning& w : survey.unseen)
      found_.left_out.push_back({folder, {.fault = w.fault, .code = w.code, .what = w.message, .file = folder}});
    if (found_.images.size() == before && found_.left_out.size() == left_before)
      throw Error({.code = "no_image",
                   .cause = Cause::no_image,
                   .what = "there is no image in this folder that could be used",
                   .file = folder,
                   .hint = "<job identify> shows what is in it; <job build> makes an image of a folder"});
  }

  void add_item(const SurveyItem& item) {
    switch (item.kind) {
      case SurveyKind::image:
        if (item.complete || wanted_ == Wanted::all)
          return add({item.path, rules_.opening}, item.path.lexically_normal().string());
        return leave_out(item, "incomplete", "the image is not complete");
      case SurveyKind::archive:
      case SurveyKind::drive_image:
        return add_file(item.path.string(), InFolder::yes);
      case SurveyKind::broken:
        return leave_out(item, "broken", "it cannot be read");
      case SurveyKind::game_folder:
      case SurveyKind::package:
      case SurveyKind::container:
        found_.left_out.push_back({item.path.lexically_normal().string(),
                                   {.code = "not_an_image",
                                    .what = fmt::format("this is a {}, not an image", to_string(item.kind)),
                                    .file = item.path},
                                   false});
        return;
    }
  }

  void leave_out(const SurveyItem& item, const char* code, const char* what) {
    const Warning first = item.warnings.empty() ? Warning{code, what} : item.warnings.front();
    found_.left_out.push_back(
        {item.path.string(),
         {.fault = first.fault, .code = first.code, .cause = first.cause, .what = first.message, .file = item.path}});
  }

  void add_file(const std::string& path, InFolder where) {
    try {
      if (ArchivePtr archive = open_archive(path, rules_.spool_folder)) return add_archive(std::move(archive));
      if (rules_.pick.empty() && add_several(path)) return;
    } catch (const Error& e) {
      // Of a folder the other files go on; one that was named has to be right.
      if (where == InFolder::no || ends_all(e)) throw;
      // An archive of other things is nobody's failure.
      found_.left_out.push_back({path, e.details, e.details.cause != Cause::no_image});
      return;
    }
    if (where == InFolder::no) add({path, rules_.opening}, path);
  }

  void add_archive(ArchivePtr archive) {
    const std::vector<fs::path> volumes = archive->volumes();
    const std::string kind = archive->kind();
    found_.files.add(volumes);
    Inputs inputs = images_in(std::move(archive), rules_.opening, rules_.pick);
    for (Input& input : inputs.images) {
      std::string name = input.path.string();
      add(std::move(input), std::move(name), volumes, kind);
    }
  }

  /// Each image of a file that holds several.
  bool add_several(const std::string& path) {
    std::error_code ignored;
    const auto listing = fs::is_regular_file(path, ignored) ? list_images(path) : std::nullopt;
    if (!listing) return false;
    found_.searched = true;
    for (const ImageListing::Item& item : listing->images) {
      Input input{path, rules_.opening};
      input.options.pick = item.id;
      add(std::move(input), path + " (" + item.id + ")");
    }
    return true;
  }

  void add(Input input, std::string name, const std::vector<fs::path>& volumes = {}, const std::string& kind = {}) {
    std::error_code ignored;
    const fs::path place = fs::weakly_canonical(input.path, ignored);
    if (!known_.insert(place.string() + '\0' + input.options.pick).second) return;  // a folder, and a file in it
    found_.images.push_back({std::move(input), std::move(name), volumes, kind});
  }

  const ReadRules& rules_;
  Wanted wanted_;
  JobContext& context_;
  Sources found_;
  std::set<std::string> known_;
};

}  // namespace

Sources find_sources(const std::vector<std::string>& words, const ReadRules& rules, Wanted wanted,
                     JobContext& context) {
  Finder finder(rules, wanted, context);
  for (const std::string& word : words) finder.add_word(word);
  return finder.take();
}

Sources find_sources(const Survey& survey, const ReadRules& rules, JobContext& context) {
  Finder finder(rules, Wanted::all, context);
  finder.add_survey(survey);
  return finder.take();
}

Image open_source(const Input& input) {
  Image image = open_image(input.path, input.options);
  // A Wii disc stays as it is: only its partitions are read decrypted.
  if (!image.keys || (image.blocks() && is_wii_disc(*image.blocks()))) return image;
  return decrypted_ps3(std::move(image), *image.keys);
}

Image open_one(const std::string& word, const ReadRules& rules, InputFiles& files) {
  const Inputs inputs = find_inputs(word, rules.opening, rules.pick, rules.spool_folder);
  if (inputs.archive) files.add(inputs.archive->volumes());
  if (inputs.images.size() == 1) return open_source(inputs.images.front());
  std::vector<std::string> names;
  for (const Input& i : inputs.images)
    names.push_back(printable(i.path.lexically_relative(inputs.archive->volumes().front()).string()));
  throw Error({.fault = Fault::usage,
               .code = "several_images",
               .what = "there is more than one image in the archive",
               .file = word,
               .found = fmt::format("{}", fmt::join(names, ", ")),
               .expected = "one",
               .hint = fmt::format("choose with <pick>, for example <pick> '{}'", names.front())});
}

}  // namespace opifex::jobs
