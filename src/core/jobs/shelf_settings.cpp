// What the user chooses of a shelf.
#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/shelf/shelf.hpp"

#include "setting_lists.hpp"

namespace opifex::jobs {
namespace {

using enum SettingType;

}  // namespace

extern const Setting kShelfAt{
    .name = "at",
    .type = text,
    .help = "which shelf: a file, or postgresql://USER@HOST/NAME (default: your own)",
    .value = "SHELF",
    .details =
        "On a server several computers and people share one shelf. The password belongs into ~/.pgpass, never "
        "on the command line, where everybody can read it."};
extern const Setting kShelfComputer{
    .name = "computer",
    .type = text,
    .help = "only items of the computer NAME; of add: this computer is called NAME",
    .value = "NAME",
    .details =
        "Default of add: the name of this computer. Whoever reaches the same drive under the same path from two "
        "computers gives it one name."};
extern const Setting kShelfPlatform{
    .name = "platform", .type = text, .help = "only items of a platform: ps1, saturn, gamecube ...", .value = "ID"};
extern const Setting kShelfFormat{
    .name = "format", .type = text, .help = "only items in a format: cue, chd, iso ...", .value = "FORMAT"};
extern const Setting kShelfVerdict{
    .name = "verdict", .type = choice, .help = "only items with this verdict", .value = "VERDICT", .words = [] {
      return std::vector<std::string>{"intact", "repairable", "damaged", "incomplete", "unsupported", "unread"};
    }};
extern const Setting kShelfRegion{.name = "region", .type = text, .help = "only items of a region", .value = "REGION"};
extern const Setting kShelfKnown{.name = "known",
                                 .type = choice,
                                 .help =
                                     "only items that known lists know (yes), do not know (no), or were not asked for "
                                     "(unasked)",
                                 .value = "WHICH",
                                 .words = [] {
                                   return std::vector<std::string>{"yes", "no", "unasked"};
                                 }};
extern const Setting kIncompleteSets{.name = "incomplete-sets", .help = "only discs of sets of which one is missing"};
extern const Setting kNotCompressed{.name = "not-compressed",
                                    .help = "only items that are neither packed nor in an archive"};
extern const Setting kNotCheckedSince{.name = "not-checked-since",
                                      .type = date,
                                      .help = "only items that were last read before this day",
                                      .value = "DAY"};
extern const Setting kGone{.name = "gone", .help = "items whose files are no longer there"};
extern const Setting kMovedOnly{.name = "moved", .help = "forget: what was found again in another place"};
extern const Setting kBelow{
    .name = "below", .type = reads, .help = "only items in FOLDER and below it", .value = "FOLDER"};
extern const Setting kColumns{.name = "columns",
                              .type = choices,
                              .help = "what is shown of each item: item, title, platform, format, serial, stored ...",
                              .value = "LIST",
                              .words = [] { return shelf_columns(); }};
extern const Setting kSort{.name = "sort",
                           .type = text,
                           .help = "by which columns the list is sorted; -COLUMN: from the end",
                           .value = "LIST"};
extern const Setting kMostItems{
    .name = "most", .type = number, .help = "show at most N items", .value = "N", .range = {1, 1'000'000'000}};
extern const Setting kCsv{.name = "csv", .help = "the list as CSV, for a spreadsheet"};
extern const Setting kPattern{.name = "pattern",
                              .type = text,
                              .help = "rename: '{title}[ ({region})][ (Disc {disc})]'",
                              .value = "TEXT",
                              .details =
                                  "Fields: title, serial, region, disc, discs, set, known, name, item, platform. "
                                  "What stands in brackets is left out where a field in it is empty."};
extern const Setting kAgain{.name = "again", .help = "add: read everything anew, whether it has changed or not"};
extern const Setting kFor{.name = "for",
                          .type = duration,
                          .help = "verify: stop after TIME",
                          .value = "TIME",
                          .range = {1, 365LL * 24 * 3'600'000}};
extern const Setting kMostBytes{
    .name = "bytes", .type = size, .help = "verify: read at most SIZE", .value = "SIZE", .range = {1, INT64_MAX}};

const SettingList& shelf_settings() {
  static const SettingList list =
      joined({{&kShelfAt,        &kShelfComputer, &kAgainst,         &kByList,       &kPattern,     &kUndo,
               &kNameLimit,      &kShelfPlatform, &kShelfFormat,     &kShelfVerdict, &kShelfRegion, &kShelfKnown,
               &kIncompleteSets, &kNotCompressed, &kNotCheckedSince, &kGone,         &kMovedOnly,   &kBelow,
               &kColumns,        &kSort,          &kMostItems,       &kCsv,          &kAgain,       &kFor,
               &kMostBytes,      &kOut,           &kReport,          &kOverwrite,    &kPlan,        &kFileSystem},
              read_settings()});
  return list;
}

}  // namespace opifex::jobs
