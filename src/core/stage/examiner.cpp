#include "examiner.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/archive.hpp"
#include "opifex/core/volumes/stfs/content_header.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr int kSureBits = 32;  // of a probe: enough without a fitting name

/// A container of many discs is no image: it is looked into by itself.
SurveyItem many_discs(SurveyItem item, const ImageListing& listing) {
  item.kind = SurveyKind::drive_image;
  item.format = listing.format;
  item.id.platform = listing.platform;
  item.id.title = fmt::format("{} discs", listing.images.size());
  return item;
}

int best_probe(const ByteSource& source, const fs::path& path) {
  const std::string name = fold_case(path.filename().string());
  int best = 0;
  for (const Format* format : formats()) best = std::max(best, format->probe(source, name));
  return best;
}

SurveyItem archive(SurveyItem item, const std::string& kind) {
  item.kind = SurveyKind::archive;
  item.format = kind;
  return item;
}

std::optional<SurveyItem> from_other(SurveyItem item, const NonImage& other) {
  if (other.what == "metadata") return std::nullopt;
  item.kind = other.what == "package"     ? SurveyKind::package
              : other.what == "container" ? SurveyKind::container
                                          : SurveyKind::drive_image;
  item.id = other.id;
  item.complete = other.size_check != "short";
  if (!item.complete)
    item.warnings.push_back({"cut_short", "it is shorter than its header says: cut off, or one part of several"});
  return item;
}

/// Content/<profile>/<title id>/<type>/<name>: the folders should say what the header says.
void check_content_place(SurveyItem& item) {
  std::vector<std::string> parts;
  for (const fs::path& part : item.path) parts.push_back(part.string());
  constexpr std::size_t kBelow = 5;
  if (parts.size() < kBelow || fold_case(parts[parts.size() - kBelow]) != "content") return;
  if (!item.id.serial.empty() && to_upper_ascii(parts[parts.size() - 3]) != item.id.serial)
    item.warnings.push_back({"other_folder", fmt::format("it lies in the folder of {}, its header says {}",
                                                         parts[parts.size() - 3], item.id.serial)});
}

}  // namespace

std::string folded_extension(const fs::path& path) { return fold_case(path.extension().string()); }

Examiner::Examiner(const SurveyRequest& request) : request_(request), opening_(request.opening) {
  opening_.allow_missing = true;
}

std::optional<SurveyItem> Examiner::examine(const fs::path& path) const {
  SurveyItem item;
  item.path = path;
  item.files = {path};
  try {
    const SourcePtr source = host_files()->open(path);
    item.size_bytes = source->size();
    if (const std::string kind = archive_kind(*source); !kind.empty())
      return archive(std::move(item), kind);  // copies: what fails is still told of
    if (auto other = identify_non_image(*source)) return from_other(std::move(item), *other);
    if (!is_image_name(path) && best_probe(*source, path) < kSureBits) return std::nullopt;
    if (const auto listing = list_images(path)) return many_discs(item, *listing);
    return image(item);
  } catch (const Error& e) {
    const bool none = e.details.cause == Cause::unknown_format || e.details.cause == Cause::empty_file;
    if (none && !is_sheet_name(path)) return std::nullopt;
    item.kind = SurveyKind::broken;
    item.complete = false;
    item.warnings.push_back({e.details.code,
                             e.details.what + (e.details.cause == Cause::missing_part ? ": " + e.details.expected
                                               : e.details.found.empty()              ? ""
                                                                                      : ": " + e.details.found),
                             {},
                             e.details.cause,
                             e.details.fault});
    return item;
  }
}

SurveyItem Examiner::image(SurveyItem item) const {
  const Image image = open_image(item.path, opening_);
  item.format = image.format->id;
  if (!request_.for_a_job || !std::holds_alternative<RomContent>(image.content)) item.id = identify_platform(image);
  item.id.rom.reset();  // of ten thousand cartridges that is a hundred megabytes, and a list tells nothing of it
  request_.titles.apply(item.id);
  item.complete = image.complete && item.id.state != "truncated";
  item.warnings.insert(item.warnings.end(), item.id.warnings.begin(), item.id.warnings.end());
  std::copy_if(image.warnings.begin(), image.warnings.end(), std::back_inserter(item.warnings),
               [](const Warning& w) { return w.cause == Cause::uneven_part; });
  for (const ImageFile& f : image.files) {
    if (f.missing) continue;
    if (f.path != item.path) {
      item.files.push_back(f.path);
      item.size_bytes += f.size_bytes;
    }
  }
  const auto missing =
      std::count_if(image.files.begin(), image.files.end(), [](const ImageFile& f) { return f.missing; });
  if (missing > 0)
    item.warnings.push_back({"missing_file", fmt::format("{} of the {} files it names {} missing", missing,
                                                         image.files.size(), missing == 1 ? "is" : "are")});
  item.package = std::any_of(image.files.begin(), image.files.end(),
                             [](const ImageFile& f) { return f.source && is_content_package(*f.source); });
  if (item.package) {
    // Ids and pictures are seldom checked by anybody: what of the header contradicts the data is worth a look.
    std::copy_if(image.warnings.begin(), image.warnings.end(), std::back_inserter(item.warnings),
                 [](const Warning& w) { return w.cause != Cause::missing_data_file; });
    check_content_place(item);
  }
  if (image.format->is_bare() && image.format->stored == Stored::sectors)
    item.warnings.push_back({"no_sheet", image.cd() && image.cd()->layout().audio_track_count() > 0
                                             ? "no cue sheet names it: where its music tracks begin is a guess"
                                             : "no cue sheet names it"});
  return item;
}

}  // namespace opifex
