#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/source_check.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/core/convert/scrub.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/platforms/title_list.hpp"
#include "opifex/core/stage/naming.hpp"
#include "opifex/core/stage/survey.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

void declare_convert(po::options_description& options) {
  options.add_options()("to", po::value<std::string>()->value_name("FORMAT"),
                        "what to write: opifex formats lists them")("track", po::value<int>()->value_name("N"),
                                                                    "for iso: which data track (default: the first)")(
      "gaps", po::value<std::string>()->value_name("WHERE"),
      "for cue-tracks: own (default) or previous, see opifex help split")(
      "codecs", po::value<std::string>()->value_name("NAME,..."),
      "for chd: codecs to try on each hunk (default: cdlz,cdzl,cdfl for CDs, lzma,zlib,huff,flac for the rest)")(
      "hunk-size", po::value<std::string>()->value_name("SIZE"),
      "for chd: bytes of a hunk (default: 19584, 4096); for wbfs: of a block (default: 2 MiB)")(
      "stand-alone", po::bool_switch(), "for chd: write a whole one, although --parent was needed to read the input")(
      "effort", po::value<std::string>()->value_name("LEVEL"),
      "for chd: fast, normal (default) or best: time spent on getting smaller")(
      "scrub", po::bool_switch(), "for GameCube and Wii discs: leave out what no file uses (Wii: needs --key-file)")(
      "keep", po::value<std::string>()->value_name("WHICH"),
      "for Wii discs: partitions to keep, all (default) or game")(
      "limit", po::value<std::string>()->value_name("SIZE"), "write parts of at most SIZE, or fat32: what that takes")(
      "rebuild", po::bool_switch(), "for xiso: pack the files anew, without the gaps between them")(
      "minimal", po::bool_switch(), "for xiso: end with the last file, not padded to 64 KiB")(
      "titles", po::value<std::string>()->value_name("FILE"),
      "your own list (CSV: id,title) names outputs of games that have only an id");
  declare_container_options(options);
  declare_write_options(options);
  declare_read_options(options);
}

void declare_merge(po::options_description& options) {
  declare_write_options(options);
  declare_read_options(options);
}

void declare_split(po::options_description& options) {
  options.add_options()("by", po::value<std::string>()->value_name("WHAT")->default_value("tracks"), "tracks")(
      "gaps", po::value<std::string>()->value_name("WHERE"),
      "own (default) or previous: which file gets a track's pregap")(
      "limit", po::value<std::string>()->value_name("SIZE"),
      "cut one big file into parts of at most SIZE, or fat32: what that takes");
  declare_write_options(options);
  declare_read_options(options);
}

PregapFile gaps(const Session& session) {
  const std::string word = session.text("gaps");
  if (word.empty() || word == "own") return PregapFile::own;
  if (word != "previous") unknown_word("place for pregaps", word, {"own", "previous"});
  return PregapFile::previous;
}

Effort effort(const Session& session) {
  const std::string word = session.text("effort");
  if (word == "fast") return Effort::fast;
  if (word == "best") return Effort::best;
  if (!word.empty() && word != "normal") unknown_word("effort", word, {"fast", "normal", "best"});
  return Effort::normal;
}

/// 0: the user set none.
std::uint64_t limit_bytes(const Session& session) {
  const std::string limit = session.text("limit");
  if (limit.empty()) return 0;
  const auto bytes = limit == "fat32" ? std::optional(kFat32Part) : parse_size(limit);
  if (!bytes)
    throw Error(
        {.fault = Fault::usage, .code = "usage", .what = "--limit takes fat32 or a size, not " + printable(limit)});
  return *bytes;
}

ScrubRequest scrub_request(const Session& session, const Format& target, const WriteOptions& options) {
  ScrubRequest request{.unused = session.flag("scrub")};
  const std::string keep = session.text("keep");
  if (!keep.empty() && keep != "all" && keep != "game") unknown_word("choice of partitions", keep, {"all", "game"});
  request.keep = keep == "game" ? WiiKeep::game : WiiKeep::all;
  // A block that holds anything used is stored whole anyway: its other clusters may as well stay.
  if (target.unit_bytes != 0) request.unit_bytes = options.hunk_bytes != 0 ? options.hunk_bytes : target.unit_bytes;
  return request;
}

std::string one_word(const Session& session) { return session.list("words").front(); }

WriteOptions write_options(const Session& session, const Format& target) {
  WriteOptions options{.gaps = gaps(session)};
  if (session.options().count("track") != 0) options.data_track = session.options()["track"].as<int>();
  options.codecs = comma_list(session.text("codecs"));
  if (const std::string size = session.text("hunk-size"); !size.empty()) {
    constexpr std::uint64_t kMost = UINT32_MAX;
    const auto bytes = parse_size(size);
    if (!bytes || *bytes == 0 || *bytes > kMost)
      throw Error({.fault = Fault::usage, .code = "usage", .what = "--hunk-size takes a size, not " + printable(size)});
    options.hunk_bytes = static_cast<std::uint32_t>(*bytes);
  }
  options.effort = effort(session);
  options.rebuild = session.flag("rebuild");
  options.minimal = session.flag("minimal");
  options.title = session.text("title");
  options.picture = session.text("picture");
  if (target.has_parents && !session.flag("stand-alone")) options.parent = session.text("parent");
  return options;
}

/// All whole images in a folder or on a drive.
void add_folder(Session& session, const std::string& folder, std::vector<Input>& inputs) {
  const OpenOptions options = open_options(session);
  const std::size_t before = inputs.size();
  const Survey survey = survey_folder({folder, target_facts(folder), options, {}}, session.work());
  for (const SurveyItem& item : survey.items)
    if (item.kind == SurveyKind::image && item.complete) inputs.push_back({item.path, options});
  if (inputs.size() == before)
    throw Error({.code = "no_image",
                 .what = "there is no image in this folder that could be converted",
                 .file = folder,
                 .hint = "opifex identify shows what is in it; opifex build makes an image of a folder"});
}

/// The images of all words. Several go into a folder.
std::vector<Input> all_inputs(Session& session, const std::string& out) {
  std::vector<Input> inputs;
  for (const std::string& word : session.list("words")) {
    if (fs::is_directory(word)) {
      add_folder(session, word, inputs);
      continue;
    }
    for (Input& input : inputs_of(session, word, open_options(session)).images) inputs.push_back(std::move(input));
  }
  if (inputs.size() > 1 && !out.empty() && !out.ends_with('/') && !fs::is_directory(out))
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = fmt::format("there are {} images, and --out names one file", inputs.size()),
                 .file = one_word(session),
                 .hint = "name a folder, ending in /, or choose one image of an archive with --pick"});
  return inputs;
}

/// Containers are called by hexadecimal numbers: their outputs by the title, else by the user's list, else by the id.
void name_by_title(Image& image, const TitleList& titles) {
  if (image.name.empty() || titles.empty()) return;
  Identity id = identify_platform(image);
  if (image.name != id.serial) return;
  titles.apply(id);
  if (!id.title.empty() && name_fault(id.title).empty()) image.name = id.title;
}

void run_convert(Session& session) {
  const Format& target = writable_format(session.text("to"));
  const WriteOptions options = write_options(session, target);
  const ScrubRequest request = scrub_request(session, target, options);
  const std::uint64_t limit = limit_bytes(session);
  const std::string out = session.text("out"), list = session.text("titles");
  const TitleList titles = list.empty() ? TitleList{} : TitleList::read(list);
  // A container makes its own folders below whatever is named.
  const std::vector<Input> inputs = all_inputs(session, target.shape == Shape::tree ? "" : out);
  const auto convert_one = [&](const Input& input) {
    Scrubbed scrubbed{open_input(input), {}};
    if (request.unused || request.keep != WiiKeep::all) scrubbed = scrub(scrubbed.image, request);
    Image& image = scrubbed.image;
    name_by_title(image, titles);
    run_conversion(session, image, {&target, leading_output(image, target, out), options, scrubbed.losses, limit});
  };
  for (const Input& input : inputs) {
    try {
      convert_one(input);
    } catch (const Error& e) {
      if (inputs.size() == 1 || e.details.fault == Fault::interrupted) throw;
      session.failed(e);  // the others go on
    }
  }
}

void require_out(const Session& session, const char* what) {
  if (session.text("out").empty())
    throw Error({.fault = Fault::usage, .code = "usage", .what = what, .hint = "add --out"});
}

/// A plan that only cuts or joins files.
void run_file_plan(Session& session, const fs::path& input, const char* becomes, const WritePlan& plan) {
  Image source;
  source.path = input;
  source.format = &bare_format(Stored::blocks);
  run_plan(session, source, becomes, {plan, {}, {}},
           [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove) {
             return prove ? prove_copies(plan, *staged, written, session.work()) : Proof{};
           });
}

/// The parts of a split file become one.
void join_parts(Session& session, const fs::path& part) {
  const std::string out = session.text("out");
  Image named;
  named.path = part;
  fs::path target = out;
  if (out.ends_with('/') || fs::is_directory(out)) {
    const auto set = part_set_of(part);
    const std::string stem = output_stem(named);
    const fs::path whole = set->kind == PartKind::wbfs           ? fs::path(stem + ".wbfs")
                           : fs::path(set->stem).has_extension() ? fs::path(set->stem)
                                                                 : fs::path(stem + ".iso");
    target /= whole;
  }
  const WritePlan plan = plan_join(part, target);
  // Parts that were cut off, or are not all there, give a file that looks whole.
  const Image whole = open_image(part);
  std::vector<Warning> warnings = whole.warnings;
  for (const Warning& w : whole.warnings)
    if (w.code == "uneven_part") session.bad_news();
  take_findings(session, SourceCheck(whole, true, session.work()).finish(), whole, warnings);
  for (const Warning& w : warnings) session.message(fmt::format("opifex: warning: {}\n", printable(w.message)));
  run_file_plan(session, part, "one file", plan);
}

void run_merge(Session& session) {
  require_out(session, "merge needs --out PATH for the new set");
  if (is_in_parts(one_word(session))) return join_parts(session, one_word(session));
  const Image image = one_image(session, one_word(session), open_options(session));
  const Format& target = sheet_format(Stored::sectors);
  run_conversion(session, image, {&target, leading_output(image, target, session.text("out")), {}});
}

void run_split(Session& session) {
  require_out(session, "split needs --out DIR for the new set");
  if (const std::uint64_t limit = limit_bytes(session); limit != 0)
    return run_file_plan(session, one_word(session), "parts",
                         plan_split(one_word(session), session.text("out"), limit));
  if (session.text("by") != "tracks") unknown_word("way to split", session.text("by"), {"tracks"});
  const Image image = one_image(session, one_word(session), open_options(session));
  const Format& target = sheet_format(Stored::tracks);
  const fs::path out = session.text("out");
  const fs::path lead = out.extension() == ".cue" ? out : out / (output_stem(image) + ".cue");
  run_conversion(session, image, {&target, lead, {.gaps = gaps(session)}});
}

}  // namespace

const Format& writable_format(const std::string& id) {
  std::vector<std::string> known;
  for (const Format* f : formats())
    if (f->plan_write) known.emplace_back(f->id);
  const Format* format = find_format(id);
  if (id.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "--to FORMAT is missing",
                 .hint = fmt::format("one of {}", fmt::join(known, ", "))});
  if (!format || !format->plan_write) unknown_word("format to write", id, known);
  return *format;
}

void declare_container_options(po::options_description& options) {
  options.add_options()("title", po::value<std::string>()->value_name("NAME"),
                        "for god: the name the console shows (default: the game's own, else the file's)")(
      "picture", po::value<std::string>()->value_name("FILE"), "for god: a PNG that the console shows");
}

void declare_read_options(po::options_description& options) {
  options.add_options()("sector-size", po::value<std::size_t>()->value_name("N"),
                        "an image without a sheet has sectors of N bytes (default: found out)")(
      "mode", po::value<int>()->value_name("1|2"), "mode of sectors without a header (default: found out)")(
      "parent", po::value<std::string>()->value_name("FILE"),
      "the CHD that the input is the difference to (default: found beside it); with --to chd also that of the output")(
      "key-file", po::value<std::string>()->value_name("FILE"),
      "your keys (TOML): encrypted PS3 discs and Wii partitions are read decrypted")(
      "pick", po::value<std::string>()->value_name("PATTERN"),
      "of an archive: only images whose path fits, like 'disc 1/*'; of a WBFS drive: the disc with this id");
}

OpenOptions open_options(const Session& session) {
  OpenOptions options;
  if (session.options().count("sector-size") != 0)
    options.sector_bytes = session.options()["sector-size"].as<std::size_t>();
  options.pick = session.text("pick");
  if (const std::string keys = session.text("key-file"); !keys.empty()) options.keys = KeyRing::read(keys);
  if (const std::string parent = session.text("parent"); !parent.empty()) options.parents.emplace_back(parent);
  const Format* target = find_format(session.text("to"));
  options.parents_must_fit = !target || !target->has_parents;  // there it may be that of the output alone
  if (session.options().count("mode") != 0) options.mode = session.options()["mode"].as<int>();
  if (options.mode && *options.mode != 1 && *options.mode != 2)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "--mode is 1 or 2"});
  return options;
}

void declare_write_options(po::options_description& options) {
  options.add_options()("out", po::value<std::string>()->value_name("PATH"), "output file, leading .cue, or folder")(
      "accept", po::value<std::string>()->value_name("LOSS,..."),
      "agree to lose: audio, tracks, form2, subchannel, raw-headers, sessions, partitions")(
      "plan", po::bool_switch(), "say what would be done and lost; write nothing")("overwrite", po::bool_switch(),
                                                                                   "replace existing files")(
      "prove", po::bool_switch(), "read the output back and compare every sector with the input")(
      "strict", po::bool_switch(), "write nothing if the input turns out to be damaged")(
      "sha1", po::bool_switch(), "print the SHA-1 of each output")(
      "fs", po::value<std::string>()->value_name("TYPE"),
      "rules of the target drive: fat32, exfat, ntfs, ext4, fatx (default: found out)");
}

extern const Command kConvert = {
    "convert",
    "INPUT... --to FORMAT [--out PATH]",
    "writes an image in another format, and says first what would be lost",
    "Without --out the output lies beside the input under its own name. Game content (music, streamed video, odd "
    "sectors)\n"
    "is lost only with --accept; filler is only reported. Output appears whole under its name or not at all.",
    "  opifex convert 'Moth & Lantern.cue' --to vcd\n"
    "  opifex convert 'Moth & Lantern.cue' --to iso --plan\n"
    "  opifex convert 'Kestrel Circuit (Disc 2).bin' --to cue --out sheets/\n",
    &declare_convert,
    kSomeWords,
    &run_convert};

extern const Command kMerge = {
    "merge",
    "INPUT --out PATH",
    "joins the bins of a set into one, with a new sheet",
    "The parts of a file that was cut for a drive (X.wbfs and X.wbf1, X.part0.iso, X.iso.001 ...) become one again.\n"
    "Gaps that no file holds stay as PREGAP in the sheet. Tracks of different sector sizes are raised to 2352 bytes.",
    "  opifex merge 'Moth & Lantern.cue' --out merged/\n",
    &declare_merge,
    kOneWord,
    &run_merge};

extern const Command kSplit = {
    "split",
    "INPUT --out DIR [--by tracks | --limit SIZE]",
    "writes one bin for each track, with a new sheet; or cuts a file into parts that fit a drive",
    "--gaps own (the default): a track's file begins with its own pregap (INDEX 00). This is the custom of the known "
    "lists, so\n"
    "the hashes of the bins can be looked up there. --gaps previous: the pregap ends the file of the track before, as "
    "some\n"
    "burning programs have it. Both are the same disc.",
    "  opifex split merged/game.cue --out tracks/\n  opifex split game.cue --out tracks/ --gaps previous\n",
    &declare_split,
    kOneWord,
    &run_split};

}  // namespace opifex::cli
