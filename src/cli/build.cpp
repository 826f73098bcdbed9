#include "opifex/core/jobs/build.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_build(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::BuildJob::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kBuild = {
    "build",
    "[FOLDER...] --as FORMAT [--out FILE]",
    "makes an image of a folder: a disc, a floppy, a memory card",
    "An ISO 9660 image with Joliet names; files of more than 4 GiB get several sections. Links and special files are\n"
    "left out, and named. With --fixed-dates the same files give the same bytes on every machine. xiso and god take\n"
    "the folder of an Xbox game, god with default.xex or default.xbe in it. gamecube-iso takes a folder that opifex\n"
    "extract made of a GameCube disc, and may have been changed; Wii discs are not made: they would have to be "
    "signed.\n"
    "A floppy (adf), a PS1 card and 3DO save memory are made of a folder, or without one: empty.",
    "  opifex build moth/ --as iso --out moth.iso --label MOTH\n  opifex build kestrel/ --as gamecube-iso\n  opifex "
    "build moth/ --as iso --fixed-dates --plan\n  opifex build tunes/ --as adf --kind ofs --boot standard\n  opifex "
    "build "
    "--as ps1-card --out card.mcr\n",
    &jobs::build_settings,
    kAnyWords,
    &run_build};

}  // namespace opifex::cli
