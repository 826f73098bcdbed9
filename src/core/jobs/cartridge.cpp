#include "opifex/core/jobs/cartridge.hpp"

#include "opifex/core/dump/reader_source.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/jobs/save.hpp"
#include "opifex/core/jobs/settings.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

DumpCartridgeJob DumpCartridgeJob::of(const std::string& source, const Settings& settings) {
  if (settings.text(kOut).empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "dump needs a path for the files",
                 .hint = "<out> PATH: a folder will do, the cartridge's title names them"});
  DumpCartridgeJob job{.source = source, .request = {}};
  dump::CartridgeRequest& request = job.request;
  request.out = settings.text(kOut);
  if (settings.has(rom::kSystem)) request.machine = rom::find_machine(settings.text(rom::kSystem));
  request.rom_bytes = settings.bytes(kRomSize);
  request.save_bytes = settings.bytes(kSaveSize);
  request.part = settings.choice<dump::CartridgePart>(kOnly);
  request.existing = settings.flag(kOverwrite) ? Existing::replace : Existing::keep;
  request.inputs = named_inputs({source}, settings, dump_settings());
  request.file_system = settings.text(kFileSystem);
  request.restart = settings.flag(kRestart);
  request.hashes = settings.list(kHashes);
  if (request.hashes == std::vector<std::string>{"none"}) request.hashes.clear();
  for (const std::string& name : request.hashes) Digest known(name);
  if (const auto time = settings.milliseconds(kSaveEvery)) request.save_every_ms = *time;
  job.plan_only = settings.flag(kPlan);
  job.record = settings.flag(kRecord);
  return job;
}

namespace {

/// Whatever happens, the cartridge is switched off at the end.
class SwitchedOff {
 public:
  explicit SwitchedOff(dump::CartridgeDump& dump) : dump_(dump) {}
  ~SwitchedOff() { dump_.leave(); }
  SwitchedOff(const SwitchedOff&) = delete;
  SwitchedOff& operator=(const SwitchedOff&) = delete;

 private:
  dump::CartridgeDump& dump_;
};

/// A save that is going to be replaced is kept: it may be all that is left of somebody's game.
void keep_save(const dump::CartridgePlan& plan) {
  if ((plan.save_bytes == 0 && !plan.save_shows_later) || !fs::exists(plan.save_file)) return;
  const SourcePtr old = open_file(plan.save_file);
  SaveHistory(plan.save_file, {})
      .store(read_up_to(*old, 0, static_cast<std::size_t>(old->size())), "before it was dumped again");
}

}  // namespace

Outcome run(const DumpCartridgeJob& job, Listener& listener, JobContext& context) {
  dump::ReaderSource source(job.source);
  dump::CartridgeRequest request = job.request;
  request.inputs.add(source.files());
  const InputFiles inputs = request.inputs;
  dump::CartridgeDump dump(std::move(request), source.link(), context.progress.stop);
  const SwitchedOff afterwards(dump);
  DumpedCartridge told{.source = job.source, .plan = dump.plan(), .inputs = inputs};
  told.existing = job.request.existing;
  if (job.record) {
    const std::string base = fs::path(dump.plan().rom_file).replace_extension().string();
    told.record_text = base + ".dump.txt";
    told.record_json = base + ".dump.json";
  }
  if (job.plan_only) {
    listener.result(told);
    dump.check_plan();  // the plan runs into the same walls as the job would
    return {};
  }
  dump.check_plan();
  if (job.record) refuse_existing({told.record_text, told.record_json}, inputs, told.existing);
  told.begins = true;
  listener.result(told);
  keep_save(dump.plan());
  const dump::CartridgeResult result = dump.run(context);
  told.begins = false;
  told.result = &result;
  listener.result(told);
  return {.good = result.verdict <= dump::CartridgeVerdict::agreed};
}

}  // namespace opifex::jobs
