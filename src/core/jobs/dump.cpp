#include "opifex/core/jobs/dump.hpp"

#include "opifex/core/base/hash.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "ask_lists.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

DumpJob DumpJob::of(const std::string& source, const Settings& settings) {
  if (settings.text(kOut).empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "dump needs a path for the image",
                 .hint = "<out> PATH: a folder will do, the disc's title names the files"});
  DumpJob job;
  dump::DumpRequest& request = job.request;
  request.source = source;
  request.out = settings.text(kOut);
  if (const std::string id = settings.text(kTo); !id.empty()) request.format = &writable_format(id);
  for (std::string& kind : settings.list(kAccept)) request.accepted.insert(std::move(kind));
  if (const auto samples = settings.number(kOffset)) request.offset = static_cast<int>(*samples);
  request.subchannel = settings.flag(kSubchannel);
  request.top_speed = static_cast<unsigned>(settings.number(kSpeed).value_or(0));
  request.passes = static_cast<unsigned>(settings.number(kPasses).value_or(0));
  if (const auto time = settings.milliseconds(kGiveUpAfter)) request.give_up_after_ms = *time;
  if (const auto time = settings.milliseconds(kSaveEvery)) request.save_every_ms = *time;
  request.key_file = settings.text(kKeyFile);
  request.restart = settings.flag(kRestart);
  request.prove = settings.flag(kProve);
  request.hashes = settings.list(kHashes);
  if (request.hashes == std::vector<std::string>{"none"}) request.hashes.clear();
  for (const std::string& name : request.hashes) Digest known(name);
  request.existing = settings.flag(kOverwrite) ? Existing::replace : Existing::keep;
  request.inputs = named_inputs({source}, settings, dump_settings());
  request.file_system = settings.text(kFileSystem);
  job.against = settings.all(kAgainst);
  job.plan_only = settings.flag(kPlan);
  job.record = settings.flag(kRecord);
  job.one_after_another = settings.flag(kNext);
  job.discs = static_cast<unsigned>(settings.number(kDiscs).value_or(0));
  return job;
}

namespace {

DumpCompanions companions_of(const DumpJob& job, const dump::DumpPlan& plan) {
  const std::string base = fs::path(plan.lead).replace_extension().string();
  DumpCompanions files{plan.map, {}, {}};
  if (job.record) {
    files.record_text = base + ".dump.txt";
    files.record_json = base + ".dump.json";
  }
  return files;
}

/// Before a disc is read for an hour.
void refuse_companions(const DumpJob& job, const DumpCompanions& files, const InputFiles& inputs) {
  std::vector<fs::path> targets = {files.map};
  if (!files.record_text.empty()) targets.insert(targets.end(), {files.record_text, files.record_json});
  refuse_existing(targets, inputs, job.request.existing);
}

/// True if the disc was read without a doubt.
bool dump_one(const DumpJob& job, const AskedLists& lists, dump::Dump& dump, Listener& listener, JobContext& context) {
  Dumped told{.plan = dump.plan(), .inputs = dump.inputs()};
  told.companions = companions_of(job, dump.plan());
  told.existing = job.request.existing;
  if (job.plan_only) {
    listener.result(told);
    dump.check_plan();  // the plan runs into the same walls as the job would
    return true;
  }
  dump.check_plan();
  refuse_companions(job, told.companions, dump.inputs());
  told.begins = true;
  listener.result(told);
  const dump::DumpResult result = dump.run(context);
  const bool intact = result.verdict == dump::DumpVerdict::intact;
  if (intact) remove_old_map(told.companions.map);
  told.begins = false;
  told.result = &result;
  std::vector<KnownAnswer> known;
  if (lists.any()) known = lists.ask(dump.plan().lead, context);
  told.known = lists.any() ? &known : nullptr;
  listener.result(told);
  return intact && (!lists.any() || is_known(known));
}

Outcome copy_files(const DumpJob& job, Listener& listener, JobContext& context) {
  if (!job.against.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "known lists know images, not the files of a folder",
                 .file = job.request.source,
                 .hint = "leave <against> out, or dump the drive itself"});
  const fs::path from = job.request.source, into = job.request.out;
  const dump::FolderCopy copy =
      job.plan_only ? dump::plan_folder_copy(from) : dump::copy_folder(from, into, job.request.existing, context);
  listener.result(CopiedFolder{from, into, copy, job.plan_only});
  return {.good = copy.complete()};
}

Outcome dump_discs(const DumpJob& job, const AskedLists& lists, Listener& listener, JobContext& context) {
  Outcome outcome;
  const auto transport = dump::open_drive(job.request.source);
  for (unsigned done = 0; job.discs == 0 || done < job.discs; ++done) {
    listener.message({"waiting", fmt::format("waiting for disc {} in {}", done + 1, job.request.source)});
    if (!dump::wait_for_disc(*transport, context.progress.stop)) return outcome;
    dump::DumpRequest request = job.request;
    request.name_by_serial = true;
    try {
      dump::Dump dump(std::move(request), *transport);
      if (!dump_one(job, lists, dump, listener, context)) outcome.good = false;
    } catch (const Error& e) {
      if (ends_all(e) || e.details.fault == Fault::usage || e.details.cause == Cause::no_space) throw;
      outcome.failures.push_back(e.details);
      listener.failed(e);  // this disc; the next one may do better
    }
    dump::eject(*transport);
  }
  return outcome;
}

}  // namespace

Outcome run(const DumpJob& job, Listener& listener, JobContext& context) {
  const bool simulated = job.request.source.starts_with("sim:");
  if (!simulated && fs::is_directory(job.request.source)) return copy_files(job, listener, context);
  // Before the disc spins for an hour.
  const AskedLists lists(job.against, job.cache, listener, context);
  if (job.one_after_another) return dump_discs(job, lists, listener, context);
  dump::Dump dump(job.request);
  return {.good = dump_one(job, lists, dump, listener, context)};
}

}  // namespace opifex::jobs
