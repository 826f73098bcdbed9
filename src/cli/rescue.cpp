#include "opifex/core/jobs/rescue.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_rescue(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::RescueJob::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kRescue = {
    "rescue",
    "DUMP DUMP... --out PATH",
    "makes one good image of several imperfect dumps of the same disc",
    "Dumps of several copies will do, if they are of one pressing; a folder stands for all dumps in it. A data sector\n"
    "is taken where its checksums prove it, mended by its own error correction, or put together from all dumps until\n"
    "its checksum fits; music by agreement. The map of damaged sectors that opifex dump left beside an image is used.\n"
    "Nothing is written over a dump.",
    "  opifex rescue first/game.cue second/game.cue --out joined/\n"
    "  opifex rescue a.iso b.iso c.iso --out game.iso --record\n",
    &jobs::rescue_settings,
    kSomeWords,
    &run_rescue};

}  // namespace opifex::cli
