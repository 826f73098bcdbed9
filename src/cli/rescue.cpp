#include "opifex/core/check/rescue.hpp"

#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/report/dump.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

void declare_rescue(po::options_description& options) {
  options.add_options()("to", po::value<std::string>()->value_name("FORMAT"),
                        "format to write (default: that of the first dump)")(
      "record", po::bool_switch(), "write a record of the rescue beside it, as text and as JSON");
  declare_write_options(options);
  declare_read_options(options);
}

const Format& target_format(const Session& session, const Image& image) {
  if (const std::string id = session.text("to"); !id.empty()) return writable_format(id);
  const bool bare = image.format->is_bare() && image.format->stored == Stored::sectors;
  return image.format->plan_write && !bare ? *image.format : usual_format(true);
}

SectorMapFile map_of(const RescueResult& rescued) {
  SectorMapFile map{{}, rescued.map, {}};
  // Nobody knows which samples of music it is.
  for (const StateRange& r : rescued.map.ranges())
    for (cd::Lba lba = r.first; lba < r.end && r.state == SectorState::audio_unsure; ++lba)
      map.suspect_bytes[lba] = {{0, cd::kRawBytes - 1}};
  return map;
}

void run_rescue(Session& session) {
  const auto start = std::chrono::steady_clock::now();
  if (session.text("out").empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "rescue needs --out PATH for the joined image",
                 .hint = "add --out"});
  const auto words = session.list("words");
  std::vector<RescueInput> inputs;
  for (const std::string& word : words) {
    Image image = one_image(session, word, open_options(session));
    auto map = find_sector_map(image);
    inputs.push_back({std::move(image), std::move(map)});
  }
  const Image first = inputs.front().image;
  const Format& target = target_format(session, first);
  const fs::path out = leading_output(first, target, session.text("out"));
  const std::vector<RescueInput> sources = inputs;
  const RescueResult rescued = plan_rescue(std::move(inputs), session.work());

  const ConvertRequest request{&target, out, {}, accepted_losses(session)};
  Conversion conversion = plan_conversion(rescued.image, request, session.work());
  conversion.warnings.insert(conversion.warnings.begin(), rescued.warnings.begin(), rescued.warnings.end());
  refuse_losses(conversion, rescued.image, target);
  WriteJob job = write_job(session, out.parent_path());
  for (const RescueInput& input : sources) job.inputs.add(input_paths(input.image));
  const std::string base = fs::path(out).replace_extension().string();
  std::vector<fs::path> companions = {base + ".opifex-map"};
  if (session.flag("record")) companions.insert(companions.end(), {base + ".rescue.txt", base + ".rescue.json"});
  refuse_existing(companions, job.inputs, job.existing);
  Proof proof;
  const bool changed = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                   [](const Loss& l) { return is_content_loss(l.kind); });
  const Inspect how = changed ? Inspect::readable : session.flag("prove") ? Inspect::prove : Inspect::layout;
  job.inspect = inspection_of(rescued.image, request, conversion.plan, how, proof, session.work());
  const bool unsure = rescued.count(RescueHow::unsure) + rescued.count(RescueHow::conflict) > 0;
  if (!rescued.complete() || unsure) job.texts[base + ".opifex-map"] = print(map_of(rescued));
  report::JobResult done;
  done.planned_only = session.flag("plan");
  std::string text;
  if (done.planned_only) {
    for (const PlannedOutput& o : conversion.plan.outputs) done.outputs.push_back({o.path, o.size_bytes, ""});
    text = report::plan_text(rescued.image, target.title, conversion, job.target);
  } else {
    done.outputs = write_outputs(rescued.image, conversion.plan, job, session.work());
    done.proof_sha1 = proof.sha1;
    done.proof_compared = proof.compared;
    text = report::job_text(conversion, done);
  }
  done.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  report::Json json = report::job_json(rescued.image, conversion, done);
  report::add_rescue(json, rescued, words);
  text += report::rescue_text(rescued, words);
  session.result(json, text);
  if (!rescued.complete() || unsure) session.bad_news();
  if (done.planned_only) return;
  if (rescued.complete() && !unsure) remove_old_map(base + ".opifex-map");
  if (!session.flag("record")) return;
  write_whole_file(base + ".rescue.txt", printable_lines(text), job.existing, job.inputs);
  write_whole_file(base + ".rescue.json", report::dump(report::record("rescue", json)), job.existing, job.inputs);
}

}  // namespace

extern const Command kRescue = {
    "rescue",
    "DUMP DUMP... --out PATH",
    "makes one good image of several imperfect dumps of the same disc",
    "Dumps of several copies will do, if they are of one pressing. A data sector is taken where its checksums prove "
    "it,\n"
    "mended by its own error correction, or put together from all dumps until its checksum fits; music by agreement. "
    "The\n"
    "map of damaged sectors that opifex dump left beside an image is used. Nothing is written over a dump.",
    "  opifex rescue first/game.cue second/game.cue --out joined/\n"
    "  opifex rescue a.iso b.iso c.iso --out game.iso --record\n",
    &declare_rescue,
    kSomeWords,
    &run_rescue};

}  // namespace opifex::cli
