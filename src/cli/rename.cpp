#include "opifex/core/jobs/rename.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_rename_command(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::RenameJob::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kRename = {
    "rename",
    "SET NEW-NAME",
    "renames a whole set: sheet, bins and sidecars together, the names in the sheet rewritten",
    "SET is the .cue (or a lone image). NEW-NAME has no extension; \"(Track N)\" and extensions are kept. Files of "
    "the\n"
    "same stem beside the set (covers, notes) are renamed too. If a step fails, everything is as it was.",
    "  opifex rename dump.cue 'Moth & Lantern'\n  opifex rename dump.cue 'Moth & Lantern' --limit 31 --plan\n",
    &jobs::rename_settings,
    kTwoWords,
    &run_rename_command};

}  // namespace opifex::cli
