/// Settings that more than one format or job reads.
#pragma once

#include "opifex/core/image/settings.hpp"

namespace opifex {

inline constexpr Setting kSectorSize{.name = "sector-size",
                                     .type = SettingType::number,
                                     .help = "an image without a sheet has sectors of N bytes (default: found out)",
                                     .value = "N",
                                     .range = {1, 65536},
                                     .unit = "bytes"};
inline constexpr Setting kMode{.name = "mode",
                               .type = SettingType::number,
                               .help = "mode of sectors without a header (default: found out)",
                               .value = "1|2",
                               .range = {1, 2}};
inline constexpr Setting kPick{
    .name = "pick",
    .type = SettingType::text,
    .help = "of an archive: only images whose path fits, like 'disc 1/*'; of a WBFS drive: the disc with this id",
    .value = "PATTERN",
    .details =
        "An input may be an archive: zip, 7z, RAR, tar, or a file packed with gz, xz, zst, bz2 or lz4; in parts, too. "
        "files "
        "and extract: the files in that image, not those of the archive."};
inline constexpr Setting kParent{.name = "parent",
                                 .type = SettingType::reads,
                                 .help =
                                     "the CHD that the input is the difference to (default: found beside it); with "
                                     "<to> chd also that of the output",
                                 .value = "FILE"};
inline constexpr Setting kTrack{.name = "track",
                                .type = SettingType::number,
                                .help = "which data track (default: the first)",
                                .value = "N",
                                .range = {1, 99}};
inline constexpr Setting kLabel{
    .name = "label", .type = SettingType::text, .help = "name of the volume (default: the folder's)", .value = "NAME"};
inline constexpr Setting kBootCode{
    .name = "boot",
    .type = SettingType::reads,
    .help = "of a floppy: none (default), standard (it starts the system), or a file of your own code",
    .value = "FILE",
    .preset = "none"};
inline constexpr Setting kFixedDates{.name = "fixed-dates",
                                     .type = SettingType::date,
                                     .help = "one date for everything: the same files give the same bytes",
                                     .value = "YYYY-MM-DD",
                                     .implied = "2000-01-01"};
inline constexpr Setting kRebuild{.name = "rebuild", .help = "pack the files anew, without the gaps between them"};
inline constexpr Setting kMinimal{.name = "minimal", .help = "end with the last file, not padded to 64 KiB"};

}  // namespace opifex
