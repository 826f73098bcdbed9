#include "opifex/core/jobs/save.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_save(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::SaveJob::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kSave = {
    "save",
    "check|compare|store|history|restore|convert|write ...",
    "save memory: checked, compared, every version kept, and written back to its cartridge",
    "check SAVE: its size, and whether anything is in it, held against the ROM beside it. "
    "compare SAVE OTHER. store SAVE\n"
    "keeps this version in SAVE.history, under its date and hash; history SAVE lists them; "
    "restore SAVE brings one back,\n"
    "and keeps what it replaces. convert SAVE --out NEW: size, byte order, lane, clock. write "
    "SOURCE SAVE: the cartridge's old\n"
    "save is read twice and kept first, the change is shown, and what was written is read "
    "back. ROMs are never written.",
    "  opifex save check moth.sav\n"
    "  opifex save store moth.sav\n"
    "  opifex save restore moth.sav --version 2\n"
    "  opifex save convert moth.sav --save-size 8KiB --out fits.sav\n"
    "  opifex save write /dev/ttyUSB0 moth.sav --plan\n"
    "  opifex save write /dev/ttyUSB0 moth.sav --accept overwrite-save\n",
    &jobs::save_settings,
    kSomeWords,
    &run_save};

}  // namespace opifex::cli
