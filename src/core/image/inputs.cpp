#include "opifex/core/image/inputs.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

/// Images among the members: sheets with the files they name, then what is called like one, else what looks like one.
std::vector<fs::path> images_of(const Archive& archive, const fs::path& root, const OpenOptions& options) {
  std::vector<fs::path> files, images;
  for (const ArchiveMember& m : archive.members())
    if (!m.folder && m.refused.empty()) files.push_back((root / m.name).lexically_normal());
  std::set<fs::path> named;
  OpenOptions lenient = options;
  lenient.allow_missing = true;
  for (const fs::path& file : files) {
    if (!is_sheet_name(file)) continue;
    images.push_back(file);
    try {
      for (const ImageFile& f : open_image(file, lenient).files) named.insert(f.path.lexically_normal());
    } catch (const Error& e) {
      // What is wrong with it is told when it is opened in its turn. A damaged archive is no matter of the sheet.
      if (e.details.cause == Cause::archive || e.details.fault != Fault::refused) throw;
    }
  }
  for (const fs::path& file : files)
    if (!is_sheet_name(file) && is_image_name(file) && !named.contains(file)) images.push_back(file);
  if (!images.empty()) return images;
  constexpr std::size_t kMostProbed = 100;
  for (std::size_t i = 0; i < std::min(files.size(), kMostProbed); ++i) {
    try {
      probe_format(files[i], options.space());
      images.push_back(files[i]);
    } catch (const Error& e) {
      if (e.details.cause != Cause::unknown_format && e.details.cause != Cause::empty_file) throw;
    }
  }
  return images;
}

}  // namespace

ArchivePtr open_archive(const fs::path& path, const fs::path& spool_folder) {
  std::error_code ignored;
  if (!fs::is_regular_file(path, ignored)) return nullptr;
  const auto set = part_set_of(path);
  // A later volume has no magic of its own: the first one tells. A zip in parts begins with its first part.
  const fs::path first = set && set->missing.empty() ? path.parent_path() / set->parts.front() : path;
  const bool archive_parts = set && !set->plain_bytes() && set->kind != PartKind::wbfs;
  if (!archive_parts && archive_kind(*open_file(first)).empty()) return nullptr;
  return Archive::open(path, spool_folder);
}

Inputs find_inputs(const fs::path& path, const OpenOptions& options, const std::string& pick,
                   const fs::path& spool_folder) {
  if (ArchivePtr archive = open_archive(path, spool_folder)) return images_in(std::move(archive), options, pick);
  return {nullptr, {{path, options}}};
}

Inputs images_in(ArchivePtr archive, const OpenOptions& options, const std::string& pick) {
  Inputs inputs;
  inputs.archive = std::move(archive);
  const fs::path root = inputs.archive->volumes().front();
  OpenOptions inside = options;
  inside.files = archive_files(inputs.archive, root);
  inside.archive = root;
  const std::vector<fs::path> images = images_of(*inputs.archive, root.lexically_normal(), inside);
  const auto fail = [&](Fault fault, const char* code, std::string what, std::string found, std::string hint) {
    throw Error({.fault = fault,
                 .code = code,
                 .cause = fault == Fault::refused ? Cause::no_image : Cause::other,
                 .what = std::move(what),
                 .file = root.string(),
                 .found = std::move(found),
                 .hint = std::move(hint)});
  };
  if (images.empty())
    fail(Fault::refused, "no_image", "there is no image in this archive", "", "<job files> shows what is in it");
  for (const fs::path& image : images)
    if (pick.empty() || path_fits(pick, image.lexically_relative(root.lexically_normal()).generic_string()))
      inputs.images.push_back({image, inside});
  if (inputs.images.empty())
    fail(Fault::usage, "no_such_path", "no image in the archive fits the pattern", printable(pick),
         "<job files> shows what is in it");
  return inputs;
}

}  // namespace opifex
