#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

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
  return open_archive(word, spool_folder(session));
}

Inputs inputs_of(const Session& session, const std::string& word, const OpenOptions& options) {
  return find_inputs(word, options, session.text("pick"), spool_folder(session));
}

Image one_image(const Session& session, const std::string& word, const OpenOptions& options) {
  const Inputs inputs = inputs_of(session, word, options);
  if (inputs.images.size() == 1) return open_image(inputs.images.front().path, inputs.images.front().options);
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
