#include <map>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/volumes/gamecube_writer.hpp"
#include "opifex/core/volumes/iso9660_writer.hpp"
#include "opifex/core/volumes/xdvdfs_writer.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

void declare_build(po::options_description& options) {
  options.add_options()("as", po::value<std::string>()->value_name("FORMAT"),
                        "what to make: iso, gamecube-iso, xiso, god")(
      "out", po::value<std::string>()->value_name("FILE"), "the image to write (default: beside the folder)")(
      "label", po::value<std::string>()->value_name("NAME"),
      "volume label, up to 32 characters (default: the folder's name)")(
      "names", po::value<std::string>()->value_name("RULE"),
      "plain names: level1 (8 + 3), level2 (default, 30 characters) or relaxed (as they are)")(
      "no-joliet", po::bool_switch(), "leave out the second tree with the names as they are")(
      "fixed-dates", po::value<std::string>()->value_name("YYYY-MM-DD")->implicit_value("2000-01-01"),
      "one date for everything: the same files give the same bytes")(
      "padding", po::value<std::uint32_t>()->value_name("N"), "empty sectors at the end")(
      "order", po::value<std::string>()->value_name("FILE"), "a list of paths, one a line, whose data comes first")(
      "boot-area", po::value<std::string>()->value_name("FILE"), "up to 32768 bytes for the first 16 sectors")(
      "full", po::bool_switch(), "gamecube-iso: filled up to the size of a pressed disc")(
      "minimal", po::bool_switch(), "xiso: end with the last file, not padded to 64 KiB")(
      "prove", po::bool_switch(), "read the image again and compare every file with the folder")(
      "plan", po::bool_switch(), "say what would be written; write nothing")(
      "overwrite", po::bool_switch(), "replace an existing file")("sha1", po::bool_switch(),
                                                                  "print the SHA-1 of the output")(
      "fs", po::value<std::string>()->value_name("TYPE"), "rules of the target drive: fat32, exfat, ntfs, ext4");
  declare_container_options(options);
}

std::int64_t parse_date(const std::string& text) {
  int year = 0, month = 0, day = 0;
  char rest = 0;
  // NOLINTNEXTLINE: three numbers and nothing behind them
  const bool good = std::sscanf(text.c_str(), "%4d-%2d-%2d%c", &year, &month, &day, &rest) == 3 && year >= 1900 &&
                    year <= 2155 && month >= 1 && month <= 12 && day >= 1 && day <= 31;
  if (!good)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "--fixed-dates takes a day such as 2000-01-31, not " + printable(text)});
  std::tm tm{};
  tm.tm_year = year - 1900;
  tm.tm_mon = month - 1;
  tm.tm_mday = day;
  return timegm(&tm);
}

std::vector<std::string> lines_of(const fs::path& path) {
  const SourcePtr file = open_file(path);
  constexpr std::size_t kMost = 16 << 20;
  const Bytes bytes = read_up_to(*file, 0, kMost);
  std::vector<std::string> lines;
  std::string_view text = as_text(bytes);
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    const std::string_view line = trim(text.substr(0, end));
    if (!line.empty()) lines.emplace_back(line);
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return lines;
}

IsoOptions iso_options(const Session& session) {
  IsoOptions options;
  options.volume_id = session.text("label");
  if (const std::string names = session.text("names"); !names.empty()) {
    if (names != "level1" && names != "level2" && names != "relaxed")
      unknown_word("rule for names", names, {"level1", "level2", "relaxed"});
    options.names = names == "level1" ? IsoNames::level1 : names == "level2" ? IsoNames::level2 : IsoNames::relaxed;
  }
  options.joliet = !session.flag("no-joliet");
  if (session.options().count("fixed-dates") != 0) options.fixed_time = parse_date(session.text("fixed-dates"));
  if (session.options().count("padding") != 0)
    options.padding_sectors = session.options()["padding"].as<std::uint32_t>();
  if (const std::string order = session.text("order"); !order.empty()) options.first_files = lines_of(order);
  options.system_area = session.text("boot-area");
  return options;
}

fs::path output_of(const Session& session, const fs::path& folder) {
  if (const std::string out = session.text("out"); !out.empty()) return out;
  const fs::path whole = fs::weakly_canonical(folder);
  return fs::path(whole).concat(".iso");
}

/// A plan with what the user should know of it.
Conversion iso_of(const Session& session, const fs::path& folder, const fs::path& out) {
  IsoOptions options = iso_options(session);
  Conversion conversion;
  if (auto own = ps3_iso_options(folder, options)) {
    options = std::move(*own);
    conversion.warnings.push_back(
        {"ps3_layout", "made as a plain PS3 disc: the same files, never bit for bit the pressed disc"});
  }
  IsoBuild build = plan_iso(folder, out, options);
  for (std::string& notice : build.notices) conversion.warnings.push_back({"left_out", std::move(notice)});
  conversion.plan = std::move(build.plan);
  return conversion;
}

Conversion gamecube_iso_of(const Session& session, const fs::path& folder, const fs::path& out) {
  GameCubeBuild build = plan_gamecube(folder, out, {.full = session.flag("full")});
  Conversion conversion;
  for (std::string& notice : build.notices) conversion.warnings.push_back({"left_out", std::move(notice)});
  conversion.plan = std::move(build.plan);
  return conversion;
}

/// The folder as an image of a game partition, not written yet.
Image game_image(const fs::path& folder, Conversion& conversion) {
  const FolderTree tree = read_folder(folder);
  for (const std::string& notice : tree.notices) conversion.warnings.push_back({"left_out", notice});
  Image image;
  image.path = folder;
  image.format = &bare_format(Stored::blocks);
  image.content = BlockContent{.bytes = make_xdvdfs(xdvdfs_tree(tree), {.padded = false}).image};
  return image;
}

Conversion xiso_of(const Session& session, const fs::path& folder, const fs::path& out) {
  refuse_inside(folder, out);
  Conversion conversion;
  const Image image = game_image(folder, conversion);
  conversion.plan = writable_format(session.text("as")).plan_write(image, out, {.minimal = session.flag("minimal")});
  return conversion;
}

Conversion god_of(const Session& session, const fs::path& folder, const fs::path&) {
  const std::string out = session.text("out");
  const fs::path where = out.empty() ? fs::weakly_canonical(folder).parent_path() : fs::path(out);
  refuse_inside(folder, where);
  Conversion conversion;
  const Image image = game_image(folder, conversion);
  WriteOptions options;
  options.title = session.text("title");
  options.picture = session.text("picture");
  conversion.plan =
      writable_format(session.text("as")).plan_write(image, where / fs::weakly_canonical(folder).filename(), options);
  return conversion;
}

using Maker = Conversion (*)(const Session&, const fs::path&, const fs::path&);

/// What can be made of a folder: images, by the ids of their formats, and one that is laid out as its console wants it.
std::map<std::string, Maker> all_makers() {
  std::map<std::string, Maker> makers = {{std::string(usual_format(false).id), &iso_of},
                                         {"gamecube-iso", &gamecube_iso_of}};
  for (const Format* f : formats())
    if (f->plan_write && f->holds.game_partition)
      makers.emplace(std::string(f->id), f->shape == Shape::tree ? &god_of : &xiso_of);
  return makers;
}

void run_build(Session& session) {
  const std::string as = session.text("as");
  const std::map<std::string, Maker> makers = all_makers();
  const auto maker = makers.find(as);
  if (maker == makers.end()) {
    std::vector<std::string> known;
    for (const auto& [name, make] : makers) known.push_back(name);
    unknown_word("image to make of a folder", as.empty() ? "nothing" : as, known);
  }
  const fs::path folder = session.list("words").front(), out = output_of(session, folder);
  if (!fs::is_directory(folder))
    throw Error({.code = "not_a_folder",
                 .what = fs::exists(folder) ? "build takes a folder" : "there is no folder of this name",
                 .file = folder.string()});
  Image source;
  source.path = folder;
  source.format = &bare_format(Stored::blocks);
  const Conversion conversion = maker->second(session, folder, out);
  run_plan(session, source, source.format->title, conversion,
           [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove) {
             OpenOptions options;
             options.files = staged;
             const Image made = open_image(leading_file(conversion.plan, written).path, options);
             if (!prove) return Proof{};
             // Offsets are the image's own.
             const bool gamecube = as == "gamecube-iso";
             return prove_folder(read_folder(folder), made,
                                 gamecube ? std::vector<std::string>{"system/header.bin", "system/files.fst"}
                                          : std::vector<std::string>{},
                                 session.work());
           });
}

}  // namespace

extern const Command kBuild = {
    "build",
    "FOLDER --as FORMAT [--out FILE]",
    "makes a disc image of a folder",
    "An ISO 9660 image with Joliet names; files of more than 4 GiB get several sections. Links and special files are "
    "left "
    "out, and named.\n"
    "With --fixed-dates the same files give the same bytes on every machine. xiso and god take the folder of\n"
    "an Xbox game, god with default.xex or default.xbe in it. gamecube-iso takes a folder that opifex extract\n"
    "made of a GameCube disc, and may have been changed; Wii discs are not made: they would have to be signed.",
    "  opifex build moth/ --as iso --out moth.iso --label MOTH\n  opifex build kestrel/ --as gamecube-iso\n  opifex "
    "build moth/ --as iso --fixed-dates --plan\n",
    &declare_build,
    kOneWord,
    &run_build};

}  // namespace opifex::cli
