#include "opifex/core/jobs/edit.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

template <jobs::EditVerb verb>
void run_edit(Session& session) {
  Reporter reporter(session);
  run_job(session, jobs::EditJob::of(session.words(), session.settings(), verb), reporter);
}

}  // namespace

extern const Command kPut = {
    "put",
    "IMAGE FILE... [--at DIR]",
    "puts files and folders into a floppy or onto a memory card",
    "All that is named is one change: with --drop files are taken off in the same call, first. Room and names are "
    "looked\n"
    "at for all of it before the first byte; --plan shows what it comes to. The image is replaced by a copy that was\n"
    "read back and checked; of a memory card the former version is kept (--keep-old). A folder goes in with its name;\n"
    "what extract wrote beside the files (comments, protection bits, names) goes in with them.\n"
    "PS1 cards take single saves, and bare blocks with --name; 3DO save memory takes any file.",
    "  opifex put 'Nine Bells Harbor.adf' tune.mod --at Music\n"
    "  opifex put card.mcr moth.single --drop BEPRXS-00102S01 --plan\n",
    &jobs::edit_settings,
    {2, kMany},
    &run_edit<jobs::EditVerb::put>};

extern const Command kDrop = {
    "drop",
    "IMAGE PATH...",
    "takes files off a floppy or a memory card",
    "Folders have to be empty, or go with --with-all. A save that is taken off a PS1 card can come back as long as no\n"
    "other takes its blocks: edit --undelete. The rest is as for put.",
    "  opifex drop 'Nine Bells Harbor.adf' Music/tune.mod\n  opifex drop card.mcr BEPRXS-00101S00\n",
    &jobs::edit_settings,
    {2, kMany},
    &run_edit<jobs::EditVerb::drop>};

extern const Command kEdit = {
    "edit",
    "IMAGE --move PATH=NEW ...",
    "folders, names, labels and comments of a floppy or a memory card",
    "One change of everything that is named, all or nothing, in this order: --undelete, --drop, --folder, --move, "
    "--put,\n"
    "--comment, --protect, --bytes, --label, --boot. Options may be given several times. The rest is as for put.",
    "  opifex edit disk.adf --folder Music --move tune.mod=Music/tune.mod --label 'Nine Bells'\n"
    "  opifex edit disk.adf --comment 'readme=for visitors' --protect readme=----r-e-\n"
    "  opifex edit card.mcr --undelete BEPRXS-00101S00\n"
    "  opifex edit card.mcr --bytes 'BEPRXS-00101S00@768:00000000=63000001' --plan\n",
    &jobs::edit_settings,
    kSomeWords,
    &run_edit<jobs::EditVerb::edit>};

}  // namespace opifex::cli
