#include "opifex/core/jobs/lists.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"
#include "user_folders.hpp"

namespace opifex::cli {
namespace {

void run_lists(Session& session) {
  Reporter reporter(session);
  const Settings& chosen = session.settings();
  if (chosen.has(jobs::kMake)) return run_job(session, jobs::MakeListJob::of(session.words(), chosen), reporter);
  if (chosen.has(jobs::kMissing)) {
    jobs::MissingJob job = jobs::MissingJob::of(session.words(), chosen);
    job.cache = list_cache_folder();
    return run_job(session, job, reporter);
  }
  jobs::ListsJob job = jobs::ListsJob::of(session.words(), chosen);
  job.cache = list_cache_folder();
  run_job(session, job, reporter);
}

}  // namespace

extern const Command kLists = {
    "lists",
    "[LIST...]",
    "what a known list holds, what a folder lacks of it, a list of what is there",
    "LIST is an XML datafile, the older form in parentheses, an SFV file, the output of md5sum, sha1sum or sha256sum, "
    "BSD\n"
    "lines, an archive of lists or a folder of them. Faults in a list are told with their lines; exit code 1 if there "
    "are\n"
    "any. --missing compares by content, whatever the files are called. --make writes the same bytes for the same "
    "content.",
    "  opifex lists palisade.dat\n  opifex lists palisade.dat --sets 'Moth*'\n"
    "  opifex lists palisade.dat --missing /media/discs\n  opifex lists --make /media/discs --out mine.dat\n",
    &jobs::lists_settings,
    kAnyWords,
    &run_lists};

}  // namespace opifex::cli
