/// The settings of jobs, beside those of formats.
#pragma once

#include "opifex/core/image/shared_settings.hpp"

namespace opifex {
enum class PatchKind;
}

namespace opifex::jobs {

/// In the place of a format: the files inside an image, as a folder.
inline constexpr std::string_view kFolderWord = "folder";

extern const Setting kOut, kInto, kTo, kToOrFolder, kAccept, kPlan, kOverwrite, kProve, kStrict, kSha1, kFileSystem;
extern const Setting kKeyFile, kTitles, kHashes, kSameAs, kRepair, kTree, kReadBack, kForm2;
extern const Setting kScrub, kKeep, kLimit, kLimitSplit, kBy, kSkipExisting;
extern const Setting kNameLimit;
extern const Setting kRecord, kPasses, kGiveUpAfter, kSpeed, kOffset, kSubchannel, kReport, kRestart, kNext, kDiscs,
    kSaveEvery, kOnly, kLane, kMapper, kCharacterSize, kMirroring, kRomSize, kSaveSize, kAmong, kPatchKind, kText, kHex,
    kCount, kGame, kHistory, kVersion, kFill, kSwap, kDropClock, kAcceptSave;
extern const Setting kAt, kName, kPut, kDrop, kWithAll, kFolder, kMove, kComment, kProtect, kUndelete, kBytes, kCard,
    kKeepOld, kDamaged, kSavesAs, kGames;
extern const Setting kAgainst, kSets, kMissing, kMake, kTitle;
extern const Setting kByList, kUndo;
extern const Setting kRecordFile, kCheckRecord;
extern const Setting kShelfAt, kShelfComputer, kShelfPlatform, kShelfFormat, kShelfVerdict, kShelfRegion, kShelfKnown,
    kIncompleteSets, kNotCompressed, kNotCheckedSince, kGone, kMovedOnly, kBelow, kColumns, kSort, kMostItems, kCsv,
    kPattern, kAgain, kFor, kMostBytes;

/// All settings of a job, in the order in which help shows them. Those of formats are among them where it writes one.
const SettingList& identify_settings();
const SettingList& check_settings();
const SettingList& lists_settings();
const SettingList& convert_settings();
const SettingList& merge_settings();
const SettingList& split_settings();
const SettingList& files_settings();
const SettingList& extract_settings();
const SettingList& build_settings();
const SettingList& rename_settings();
const SettingList& rescue_settings();
const SettingList& dump_settings();
const SettingList& patch_settings();
const SettingList& save_settings();
const SettingList& edit_settings();
const SettingList& shelf_settings();
/// As the user says it, else by the ending of the output, else BPS.
PatchKind patch_kind(const Settings& settings);

/// Several formats may have a setting of one name: which ones, for a line of help. Empty: it is the job's own.
std::vector<const Format*> formats_with(const Setting& setting);

/// A format that can be written. Error (usage) with the nearest right word.
const Format& writable_format(const std::string& id);

}  // namespace opifex::jobs
