#include "opifex/core/jobs/rename.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/rename_by.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"
#include "user_folders.hpp"

namespace opifex::cli {
namespace {

[[noreturn]] void wrong_words(std::string what, const char* hint) {
  throw Error({.fault = Fault::usage, .code = "usage", .what = std::move(what), .hint = hint});
}

void rename_by_list(Session& session, Reporter& reporter) {
  if (session.words().empty()) wrong_words("nothing is named to be renamed", "name a folder, or images");
  jobs::RenameByJob job = jobs::RenameByJob::of(session.words(), session.settings());
  job.cache = list_cache_folder();
  run_job(session, job, reporter);
}

void run_rename_command(Session& session) {
  Reporter reporter(session);
  const Settings& chosen = session.settings();
  if (chosen.has(jobs::kUndo)) {
    if (!session.words().empty() || chosen.has(jobs::kByList))
      wrong_words("--undo takes a file, and nothing beside it", "opifex rename --undo FILE");
    return run_job(session, jobs::UndoRenameJob{chosen.text(jobs::kUndo), chosen.flag(jobs::kPlan)}, reporter);
  }
  if (chosen.has(jobs::kByList)) return rename_by_list(session, reporter);
  if (const std::size_t count = session.words().size(); count != 2)
    wrong_words(fmt::format("rename takes SET NEW-NAME, not {}", plural(count, "word")),
                "opifex rename PATH... --by LIST takes any number");
  run_job(session, jobs::RenameJob::of(session.words(), chosen), reporter);
}

}  // namespace

extern const Command kRename = {
    "rename",
    "SET NEW-NAME | PATH... --by LIST",
    "renames whole sets: sheet, bins and sidecars together, the names in the sheet rewritten; or all by known lists",
    "SET is the .cue (or a lone image). NEW-NAME has no extension; \"(Track N)\" and extensions are kept. Files of "
    "the\n"
    "same stem beside the set (covers, notes) are renamed too. If a step fails, everything is as it was. --by: what "
    "is\n"
    "complete by the list's hashes gets its names; --plan shows all of them first. A file is left with which --undo "
    "takes\n"
    "it all back.",
    "  opifex rename dump.cue 'Moth & Lantern'\n  opifex rename dump.cue 'Moth & Lantern' --limit 31 --plan\n"
    "  opifex rename /media/discs --by palisade.dat --plan\n"
    "  opifex rename --undo /media/discs/opifex-renamed-20260105T180000Z.json\n",
    &jobs::rename_settings,
    kAnyWords,
    &run_rename_command};

}  // namespace opifex::cli
