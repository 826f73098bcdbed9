#include "opifex/core/jobs/check.hpp"

#include "opifex/core/jobs/check_record.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"
#include "user_folders.hpp"

namespace opifex::cli {
namespace {

void run_images(Session& session, Reporter& reporter) {
  jobs::CheckJob job = jobs::CheckJob::of(session.words(), session.settings());
  // Whoever reads JSON may hold all of it against lists of their own.
  job.every_form = session.wants_json() && !job.options.hashes.empty();
  if (!job.against.empty()) job.cache = list_cache_folder();
  run_job(session, job, reporter);
}

void run_check(Session& session) {
  Reporter reporter(session);
  const Settings& chosen = session.settings();
  if (chosen.has(jobs::kCheckRecord) && !chosen.flag(jobs::kRepair))
    return run_job(session, jobs::CheckRecordJob::of(session.words(), chosen), reporter);
  if (session.words().empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "check needs INPUT...",
                 .hint = "name an image, a folder or an archive"});
  if (chosen.has(jobs::kSameAs))
    run_job(session, jobs::CompareJob::of(session.words(), chosen), reporter);
  else if (chosen.flag(jobs::kRepair))
    run_job(session, jobs::RepairJob::of(session.words(), chosen), reporter);
  else
    run_images(session, reporter);
}

}  // namespace

extern const Command kCheck = {
    "check",
    "INPUT... | --record FILE...",
    "verifies every sector and takes all hashes in one pass: intact? complete? known?",
    "Each data sector's sync, address, mode, EDC and ECC is verified, and the Q channel where it is stored. Damage is\n"
    "told as ranges with what can be repaired. Of a folder, a drive or an archive all images are checked, one line\n"
    "each. Exit code 1 if something is wrong. The hashes of a track are those its own bin would have. --repair: of "
    "several\n"
    "images, or of a folder, all are checked first, and the damaged ones are repaired into the folder named by --out.\n"
    "--against: each image, and in folders every other file, is held against known lists by content. --record: is all\n"
    "as a record of a job has it, and does the output still hold what the input held?",
    "  opifex check 'Moth & Lantern.cue'\n  opifex check /media/usb\n  opifex check game.bin --hashes sha256\n"
    "  opifex check game.cue --repair --out mended/\n  opifex check /media/discs --against palisade.dat\n"
    "  opifex check --record moth.json /media/discs\n",
    &jobs::check_settings,
    kAnyWords,
    &run_check};

}  // namespace opifex::cli
