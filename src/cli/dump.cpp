#include "opifex/core/jobs/dump.hpp"

#include "opifex/core/jobs/settings.hpp"
#include "opifex/report/figures.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_dump(Session& session) {
  Reporter reporter(session);
  jobs::DumpJob job = jobs::DumpJob::of(session.words().front(), session.settings());
  if (!job.report.empty()) job.figures = report::dump_figures(job.report);
  run_job(session, job, reporter);
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
    "seconds: the same command goes on. Sectors that stay lost are filled with 55h (music: silence), listed, and the\n"
    "exit code is 1.",
    "  opifex dump /dev/sr0 --out dumps/ --plan\n"
    "  opifex dump /dev/sr0 --out dumps/ --record --report dumps/report\n"
    "  opifex dump /dev/sr0 --out 'Moth & Lantern.cue' --offset 6 --give-up-after 30min\n"
    "  opifex dump /dev/sr0 --out dumps/ --next\n",
    &jobs::dump_settings,
    kOneWord,
    &run_dump};

}  // namespace opifex::cli
