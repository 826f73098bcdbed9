#include "opifex/core/jobs/shelf.hpp"

#include <unistd.h>

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"
#include "user_folders.hpp"

namespace opifex::cli {
namespace {

std::string computer_name() {
  std::array<char, 256> name{};
  if (::gethostname(name.data(), name.size() - 1) != 0) return "here";
  return name.data();
}

void run_shelf(Session& session) {
  Reporter reporter(session);
  const Settings& chosen = session.settings();
  jobs::ShelfJob job = jobs::ShelfJob::of(session.words(), chosen);
  if (job.as_csv && session.wants_json())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "a list is either CSV or JSON",
                 .hint = "leave one of them out"});
  if (job.at.empty()) job.at = shelf_file().string();
  if (job.at.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "there is no home folder for a shelf",
                 .hint = "add --at FILE"});
  job.host = chosen.has(jobs::kShelfComputer) ? chosen.text(jobs::kShelfComputer) : computer_name();
  job.cache = list_cache_folder();
  run_job(session, job, reporter);
}

}  // namespace

extern const Command kShelf = {
    "shelf",
    "add|list|find|show|duplicates|missing|sets|verify|moved|rename|forget|export|import|stats ...",
    "your collection: what there is, is it still intact, what is double, what is missing",
    "add FOLDER...: reads what is new or changed, and only that; without a folder all that were added before. list, "
    "find "
    "TEXT,\n"
    "show ITEM. duplicates: the same content in whatever format or trimming, and which copy is the best. missing "
    "--against\n"
    "LIST: by the hashes the shelf has. sets: games of several discs, with gaps. verify: what was not read for the "
    "longest "
    "time\n"
    "is read again, within --for TIME or --bytes SIZE, and held against what is recorded. moved: what is gone, and "
    "where it "
    "is\n"
    "now. rename --by LIST or --pattern TEXT: plan first with --plan; --undo FILE. forget: off the shelf; no file is "
    "touched.\n"
    "export --out FILE, import FILE: one JSON object a line. ITEM is a number of the shelf, or the path.",
    "  opifex shelf add /media/discs\n"
    "  opifex shelf list --platform ps1 --not-compressed\n"
    "  opifex shelf find moth\n"
    "  opifex shelf duplicates\n"
    "  opifex shelf missing --against palisade.dat\n"
    "  opifex shelf verify --for 2h\n"
    "  opifex shelf rename --pattern '{title}[ (Disc {disc})]' --plan\n",
    &jobs::shelf_settings,
    kSomeWords,
    &run_shelf};

}  // namespace opifex::cli
