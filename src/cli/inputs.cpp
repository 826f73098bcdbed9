#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/volumes/wii_disc.hpp"

#include "command.hpp"

namespace opifex::cli {

namespace fs = std::filesystem;

namespace {

/// Where the output goes there is room for the copy of an archive's contents as well, and the user expects writing.
fs::path spool_folder(const Session& session) {
  if (const std::string into = session.text("into"); !into.empty() && fs::is_directory(into)) return into;
  const std::string out = session.text("out");
  if (out.empty()) return {};
  const fs::path folder = fs::is_directory(out) ? fs::path(out) : fs::path(out).parent_path();
  if (folder.empty()) return ".";
  return fs::is_directory(folder) ? folder : fs::path{};
}

}  // namespace

ArchivePtr archive_of(const Session& session, const std::string& word) {
  ArchivePtr archive = open_archive(word, spool_folder(session));
  if (archive) session.note_inputs(archive->volumes());
  return archive;
}

Inputs inputs_of(const Session& session, const std::string& word, const OpenOptions& options) {
  Inputs inputs = find_inputs(word, options, session.text("pick"), spool_folder(session));
  if (inputs.archive) session.note_inputs(inputs.archive->volumes());
  return inputs;
}

Image open_input(const Input& input) {
  Image image = open_image(input.path, input.options);
  // A Wii disc stays as it is: only its partitions are read decrypted.
  if (!image.keys || (image.blocks() && is_wii_disc(*image.blocks()))) return image;
  return decrypted_ps3(std::move(image), *image.keys);
}

Image one_image(const Session& session, const std::string& word, const OpenOptions& options) {
  const Inputs inputs = inputs_of(session, word, options);
  if (inputs.images.size() == 1) return open_input(inputs.images.front());
  std::vector<std::string> names;
  for (const Input& i : inputs.images)
    names.push_back(printable(i.path.lexically_relative(inputs.archive->volumes().front()).string()));
  throw Error({.fault = Fault::usage,
               .code = "several_images",
               .what = "there is more than one image in the archive",
               .file = word,
               .found = fmt::format("{}", fmt::join(names, ", ")),
               .expected = "one",
               .hint = fmt::format("choose with --pick, for example --pick '{}'", names.front())});
}

}  // namespace opifex::cli
