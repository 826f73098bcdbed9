#include "opifex/core/jobs/identify.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_identify(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::IdentifyJob::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kIdentify = {
    "identify",
    "PATH...",
    "says what each file, folder, set or archive is: format, platform, serial, tracks, what is missing",
    "Everything is read from the contents; names only break ties. For a set name its .cue; a lone .bin, .iso or\n"
    ".vcd is named itself. Of a folder or drive comes a table of all games in it, with what is left over, double or\n"
    "missing. Times are minutes:seconds:frames, 75 frames a second; 00:02:00 is LBA 0.",
    "  opifex identify 'Moth & Lantern.cue'\n  opifex identify *.bin --json\n  opifex identify /media/usb "
    "--fs fat32\n",
    &jobs::identify_settings,
    kSomeWords,
    &run_identify};

}  // namespace opifex::cli
