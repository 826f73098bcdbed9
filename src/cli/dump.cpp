#include "opifex/report/dump.hpp"

#include <filesystem>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/folder_copy.hpp"
#include "opifex/report/figures.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

void declare_dump(po::options_description& options) {
  const auto text = [](const char* name) { return po::value<std::string>()->value_name(name); };
  const auto number = [](const char* name) { return po::value<unsigned>()->value_name(name); };
  options.add_options()("out", text("PATH"), "image, leading .cue, or folder to write to")(
      "to", text("FORMAT"), "format to write (default: cue for CDs, iso for other discs)")(
      "plan", po::bool_switch(), "say what lies in the drive and what would be written; read nothing more")(
      "passes", number("N")->default_value(8), "rounds over damaged sectors, slower and slower")(
      "give-up-after", text("TIME"), "stop trying damaged sectors after this time: 90s, 20min, 2h")(
      "speed", number("X"), "read at most X times as fast as 1x")("offset", po::value<int>()->value_name("SAMPLES"),
                                                                  "read offset of the drive, to be corrected in music")(
      "subchannel", po::bool_switch(), "keep the subchannel of every sector, in a .sub file")(
      "key-file", text("FILE"), "your keys: encrypted discs are decrypted while reading")(
      "hashes", text("NAME,...")->default_value("crc32,md5,sha1"), "hashes to take, or none")(
      "record", po::bool_switch(), "write a record of the dump beside it, as text and as JSON")(
      "report", text("DIR"), "draw sector map, speed and readings into DIR")(
      "accept", text("LOSS,..."), "agree to lose: audio, tracks, form2, subchannel, raw-headers, sessions")(
      "overwrite", po::bool_switch(), "replace existing files")(
      "prove", po::bool_switch(), "read the image again and compare it with what came from the disc")(
      "restart", po::bool_switch(), "throw an unfinished dump away and begin anew")(
      "next", po::bool_switch(), "go on with the next disc until stopped; names come from the discs")(
      "discs", number("N"), "with --next: stop after N discs")("fs", text("TYPE"),
                                                               "rules of the target drive: fat32, exfat, ntfs, ext4")(
      "save-every", text("TIME")->default_value("5s"), "how often the state for resuming is saved");
}

/// "90s", "20min", "2h", "0.5s" -> milliseconds
std::uint64_t parse_time(const char* option, const std::string& text) {
  std::size_t used = 0;
  double value = -1;
  try {
    value = std::stod(text, &used);
  } catch (const std::exception&) {  // reported below
  }
  const std::string unit = text.substr(std::min(used, text.size()));
  const double each = unit == "s" || unit.empty() ? 1e3
                      : unit == "ms"              ? 1
                      : unit == "min"             ? 6e4
                      : unit == "h"               ? 3.6e6
                                                  : 0;
  constexpr double kLongest = 1e12;
  if (!(value >= 0) || each == 0 || value * each > kLongest)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = fmt::format("--{} takes a time, not {}", option, printable(text)),
                 .hint = "90s, 20min or 2h"});
  return static_cast<std::uint64_t>(value * each);
}

dump::DumpRequest request_of(const Session& session, const std::string& source) {
  dump::DumpRequest request;
  const auto& options = session.options();
  request.source = source;
  request.out = session.text("out");
  if (const std::string id = session.text("to"); !id.empty()) request.format = &writable_format(id);
  request.accepted = accepted_losses(session);
  constexpr int kMostSamples = 5000;
  if (options.count("offset") != 0) request.offset = options["offset"].as<int>();
  if (std::abs(request.offset.value_or(0)) > kMostSamples)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "--offset is at most 5000 samples either way"});
  request.subchannel = session.flag("subchannel");
  if (options.count("speed") != 0) request.top_speed = std::min(options["speed"].as<unsigned>(), 300u);
  constexpr unsigned kMostPasses = 1000;
  request.passes = std::min(options["passes"].as<unsigned>(), kMostPasses);
  if (const std::string time = session.text("give-up-after"); !time.empty())
    request.give_up_after_ms = parse_time("give-up-after", time);
  request.save_every_ms = parse_time("save-every", session.text("save-every"));
  request.key_file = session.text("key-file");
  request.restart = session.flag("restart");
  request.prove = session.flag("prove");
  request.hashes = comma_list(session.text("hashes"));
  if (request.hashes == std::vector<std::string>{"none"}) request.hashes.clear();
  for (const std::string& name : request.hashes) Digest known(name);
  request.existing = session.flag("overwrite") ? Existing::replace : Existing::keep;
  request.inputs = session.inputs();
  request.file_system = session.text("fs");
  return request;
}

struct Companions {
  fs::path map, record_text, record_json, report;
};

Companions companions_of(const Session& session, const dump::DumpPlan& plan) {
  const std::string base = fs::path(plan.lead).replace_extension().string();
  Companions files{plan.map, {}, {}, session.text("report")};
  if (session.flag("record")) {
    files.record_text = base + ".dump.txt";
    files.record_json = base + ".dump.json";
  }
  return files;
}

/// Before a disc is read for an hour.
void refuse_companions(const Companions& files, const InputFiles& inputs, Existing existing) {
  std::vector<fs::path> targets = {files.map};
  if (!files.record_text.empty()) targets.insert(targets.end(), {files.record_text, files.record_json});
  if (!files.report.empty())
    for (fs::path& figure : report::dump_figures(files.report)) targets.push_back(std::move(figure));
  refuse_existing(targets, inputs, existing);
}

/// What stands beside the dump and in the report folder.
void write_companions(Session& session, const dump::Dump& job, const dump::DumpResult& result, const report::Json& json,
                      const std::string& text) {
  const dump::DumpPlan& plan = job.plan();
  const Companions files = companions_of(session, plan);
  const Existing existing = session.flag("overwrite") ? Existing::replace : Existing::keep;
  const InputFiles& inputs = job.inputs();
  if (result.verdict == dump::DumpVerdict::intact)
    remove_old_map(files.map);
  else
    session.message(
        fmt::format("the damaged sectors are listed in {}: opifex rescue uses it\n", printable(files.map.string())));
  if (!files.record_text.empty()) {
    write_whole_file(files.record_text, printable_lines(text), existing, inputs);
    write_whole_file(files.record_json, report::dump(report::record("dump", json)), existing, inputs);
  }
  if (!files.report.empty())
    for (const fs::path& figure : report::draw_dump(plan, result, {files.report, existing, inputs}))
      session.message(fmt::format("drew {}\n", printable(figure.string())));
}

void dump_one(Session& session, dump::Dump& job) {
  if (session.flag("plan")) {
    session.result(report::dump_json(job.plan(), nullptr), report::dump_plan_text(job.plan()));
    job.check_plan();  // the plan runs into the same walls as the job would
    return;
  }
  job.check_plan();
  refuse_companions(companions_of(session, job.plan()), job.inputs(),
                    session.flag("overwrite") ? Existing::replace : Existing::keep);
  session.message(report::dump_plan_text(job.plan(), report::DumpTense::now) + "\n");
  const dump::DumpResult result = job.run(session.work());
  const report::Json json = report::dump_json(job.plan(), &result);
  const std::string text = report::dump_text(job.plan(), result);
  session.result(json, text);
  write_companions(session, job, result, json, text);
  if (result.verdict != dump::DumpVerdict::intact) session.bad_news();
}

void copy_files(Session& session, const fs::path& source) {
  const fs::path into = session.text("out");
  const bool planned = session.flag("plan");
  const Existing existing = session.flag("overwrite") ? Existing::replace : Existing::keep;
  const dump::FolderCopy copy =
      planned ? dump::plan_folder_copy(source) : dump::copy_folder(source, into, existing, session.work());
  session.result(report::folder_copy_json(source, into, copy, planned),
                 report::folder_copy_text(source, into, copy, planned));
  if (!copy.complete()) session.bad_news();
}

void dump_discs(Session& session, const std::string& source) {
  const auto& stop = session.work().progress.stop;
  const auto transport = dump::open_drive(source);
  const unsigned most = session.options().count("discs") != 0 ? session.options()["discs"].as<unsigned>() : 0;
  for (unsigned done = 0; most == 0 || done < most; ++done) {
    session.message(fmt::format("waiting for disc {} in {}\n", done + 1, printable(source)));
    if (!dump::wait_for_disc(*transport, stop)) return;
    dump::DumpRequest request = request_of(session, source);
    request.name_by_serial = true;
    try {
      dump::Dump job(std::move(request), *transport);
      dump_one(session, job);
      dump::eject(*transport);
    } catch (const Error& e) {
      if (e.details.fault == Fault::interrupted || e.details.fault == Fault::usage || e.details.code == "no_space")
        throw;
      session.failed(e);  // this disc; the next one may do better
      dump::eject(*transport);
    }
  }
}

void run_dump(Session& session) {
  const std::string source = session.list("words").front();
  if (session.text("out").empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "dump needs --out PATH",
                 .hint = "a folder will do: the disc's title names the files"});
  const bool simulated = source.starts_with("sim:");
  if (!simulated && fs::is_directory(source)) return copy_files(session, source);
  if (session.flag("next")) return dump_discs(session, source);
  dump::Dump job(request_of(session, source));
  dump_one(session, job);
}

}  // namespace

extern const Command kDump = {
    "dump",
    "SOURCE --out PATH",
    "reads a disc into an image, and proves what it read",
    "SOURCE is a drive (/dev/sr0), a block device, an image of 2048-byte blocks, a mounted disc's folder (its files "
    "are\n"
    "copied and compared), or sim:FILE.toml, a simulated drive. Data sectors are verified as they come; music is read\n"
    "twice and compared. Damaged spots are tried again, slower each round. Ctrl-C, a crash or a power cut lose a few\n"
    "seconds: the same command goes on. Sectors that stay lost are filled with 55h (music: silence), listed, and the "
    "exit\n"
    "code is 1.",
    "  opifex dump /dev/sr0 --out dumps/ --plan\n"
    "  opifex dump /dev/sr0 --out dumps/ --record --report dumps/report\n"
    "  opifex dump /dev/sr0 --out 'Moth & Lantern.cue' --offset 6 --give-up-after 30min\n"
    "  opifex dump /dev/sr0 --out dumps/ --next\n",
    &declare_dump,
    kOneWord,
    &run_dump};

}  // namespace opifex::cli
