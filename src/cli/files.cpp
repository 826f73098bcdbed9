#include "opifex/core/jobs/files.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

void run_files(Session& session) {
  Reporter reporter(session);
  reporter.set_view(session.settings().flag(jobs::kTree) ? report::FilesView::tree : report::FilesView::flat);
  run_job(session, jobs::FilesJob::of(session.words(), session.settings()), reporter);
}

void run_extract_command(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::ExtractFilesJob::of(session.words(), session.settings()), reporter);
}

}  // namespace

extern const Command kFiles = {
    "files",
    "IMAGE... [PATH]",
    "lists the files inside images: size, date, place, attributes",
    "PATH is a folder, a file or a pattern: * and ? within a name, ** over folders; case does not matter. ISO 9660 "
    "with\n"
    "Joliet, Rock Ridge and XA, UDF, 3DO, GameCube, Xbox and (with --key-file) Wii discs and Xbox 360 packages are "
    "read,\n"
    "in whatever format the image is. IMAGE may be a folder of images. Addresses are LBAs of the disc. A word that is\n"
    "both, a file here and a path in the first image, is taken as the path.",
    "  opifex files 'Moth & Lantern.cue'\n  opifex files game.chd 'DATA/*.BIN' --json\n",
    &jobs::files_settings,
    kSomeWords,
    &run_files};

extern const Command kExtract = {
    "extract",
    "IMAGE... [PATH...] --into DIR",
    "writes the files inside images to a folder",
    "Without PATH everything is written. Dates are kept. Files that are there already with the same size and date are\n"
    "left alone, so a stopped job goes on where it was. Names that no drive can have get _ in place of what is wrong.\n"
    "IMAGE may be a folder of images: of several each gets a folder of its own. A word that is both, a file here and "
    "a\n"
    "path in the first image, is taken as the path.",
    "  opifex extract 'Moth & Lantern.cue' --into moth/\n  opifex extract game.chd '**/*.TXT' --into texts/ --check\n",
    &jobs::extract_settings,
    kSomeWords,
    &run_extract_command};

}  // namespace opifex::cli
