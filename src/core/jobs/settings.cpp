#include "opifex/core/jobs/settings.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/convert/patch.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/image/loss.hpp"
#include "opifex/core/io/target.hpp"
#include "opifex/core/jobs/build.hpp"
#include "opifex/core/jobs/job.hpp"

#include "setting_lists.hpp"

namespace opifex::jobs {
namespace {

using enum SettingType;

std::vector<std::string> writable_ids() {
  std::vector<std::string> ids;
  for (const Format* f : formats())
    if (f->plan_write) ids.emplace_back(f->id);
  return ids;
}

std::vector<std::string> hash_words() {
  std::vector<std::string> words = digest_names();
  words.emplace_back("none");
  return words;
}

}  // namespace

extern const Setting kOut{
    .name = "out", .type = writes, .help = "output file, leading .cue, or folder", .value = "PATH"};
extern const Setting kInto{.name = "into", .type = writes, .help = "the folder to write to", .value = "DIR"};
extern const Setting kTo{.name = "to",
                         .type = choice,
                         .help = "what to write: <job formats> lists them",
                         .value = "FORMAT",
                         .words = &writable_ids};
extern const Setting kToOrFolder{.name = "to",
                                 .type = choice,
                                 .help = "what to write: <job formats> lists them; or folder: the files inside",
                                 .value = "FORMAT",
                                 .words = [] {
                                   std::vector<std::string> words = writable_ids();
                                   words.emplace_back(kFolderWord);
                                   return words;
                                 }};
extern const Setting kAccept{.name = "accept",
                             .type = choices,
                             .help =
                                 "agree to lose: audio, tracks, form2, subchannel, raw-headers, sessions, "
                                 "partitions",
                             .value = "LOSS,...",
                             .words = [] { return content_loss_kinds(); }};
extern const Setting kPlan{.name = "plan", .help = "say what would be done and lost; write nothing"};
extern const Setting kOverwrite{.name = "overwrite", .help = "replace existing files"};
extern const Setting kProve{
    .name = "prove",
    .help = "read the output back and compare every sector with the input",
    .details =
        "Before it gets its name: tracks, gaps, marks, texts and every sector, or every byte of a disc "
        "of blocks. build: every file is compared with the folder. dump: the image with what came from "
        "the disc. What was compared is said."};
extern const Setting kStrict{
    .name = "strict",
    .help = "write nothing if the input turns out to be damaged",
    .details =
        "Without it the output is written as far as the input can be read, the damage is told, and "
        "the exit code is 1."};
extern const Setting kSha1{.name = "sha1", .help = "print the SHA-1 of each output"};
extern const Setting kFileSystem{.name = "fs",
                                 .type = choice,
                                 .help =
                                     "rules of the target drive: fat32, exfat, ntfs, ext4, fatx (default: found "
                                     "out)",
                                 .value = "TYPE",
                                 .words = [] { return target_file_systems(); }};
extern const Setting kKeyFile{
    .name = "key-file",
    .type = reads,
    .help = "your keys (TOML): encrypted PS3 discs and Wii partitions are read decrypted",
    .value = "FILE",
    .details =
        "A file of 16 bytes or of 32 hexadecimal digits; a folder of such files, named after the title "
        "id, the serial or the image (those that may fit are tried and proved); or TOML, each key of 32 "
        "hexadecimal digits: a table [disc-keys] of title ids, for encrypted PS3 discs, and a table "
        "[common-keys] with the lines wii and wii-korean: the partitions of Wii discs can be listed, "
        "extracted, verified and scrubbed. A key is proved before anything is written, and never "
        "shown. dump: decrypts while reading."};
extern const Setting kTitles{
    .name = "titles",
    .type = reads,
    .help = "your own list (CSV: id,title) names what has only an id",
    .value = "FILE",
    .details =
        "A line of id,title each. Outputs of installed games are named by their title, never by the "
        "hexadecimal name of their file."};
extern const Setting kHashes{.name = "hashes",
                             .type = choices,
                             .help = "crc32, md5, sha1, sha256, sha512 ..., or none",
                             .value = "LIST",
                             .preset = "crc32,md5,sha1",
                             .words = &hash_words};
extern const Setting kSameAs{.name = "same-as",
                             .type = reads,
                             .help = "only compare the content with another image or with a folder",
                             .value = "OTHER"};
extern const Setting kAgainst{
    .name = "against",
    .type = reads,
    .help = "known lists, or a folder of them: is it known, under which name, what is missing; may be repeated",
    .value = "LIST",
    .details =
        "XML datafiles, the older form in parentheses, SFV, the lists of md5sum, sha1sum and sha256sum, BSD lines; "
        "packed, too. Compared by content: the name of a file decides nothing. Of a container what it holds is "
        "compared, of a disc each track and all of them together.",
    .repeats = true};
extern const Setting kSets{.name = "sets",
                           .type = text,
                           .help = "show the sets whose names fit, with their entries: 'Moth*'",
                           .value = "PATTERN"};
extern const Setting kMissing{
    .name = "missing", .type = reads, .help = "what this folder lacks of the lists, by content", .value = "FOLDER"};
extern const Setting kMake{
    .name = "make", .type = reads, .help = "write a list of the images in this folder to <out>", .value = "FOLDER"};
extern const Setting kTitle{
    .name = "title", .type = text, .help = "what a new list is called (default: as its folder)", .value = "TEXT"};
extern const Setting kRepair{.name = "repair", .help = "write a copy with everything mended that can be; needs <out>"};
extern const Setting kTree{.name = "tree", .help = "folders indented instead of whole paths"};
extern const Setting kReadBack{.name = "check", .help = "read every file back and compare it with the image"};
extern const Setting kForm2{.name = "form2",
                            .type = choice,
                            .help =
                                "streamed files of CD-ROM XA: raw (default, sectors of 2352 bytes) or payload "
                                "(2324)",
                            .value = "HOW",
                            .preset = "raw",
                            .words = [] {
                              return std::vector<std::string>{"raw", "payload"};
                            }};
extern const Setting kScrub{
    .name = "scrub",
    .help = "for GameCube and Wii discs: leave out what no file uses (Wii: needs <key-file>)",
    .details =
        "Zeros for what no file and no table uses, named as the loss scrubbed; into wbfs, blocks that hold "
        "anything used stay whole. Never done by itself: some games read what no table names."};
extern const Setting kKeep{.name = "keep",
                           .type = choice,
                           .help = "for Wii discs: partitions to keep, all (default) or game",
                           .value = "WHICH",
                           .preset = "all",
                           .words = [] {
                             return std::vector<std::string>{"all", "game"};
                           }};
extern const Setting kLimit{
    .name = "limit",
    .type = size,
    .help = "write parts of at most SIZE, or fat32: what that takes",
    .value = "SIZE",
    .range = {1, INT64_MAX},
    .details = "NAME.wbfs, NAME.wbf1 ..., NAME.part0.iso ..., NAME.EXT.001 ...: merge joins them."};
extern const Setting kLimitSplit{.name = "limit",
                                 .type = size,
                                 .help = "cut one big file into parts of at most SIZE, or fat32: what that takes",
                                 .value = "SIZE",
                                 .range = {1, INT64_MAX}};
extern const Setting kBy{
    .name = "by", .type = choice, .help = "tracks", .value = "WHAT", .preset = "tracks", .words = [] {
      return std::vector<std::string>{"tracks"};
    }};
extern const Setting kSkipExisting{
    .name = "skip-existing",
    .help = "leave out what is there already and, read back, proves to be the same: a stopped batch goes on"};
extern const Setting kRecordFile{
    .name = "record",
    .type = writes,
    .help = "write a record: inputs and outputs with hashes, what they hold, losses and who accepted them",
    .value = "FILE",
    .details = "A check by the record proves later that nothing has changed. Both sides are read once more for it."};
extern const Setting kCheckRecord{
    .name = "record",
    .type = reads,
    .help =
        "is everything as this record has it? Further records may follow, and folders where files may have moved to",
    .value = "FILE",
    .details = "With <repair>: write a record of that job.",
    .repeats = true};
extern const Setting kByList{
    .name = "by",
    .type = reads,
    .help =
        "give every set that this known list, or a folder of them, knows whole the names it has there; may be repeated",
    .value = "LIST",
    .details =
        "By content. Sheets are rewritten, files of the same stem beside them go along, archives get the name of the "
        "set in them. Containers keep their ending.",
    .repeats = true};
extern const Setting kUndo{.name = "undo",
                           .type = reads,
                           .help = "take back what a renaming by a list has done, by the file it has left",
                           .value = "FILE"};
extern const Setting kNameLimit{.name = "limit",
                                .type = number,
                                .help = "shorten so that no name is longer than N characters",
                                .value = "N",
                                .range = {1, 255},
                                .unit = "characters"};
extern const Setting kRecord{.name = "record", .help = "write a record of the job beside it, as text and as JSON"};
extern const Setting kPasses{.name = "passes",
                             .type = number,
                             .help = "rounds over damaged sectors, slower and slower",
                             .value = "N",
                             .preset = "8",
                             .range = {0, 1000}};
extern const Setting kGiveUpAfter{.name = "give-up-after",
                                  .type = duration,
                                  .help = "stop trying damaged sectors after this time: 90s, 20min, 2h",
                                  .value = "TIME"};
extern const Setting kSpeed{
    .name = "speed", .type = number, .help = "read at most X times as fast as 1x", .value = "X", .range = {1, 300}};
extern const Setting kOffset{.name = "offset",
                             .type = number,
                             .help = "read offset of the drive, to be corrected in music",
                             .value = "SAMPLES",
                             .range = {-5000, 5000},
                             .unit = "samples",
                             .details = "The true sample is SAMPLES later in what the drive delivers."};
extern const Setting kSubchannel{.name = "subchannel",
                                 .help = "keep the subchannel of every sector, in a .sub file",
                                 .details = "96 bytes a sector, packed P to W."};
extern const Setting kReport{.name = "report",
                             .type = writes,
                             .help = "a page with tables and figures, and its data, into DIR",
                             .value = "DIR",
                             .details = "DIR is new or empty, or has an older report, which <overwrite> replaces."};
extern const Setting kRestart{.name = "restart", .help = "throw an unfinished dump away and begin anew"};
extern const Setting kNext{.name = "next", .help = "go on with the next disc until stopped; names come from the discs"};
extern const Setting kDiscs{
    .name = "discs", .type = number, .help = "with <next>: stop after N discs", .value = "N", .range = {1, 1'000'000}};
extern const Setting kOnly{.name = "only",
                           .type = choice,
                           .help = "of a cartridge: both (default), rom or save",
                           .value = "WHAT",
                           .preset = "both",
                           .words = [] {
                             return std::vector<std::string>{"both", "rom", "save"};
                           }};
extern const Setting kRomSize{.name = "size",
                              .type = size,
                              .help = "of a cartridge: its ROM has SIZE, whatever its header says",
                              .value = "SIZE",
                              .range = {512, 64 << 20}};
extern const Setting kCharacterSize{.name = "chr-size",
                                    .type = size,
                                    .help = "of an NES cartridge: its character ROM has SIZE; 0: it has RAM",
                                    .value = "SIZE",
                                    .range = {0, 32 << 20}};
extern const Setting kMapper{.name = "mapper",
                             .type = text,
                             .help = "of a cartridge: what switches its banks: a number (NES), mbc5, lorom ...",
                             .value = "NAME"};
extern const Setting kMirroring{.name = "mirroring",
                                .type = choice,
                                .help = "of an NES cartridge: horizontal (default), vertical or four-screen",
                                .value = "KIND",
                                .preset = "horizontal",
                                .words = [] {
                                  return std::vector<std::string>{"horizontal", "vertical", "four-screen"};
                                }};
extern const Setting kSaveSize{.name = "save-size",
                               .type = size,
                               .help = "of a cartridge: it keeps SIZE of saves, where its header does not tell",
                               .value = "SIZE",
                               .range = {1, 1 << 20}};
extern const Setting kAmong{.name = "among",
                            .type = reads,
                            .help = "look for the file that the patch is for in FOLDER, by its checksum",
                            .value = "FOLDER"};
extern const Setting kPatchKind{
    .name = "to",
    .type = choice,
    .help = "kind of the patch: bps, ups or ips (default: by the ending of <out>, else bps)",
    .value = "KIND",
    .words = &patch_kinds};
extern const Setting kText{
    .name = "text", .type = text, .help = "replace OLD by NEW, of one length", .value = "OLD=NEW"};
extern const Setting kHex{.name = "hex", .type = text, .help = "the same in hexadecimal digits", .value = "OLD=NEW"};
extern const Setting kCount{.name = "count",
                            .type = number,
                            .help = "how often it has to stand there",
                            .value = "N",
                            .preset = "1",
                            .range = {1, 1'000'000}};
extern const Setting kGame{
    .name = "game", .type = reads, .help = "the ROM that the save is of (default: the one beside it)", .value = "ROM"};
extern const Setting kHistory{.name = "history",
                              .type = writes,
                              .help = "keep the versions in DIR (default: SAVE.history beside the save)",
                              .value = "DIR"};
extern const Setting kVersion{.name = "version",
                              .type = number,
                              .help = "of restore: which one (default: the newest that differs)",
                              .value = "N",
                              .range = {1, 1'000'000}};
extern const Setting kFill{.name = "fill",
                           .type = choice,
                           .help = "what a save that gets longer is filled with: ff (default) or 00",
                           .value = "BYTE",
                           .preset = "ff",
                           .words = [] {
                             return std::vector<std::string>{"ff", "00"};
                           }};
extern const Setting kSwap{
    .name = "swap", .type = choice, .help = "reverse the bytes in each group of 2, 4 or 8", .value = "N", .words = [] {
      return std::vector<std::string>{"2", "4", "8"};
    }};
extern const Setting kLane{.name = "lane",
                           .type = choice,
                           .help = "of a Mega Drive save: its bytes alone (one), or in the odd or even ones of words",
                           .value = "LANE",
                           .words = [] {
                             return std::vector<std::string>{"one", "odd", "even"};
                           }};
extern const Setting kDropClock{.name = "drop-clock", .help = "leave out the registers of a clock behind the save"};
extern const Setting kAcceptSave{.name = "accept",
                                 .type = choices,
                                 .help = "overwrite-save: the cartridge's save may be written over",
                                 .value = "WORD",
                                 .words = [] { return std::vector<std::string>{"overwrite-save"}; }};
extern const Setting kSaveEvery{.name = "save-every",
                                .type = duration,
                                .help = "how often the state for resuming is saved",
                                .value = "TIME",
                                .preset = "5s"};
extern const Setting kAt{.name = "at", .type = text, .help = "the folder in the image", .value = "DIR"};
extern const Setting kName{
    .name = "name", .type = text, .help = "what the one file that is put is called there", .value = "NAME"};
extern const Setting kPut{
    .name = "put", .type = reads, .help = "put a file or a folder into it", .value = "FILE", .repeats = true};
extern const Setting kDrop{
    .name = "drop", .type = text, .help = "take a file or an empty folder off", .value = "PATH", .repeats = true};
extern const Setting kWithAll{.name = "with-all", .help = "folders go with all that is in them"};
extern const Setting kFolder{.name = "folder", .type = text, .help = "make a folder", .value = "PATH", .repeats = true};
extern const Setting kMove{.name = "move",
                           .type = text,
                           .help = "move a file or a folder, or give it another name",
                           .value = "PATH=NEW",
                           .repeats = true};
extern const Setting kComment{.name = "comment",
                              .type = text,
                              .help = "of a floppy: the comment of a file",
                              .value = "PATH=TEXT",
                              .repeats = true};
extern const Setting kProtect{
    .name = "protect",
    .type = text,
    .help = "of a floppy: the bits of a file, the letters hsparwed or - each",
    .value = "PATH=BITS",
    .details = "h s p a where they are set; r w e d where they allow something; - for what is not.",
    .repeats = true};
extern const Setting kUndelete{.name = "undelete",
                               .type = text,
                               .help = "of a memory card: bring a deleted save back, by its name or its entry",
                               .value = "NAME",
                               .repeats = true};
extern const Setting kBytes{.name = "bytes",
                            .type = text,
                            .help = "of a memory card: PATH@OFFSET:OLD=NEW, bytes of one length in a save",
                            .value = "CHANGE",
                            .details = "OLD and NEW in hexadecimal digits; all changes of a call or none.",
                            .repeats = true};
extern const Setting kCard{
    .name = "card", .type = number, .help = "which card, where a file holds several", .value = "N", .range = {1, 16}};
extern const Setting kKeepOld{.name = "keep-old",
                              .type = choice,
                              .help = "keep the former version: yes (default for memory cards) or no",
                              .value = "WORD",
                              .words =
                                  [] {
                                    return std::vector<std::string>{"yes", "no"};
                                  },
                              .implied = "yes",
                              .details = "In NAME.history beside the image; save history and save restore know it."};
extern const Setting kDamaged{.name = "damaged",
                              .help = "write files that cannot be read whole, too: zeros stand for what is missing"};
extern const Setting kSavesAs{.name = "saves",
                              .type = choice,
                              .help = "of a PS1 card: single (default, with name and entry) or bare blocks",
                              .value = "FORM",
                              .preset = "single",
                              .words = [] {
                                return std::vector<std::string>{"single", "bare"};
                              }};
extern const Setting kGames{.name = "games",
                            .type = reads,
                            .help = "say which save is of which game of FOLDER, by the code of the game",
                            .value = "FOLDER"};

SettingList joined(std::initializer_list<SettingList> lists) {
  SettingList all;
  for (const SettingList& list : lists)
    for (const Setting* s : list)
      if (!find_setting(all, s->name)) all.push_back(s);
  return all;
}

namespace {

/// Of all formats that can be written: one line for each name.
SettingList format_settings() {
  SettingList all;
  for (const Format* f : formats())
    if (f->plan_write) all.insert(all.end(), f->settings.begin(), f->settings.end());
  return joined({all});
}

SettingList settings_of(const Format& format) { return {format.settings.begin(), format.settings.end()}; }

}  // namespace

const SettingList& format_read_settings() {
  static const SettingList list = [] {
    SettingList all;
    for (const Format* f : formats()) all.insert(all.end(), f->read_settings.begin(), f->read_settings.end());
    return joined({all});
  }();
  return list;
}

const SettingList& read_settings() {
  static const SettingList list = joined({format_read_settings(), {&kKeyFile, &kPick}});
  return list;
}

const SettingList& write_settings() {
  static const SettingList list = {&kOut, &kAccept, &kPlan, &kOverwrite, &kProve, &kStrict, &kSha1, &kFileSystem};
  return list;
}

const SettingList& identify_settings() {
  static const SettingList list = joined({{&kTitles, &kReport, &kOverwrite, &kFileSystem}, read_settings()});
  return list;
}

const SettingList& check_settings() {
  static const SettingList list =
      joined({{&kAgainst, &kHashes, &kSameAs, &kCheckRecord, &kRepair, &kOut, &kReport, &kOverwrite, &kFileSystem},
              read_settings()});
  return list;
}

const SettingList& lists_settings() {
  static const SettingList list =
      joined({{&kSets, &kMissing, &kMake, &kOut, &kTitle, &kRecordFile, &kReport, &kPlan, &kOverwrite, &kFileSystem},
              read_settings()});
  return list;
}

const SettingList& convert_settings() {
  static const SettingList list = joined({{&kToOrFolder},
                                          format_settings(),
                                          {&kScrub, &kKeep, &kLimit, &kTitles, &kSkipExisting, &kRecordFile, &kReport},
                                          write_settings(),
                                          read_settings()});
  return list;
}

const SettingList& merge_settings() {
  static const SettingList list = joined({{&kSkipExisting, &kRecordFile, &kReport}, write_settings(), read_settings()});
  return list;
}

const SettingList& split_settings() {
  static const SettingList list = joined({{&kBy},
                                          settings_of(sheet_format(Stored::tracks)),
                                          {&kLimitSplit, &kSkipExisting, &kRecordFile, &kReport},
                                          write_settings(),
                                          read_settings()});
  return list;
}

const SettingList& files_settings() {
  static const SettingList list = joined({{&kTree, &kGames, &kReport, &kOverwrite}, read_settings()});
  return list;
}

const SettingList& extract_settings() {
  static const SettingList list = joined({{&kInto, &kReadBack, &kForm2, &kSavesAs, &kDamaged, &kRecordFile, &kReport,
                                           &kStrict, &kPlan, &kOverwrite, &kFileSystem},
                                          read_settings()});
  return list;
}

const SettingList& build_settings() {
  static const SettingList list = [] {
    SettingList all = {&as_setting(), &kOut};
    for (const Builder& builder : builders()) all.insert(all.end(), builder.settings.begin(), builder.settings.end());
    return joined({all, {&kProve, &kRecordFile, &kPlan, &kOverwrite, &kSha1, &kFileSystem}});
  }();
  return list;
}

const SettingList& rename_settings() {
  static const SettingList list =
      joined({{&kByList, &kUndo, &kNameLimit, &kRecordFile, &kPlan, &kFileSystem}, read_settings()});
  return list;
}

const SettingList& rescue_settings() {
  static const SettingList list = joined({{&kTo, &kRecord, &kReport}, write_settings(), read_settings()});
  return list;
}

const SettingList& patch_settings() {
  static const SettingList list = {&kOut,   &kAmong,      &kPatchKind, &kText,     &kHex,
                                   &kCount, &kRecordFile, &kPlan,      &kOverwrite};
  return list;
}

const SettingList& save_settings() {
  static const SettingList list = {&kGame, &kHistory,   &kVersion,    &kOut,         &kSaveSize,   &kFill, &kSwap,
                                   &kLane, &kDropClock, &kAcceptSave, &rom::kSystem, &kRecordFile, &kPlan};
  return list;
}

const SettingList& edit_settings() {
  static const SettingList list = {&kAt,      &kName,    &kPut,        &kDrop,      &kWithAll,  &kFolder, &kMove,
                                   &kLabel,   &kComment, &kProtect,    &kBootCode,  &kUndelete, &kBytes,  &kCard,
                                   &kKeepOld, &kHistory, &kRecordFile, &kOverwrite, &kPlan};
  return list;
}

PatchKind patch_kind(const Settings& settings) {
  const std::vector<std::string> kinds = patch_kinds();
  std::string kind = settings.text(kPatchKind);
  const std::string ending = std::filesystem::path(settings.text(kOut)).extension().string();
  if (kind.empty() && ending.size() > 1) kind = ending.substr(1);
  const auto at = std::find(kinds.begin(), kinds.end(), kind);
  return at == kinds.end() ? PatchKind::bps : static_cast<PatchKind>(at - kinds.begin());
}

const SettingList& dump_settings() {
  static const SettingList list = {&kOut,      &kTo,         &kPlan,          &kPasses,      &kGiveUpAfter, &kSpeed,
                                   &kOffset,   &kSubchannel, &kKeyFile,       &kHashes,      &kAgainst,     &kRecord,
                                   &kReport,   &kAccept,     &kOverwrite,     &kProve,       &kRestart,     &kNext,
                                   &kDiscs,    &kFileSystem, &kSaveEvery,     &rom::kSystem, &kOnly,        &kRomSize,
                                   &kSaveSize, &kMapper,     &kCharacterSize, &kMirroring};
  return list;
}

std::vector<const Format*> formats_with(const Setting& setting) {
  std::vector<const Format*> with;
  for (const Format* f : formats())
    if (f->plan_write && find_setting(f->settings, setting.name)) with.push_back(f);
  return with;
}

const Format& writable_format(const std::string& id) {
  const Format* format = find_format(id);
  if (id.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "no format to write is named",
                 .hint = fmt::format("<to> one of {}", fmt::join(writable_ids(), ", "))});
  if (!format || !format->plan_write) unknown_word("format to write", id, writable_ids());
  return *format;
}

}  // namespace opifex::jobs
