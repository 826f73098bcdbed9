#include "opifex/core/jobs/dump.hpp"

#include "opifex/core/dump/reader_source.hpp"
#include "opifex/core/jobs/cartridge.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"
#include "user_folders.hpp"

namespace opifex::cli {
namespace {

void run_dump(Session& session) {
  Reporter reporter(session);
  const std::string& source = session.words().front();
  if (dump::is_reader(source)) {
    jobs::DumpCartridgeJob job = jobs::DumpCartridgeJob::of(source, session.settings());
    if (!job.against.empty()) job.cache = list_cache_folder();
    return run_job(session, job, reporter);
  }
  jobs::DumpJob job = jobs::DumpJob::of(source, session.settings());
  if (!job.against.empty()) job.cache = list_cache_folder();
  run_job(session, job, reporter);
}

}  // namespace

extern const Command kDump = {
    "dump",
    "SOURCE --out PATH",
    "reads a disc or a cartridge into an image, and proves what it read",
    "SOURCE is a drive (/dev/sr0), a block device, an image of 2048-byte blocks, a mounted disc's folder (its files "
    "are\n"
    "copied and compared), or sim:FILE.toml, a simulated drive. Data sectors are verified as they come; music is read\n"
    "twice and compared. Damaged spots are tried again, slower each round. Ctrl-C, a crash or a power cut lose a few\n"
    "seconds: the same command goes on. Sectors that stay lost are filled with 55h (music: silence), listed, and the\n"
    "exit code is 1.\n"
    "A serial port (/dev/ttyUSB0) or a simulated reader's file is a cartridge reader: the header first, then the ROM "
    "at "
    "its\n"
    "size and the save, each twice and compared. Without a header that can be read: --system and --size.",
    "  opifex dump /dev/sr0 --out dumps/ --plan\n"
    "  opifex dump /dev/sr0 --out dumps/ --record --report dumps/report\n"
    "  opifex dump /dev/sr0 --out 'Moth & Lantern.cue' --offset 6 --give-up-after 30min\n"
    "  opifex dump /dev/sr0 --out dumps/ --next\n"
    "  opifex dump /dev/ttyUSB0 --out cartridges/ --plan\n",
    &jobs::dump_settings,
    kOneWord,
    &run_dump};

}  // namespace opifex::cli
