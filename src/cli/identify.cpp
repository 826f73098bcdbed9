#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/stage/naming.hpp"
#include "opifex/report/archive.hpp"
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

void run(Session& session) {
  OpenOptions options = open_options(session);
  options.allow_missing = true;
  const auto identify = [&](const Input& input) {
    Image image = open_image(input.path, input.options);
    warn_of_names(image);
    const Identity id = identify_platform(image);
    session.result(report::identify_json(image, id), report::identify_text(image, id));
    if (!image.complete) session.bad_news();
  };
  for (const std::string& path : session.list("words")) {
    try {
      if (const ArchivePtr archive = archive_of(session, path))
        session.result(report::archive_json(path, *archive), report::archive_text(path, *archive));
      for (const Input& input : inputs_of(session, path, options).images) identify(input);
    } catch (const Error& e) {
      if (e.details.code == "unknown_format")
        unknown(session, path, e);
      else
        session.failed(e);
    }
    session.work().progress.check_stop();
  }
}

}  // namespace

extern const Command kIdentify = {
    "identify",
    "PATH...",
    "says what each image is: format, platform, serial, tracks, what is missing",
    "Everything is read from the contents; names only break ties. For a set name its .cue; a lone .bin, .iso or\n"
    ".vcd is named itself. Times are minutes:seconds:frames, 75 frames a second; 00:02:00 is LBA 0.",
    "  opifex identify 'Moth & Lantern.cue'\n  opifex identify *.bin --json\n",
    &declare_read_options,
    -1,
    &run};

}  // namespace opifex::cli
