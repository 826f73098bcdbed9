#include "opifex/core/jobs/convert.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

template <typename Job>
void run_writing(Session& session) {
  Reporter reporter(session);
  run_job(session, Job::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kConvert = {
    "convert",
    "INPUT... --to FORMAT [--out PATH]",
    "writes images in another format, and says first what would be lost",
    "Without --out the output lies beside the input under its own name. Game content (music, streamed video, odd\n"
    "sectors) is lost only with --accept; filler is only reported. Output appears whole under its name or not at all.\n"
    "INPUT may be a folder, a drive or an archive: all images in it are planned before the first byte is written, and\n"
    "--plan shows them as a table. --skip-existing goes on with a batch that was stopped.",
    "  opifex convert 'Moth & Lantern.cue' --to vcd\n"
    "  opifex convert 'Moth & Lantern.cue' --to iso --plan\n"
    "  opifex convert discs/ --to chd --out packed/\n"
    "  opifex convert 'Kestrel Circuit (Disc 2).bin' --to cue --out sheets/\n",
    &jobs::convert_settings,
    kSomeWords,
    &run_writing<jobs::ConvertJob>};

extern const Command kMerge = {
    "merge",
    "INPUT... --out PATH",
    "joins the bins of a set into one, with a new sheet",
    "The parts of a file that was cut for a drive (X.wbfs and X.wbf1, X.part0.iso, X.iso.001 ...) become one again.\n"
    "Gaps that no file holds stay as PREGAP in the sheet. Tracks of different sector sizes are raised to 2352 bytes.",
    "  opifex merge 'Moth & Lantern.cue' --out merged/\n",
    &jobs::merge_settings,
    kSomeWords,
    &run_writing<jobs::MergeJob>};

extern const Command kSplit = {
    "split",
    "INPUT... --out DIR [--by tracks | --limit SIZE]",
    "writes one bin for each track, with a new sheet; or cuts a file into parts that fit a drive",
    "--gaps own (the default): a track's file begins with its own pregap (INDEX 00). This is the custom of the known\n"
    "lists, so the hashes of the bins can be looked up there. --gaps previous: the pregap ends the file of the track\n"
    "before, as some burning programs have it. Both are the same disc.",
    "  opifex split merged/game.cue --out tracks/\n  opifex split game.cue --out tracks/ --gaps previous\n",
    &jobs::split_settings,
    kSomeWords,
    &run_writing<jobs::SplitJob>};

}  // namespace opifex::cli
