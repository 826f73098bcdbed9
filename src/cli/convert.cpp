#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

void declare(po::options_description& options) {
  options.add_options()("to", po::value<std::string>()->value_name("FORMAT"),
                        "what to write: opifex formats lists them")("track", po::value<int>()->value_name("N"),
                                                                    "for iso: which data track (default: the first)")(
      "gaps", po::value<std::string>()->value_name("WHERE"),
      "for cue-tracks: own (default) or previous, see opifex help split")(
      "codecs", po::value<std::string>()->value_name("NAME,..."),
      "for chd: codecs to try on each hunk (default: cdlz,cdzl,cdfl for CDs, lzma,zlib,huff,flac for the rest)")(
      "hunk-size", po::value<std::string>()->value_name("SIZE"), "for chd: bytes of a hunk (default: 19584, 4096)")(
      "effort", po::value<std::string>()->value_name("LEVEL"),
      "for chd: fast, normal (default) or best: time spent on getting smaller");
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

GapCustom gaps(const Session& session) {
  const std::string word = session.text("gaps");
  if (word.empty() || word == "own") return GapCustom::own;
  if (word != "previous") unknown_word("place for pregaps", word, {"own", "previous"});
  return GapCustom::previous;
}

Effort effort(const Session& session) {
  const std::string word = session.text("effort");
  if (word == "fast") return Effort::fast;
  if (word == "best") return Effort::best;
  if (!word.empty() && word != "normal") unknown_word("effort", word, {"fast", "normal", "best"});
  return Effort::normal;
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
  if (target.id == "chd") options.parent = session.text("parent");
  return options;
}

void run(Session& session) {
  const Format& target = writable_format(session.text("to"));
  const WriteOptions options = write_options(session, target);
  const Inputs inputs = inputs_of(session, one_word(session), open_options(session));
  const std::string out = session.text("out");
  if (inputs.images.size() > 1 && !out.empty() && !out.ends_with('/') && !fs::is_directory(out))
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = fmt::format("the archive holds {} images, and --out names one file", inputs.images.size()),
                 .file = one_word(session),
                 .hint = "name a folder, ending in /, or choose one image with --pick"});
  for (const Input& input : inputs.images) {
    const Image image = open_input(session, input);
    run_conversion(session, image, {&target, leading_output(image, target, out), options});
  }
}

void require_out(const Session& session, const char* what) {
  if (session.text("out").empty())
    throw Error({.fault = Fault::usage, .code = "usage", .what = what, .hint = "add --out"});
}

/// A plan that only cuts or joins files, carried out or shown.
void run_file_plan(Session& session, const fs::path& input, const WritePlan& plan) {
  const auto start = std::chrono::steady_clock::now();
  Image source;
  source.path = input;
  source.format = find_format("iso");
  Conversion conversion;
  conversion.plan = plan;
  const WriteJob job = write_job(session, plan.outputs.front().path.parent_path());
  report::JobResult done;
  done.planned_only = session.flag("plan");
  if (done.planned_only) {
    std::vector<PlannedFile> files;
    std::vector<fs::path> targets;
    for (const PlannedOutput& o : plan.outputs) {
      done.outputs.push_back({o.path, o.size_bytes, ""});
      files.push_back({o.path, o.size_bytes});
      targets.push_back(o.path);
    }
    refuse_existing(targets, {input}, job.existing);
    check_fits(files, job.target);
  } else {
    done.outputs = write_outputs(source, plan, job, session.work());
  }
  done.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  std::string text = report::job_text(conversion, done);
  if (done.planned_only) {
    text = fmt::format("{}\n", plan.steps.front());
    for (const PlannedOutput& o : plan.outputs)
      text += fmt::format("  {}  {}\n", printable(o.path.string()), human_size(o.size_bytes));
  }
  session.result(report::job_json(source, conversion, done), text);
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
  run_file_plan(session, part, plan_join(part, target));
}

void run_merge(Session& session) {
  require_out(session, "merge needs --out PATH for the new set");
  if (is_in_parts(one_word(session))) return join_parts(session, one_word(session));
  const Image image = one_image(session, one_word(session), open_options(session));
  const Format& target = writable_format("cue");
  run_conversion(session, image, {&target, leading_output(image, target, session.text("out")), {}});
}

void run_split(Session& session) {
  require_out(session, "split needs --out DIR for the new set");
  if (const std::string limit = session.text("limit"); !limit.empty()) {
    const auto bytes = limit == "fat32" ? std::optional(kFat32Part) : parse_size(limit);
    if (!bytes)
      throw Error(
          {.fault = Fault::usage, .code = "usage", .what = "--limit takes fat32 or a size, not " + printable(limit)});
    return run_file_plan(session, one_word(session), plan_split(one_word(session), session.text("out"), *bytes));
  }
  if (session.text("by") != "tracks") unknown_word("way to split", session.text("by"), {"tracks"});
  const Image image = one_image(session, one_word(session), open_options(session));
  const Format& target = writable_format("cue-tracks");
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

std::set<std::string> accepted_losses(const Session& session) {
  std::set<std::string> accepted;
  const auto& known = content_loss_kinds();
  for (const std::string& kind : comma_list(session.text("accept"))) {
    if (std::find(known.begin(), known.end(), kind) == known.end()) unknown_word("loss", kind, known);
    accepted.insert(kind);
  }
  return accepted;
}

void declare_read_options(po::options_description& options) {
  options.add_options()("sector-size", po::value<std::size_t>()->value_name("N"),
                        "an image without a sheet has sectors of N bytes (default: found out)")(
      "mode", po::value<int>()->value_name("1|2"), "mode of sectors without a header (default: found out)")(
      "parent", po::value<std::string>()->value_name("FILE"),
      "the CHD that the input is the difference to (default: found beside it); with --to chd also that of the output")(
      "key-file", po::value<std::string>()->value_name("FILE"),
      "your keys (TOML): an encrypted PS3 disc is read decrypted")(
      "pick", po::value<std::string>()->value_name("PATTERN"),
      "if the input is an archive: only images in it whose path fits, like 'disc 1/*'");
}

OpenOptions open_options(const Session& session) {
  OpenOptions options;
  if (session.options().count("sector-size") != 0)
    options.sector_bytes = session.options()["sector-size"].as<std::size_t>();
  options.pick = session.text("pick");
  if (const std::string parent = session.text("parent"); !parent.empty()) options.parents.emplace_back(parent);
  if (session.options().count("mode") != 0) options.mode = session.options()["mode"].as<int>();
  if (options.mode && *options.mode != 1 && *options.mode != 2)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "--mode is 1 or 2"});
  return options;
}

void declare_write_options(po::options_description& options) {
  options.add_options()("out", po::value<std::string>()->value_name("PATH"), "output file, leading .cue, or folder")(
      "accept", po::value<std::string>()->value_name("LOSS,..."),
      "agree to lose: audio, tracks, form2, subchannel, raw-headers, sessions")(
      "plan", po::bool_switch(), "say what would be done and lost; write nothing")("overwrite", po::bool_switch(),
                                                                                   "replace existing files")(
      "prove", po::bool_switch(), "read the output back and compare every sector with the input")(
      "sha1", po::bool_switch(), "print the SHA-1 of each output")(
      "fs", po::value<std::string>()->value_name("TYPE"),
      "rules of the target drive: fat32, exfat, ntfs, ext4 (default: found out)");
}

WriteJob write_job(const Session& session, const fs::path& folder) {
  WriteJob job;
  job.existing = session.flag("overwrite") ? Existing::replace : Existing::keep;
  job.hash_outputs = session.flag("sha1");
  job.target = target_facts(folder);
  if (const std::string type = session.text("fs"); !type.empty()) job.target = with_file_system(job.target, type);
  return job;
}

std::vector<std::string> comma_list(const std::string& text) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at <= text.size() && !text.empty();) {
    const std::size_t end = std::min(text.find(',', at), text.size());
    const std::string word(trim(std::string_view(text).substr(at, end - at)));
    if (!word.empty()) words.push_back(word);
    at = end + 1;
  }
  return words;
}

fs::path leading_output(const Image& image, const Format& target, const std::string& out) {
  const fs::path extension(std::string(target.extensions.front()));
  if (out.empty()) return default_output(image, target, {});
  const fs::path path(out);
  const fs::path inside = path / (output_stem(image) + extension.string());
  if (out.ends_with('/') || fs::is_directory(path)) return inside;
  const bool set = target.extensions.front() == ".cue";  // a sheet and its bins
  if (!set) return path;
  const std::string own = fold_case(path.extension().string());
  if (own == extension) return path;
  if (own == ".bin" || own == ".img") return fs::path(path).replace_extension(extension);
  return inside;
}

void run_conversion(Session& session, const Image& image, const ConversionJob& job) {
  const auto start = std::chrono::steady_clock::now();
  const ConvertRequest request{job.target, job.out, job.options, accepted_losses(session)};
  const WriteJob write = write_job(session, job.out.parent_path());
  Conversion conversion = plan_conversion(image, request, session.work());
  conversion.warnings.insert(conversion.warnings.begin(), image.warnings.begin(), image.warnings.end());
  report::JobResult done;
  const auto finish = [&](const std::string& text) {
    done.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    session.result(report::job_json(image, conversion, done), text);
  };
  if (session.flag("plan")) {
    done.planned_only = true;
    for (const PlannedOutput& o : conversion.plan.outputs) done.outputs.push_back({o.path, o.size_bytes, ""});
    finish(report::plan_text(image, *job.target, conversion, write.target));
    // The plan runs into the same walls as the job would.
    std::vector<PlannedFile> files;
    std::vector<fs::path> targets;
    for (const PlannedOutput& o : conversion.plan.outputs) {
      files.push_back({o.path, o.size_bytes});
      targets.push_back(o.path);
    }
    refuse_losses(conversion, image, *job.target);
    refuse_existing(targets, input_paths(image), write.existing);
    return check_fits(files, write.target);
  }
  refuse_losses(conversion, image, *job.target);
  done.outputs = write_outputs(image, conversion.plan, write, session.work());
  const bool changed = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                   [](const Loss& l) { return is_content_loss(l.kind); });
  if (session.flag("prove") && changed)
    session.message("opifex: --prove is left out: with accepted losses input and output differ\n");
  if (session.flag("prove") && !changed) done.proof_sha1 = prove_same(image, open_image(job.out), session.work());
  finish(report::job_text(conversion, done));
}

extern const Command kConvert = {
    "convert",
    "INPUT --to FORMAT [--out PATH]",
    "writes an image in another format, and says first what would be lost",
    "Without --out the output lies beside the input under its own name. Game content (music, streamed video, odd "
    "sectors)\n"
    "is lost only with --accept; filler is only reported. Output appears whole under its name or not at all.",
    "  opifex convert 'Moth & Lantern.cue' --to vcd\n"
    "  opifex convert 'Moth & Lantern.cue' --to iso --plan\n"
    "  opifex convert 'Kestrel Circuit (Disc 2).bin' --to cue --out sheets/\n",
    &declare,
    1,
    &run};

extern const Command kMerge = {
    "merge",
    "INPUT --out PATH",
    "joins the bins of a set into one, with a new sheet",
    "The parts of a file that was cut for a drive (X.wbfs and X.wbf1, X.part0.iso, X.iso.001 ...) become one again.\n"
    "Gaps that no file holds stay as PREGAP in the sheet. Tracks of different sector sizes are raised to 2352 bytes.",
    "  opifex merge 'Moth & Lantern.cue' --out merged/\n",
    &declare_merge,
    1,
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
    1,
    &run_split};

}  // namespace opifex::cli
