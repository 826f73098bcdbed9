#include "opifex/core/jobs/shelf.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "shelf_parts.hpp"

namespace opifex::jobs {

namespace {

struct ActionFacts {
  ShelfAction action;
  const char* name;
  const char* words;  ///< for people
  std::size_t least, most;
};
constexpr std::size_t kAny = SIZE_MAX;
constexpr ActionFacts kActions[] = {{ShelfAction::add, "add", "[FOLDER...]", 0, kAny},
                                    {ShelfAction::list, "list", "", 0, 0},
                                    {ShelfAction::show, "show", "ITEM...", 1, kAny},
                                    {ShelfAction::find, "find", "TEXT...", 1, kAny},
                                    {ShelfAction::duplicates, "duplicates", "", 0, 0},
                                    {ShelfAction::missing, "missing", "<against> LIST", 0, 0},
                                    {ShelfAction::sets, "sets", "", 0, 0},
                                    {ShelfAction::rename, "rename", "[ITEM...] <pattern> TEXT", 0, kAny},
                                    {ShelfAction::verify, "verify", "[ITEM...]", 0, kAny},
                                    {ShelfAction::moved, "moved", "", 0, 0},
                                    {ShelfAction::forget, "forget", "[ITEM...]", 0, kAny},
                                    {ShelfAction::write_lines, "export", "<out> FILE", 0, 0},
                                    {ShelfAction::read_lines, "import", "FILE...", 1, kAny},
                                    {ShelfAction::stats, "stats", "", 0, 0}};

const ActionFacts& action_named(const std::string& word) {
  const auto* const at =
      std::find_if(std::begin(kActions), std::end(kActions), [&](const ActionFacts& a) { return word == a.name; });
  if (at != std::end(kActions)) return *at;
  std::vector<std::string> known;
  for (const ActionFacts& a : kActions) known.emplace_back(a.name);
  unknown_word("action of shelf", word, known);
}

ShelfFilter filter_of(const Settings& settings) {
  ShelfFilter filter;
  filter.platform = settings.text(kShelfPlatform);
  filter.format = settings.text(kShelfFormat);
  filter.verdict = settings.text(kShelfVerdict);
  filter.region = settings.text(kShelfRegion);
  filter.host = settings.text(kShelfComputer);
  if (settings.has(kShelfKnown)) {
    const std::string known = settings.text(kShelfKnown);
    filter.known = known == "yes"  ? ShelfFilter::Known::yes
                   : known == "no" ? ShelfFilter::Known::no
                                   : ShelfFilter::Known::unasked;
  }
  filter.incomplete_sets = settings.flag(kIncompleteSets);
  filter.not_compressed = settings.flag(kNotCompressed);
  if (settings.flag(kGone)) filter.gone = ShelfFilter::Gone::yes;
  filter.not_checked_since = settings.day(kNotCheckedSince);
  if (settings.has(kBelow)) filter.below = place_named(settings.text(kBelow));
  filter.sort = settings.list(kSort);
  filter.limit = static_cast<std::uint64_t>(settings.number(kMostItems).value_or(0));
  return filter;
}

}  // namespace

ShelfJob ShelfJob::of(const std::vector<std::string>& words, const Settings& settings) {
  const ActionFacts& action = action_named(words.front());
  const std::size_t count = words.size() - 1;
  if (count < action.least || count > action.most)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = fmt::format("shelf {} takes other words", action.name),
                 .hint = fmt::format("<job shelf> {} {}", action.name, action.words)});
  ShelfJob job{.action = action.action, .words = {words.begin() + 1, words.end()}};
  job.at = settings.text(kShelfAt);
  job.reading = ReadRules::of(settings);
  job.reading.opening.allow_missing = true;
  job.filter = filter_of(settings);
  job.columns = settings.list(kColumns);
  for (const std::string& column : job.columns)
    if (const auto& known = shelf_columns(); std::find(known.begin(), known.end(), column) == known.end())
      unknown_word("column", column, known);
  job.as_csv = settings.flag(kCsv);
  job.against = settings.all(kAgainst);
  job.by = settings.all(kByList);
  job.pattern = settings.text(kPattern);
  job.undo = settings.text(kUndo);
  job.out = settings.text(kOut);
  job.file_system = settings.text(kFileSystem);
  if (const auto limit = settings.number(kNameLimit)) job.name_limit = static_cast<std::size_t>(*limit);
  job.most_milliseconds = settings.milliseconds(kFor);
  job.most_bytes = settings.bytes(kMostBytes);
  job.gone_only = settings.flag(kGone);
  job.moved_only = settings.flag(kMovedOnly);
  job.again = settings.flag(kAgain);
  job.plan_only = settings.flag(kPlan);
  job.existing = settings.flag(kOverwrite) ? Existing::replace : Existing::keep;
  return job;
}

Outcome run(const ShelfJob& job, Listener& listener, JobContext& context) {
  switch (job.action) {
    case ShelfAction::add:
      return add_to_shelf(job, listener, context);
    case ShelfAction::verify:
      return verify_shelf(job, listener, context);
    case ShelfAction::missing:
      return missing_on_shelf(job, listener, context);
    case ShelfAction::rename:
      return rename_on_shelf(job, listener, context);
    case ShelfAction::forget:
      return forget_on_shelf(job, listener);
    case ShelfAction::write_lines:
      return write_shelf(job, listener);
    case ShelfAction::read_lines:
      return read_shelf(job, listener);
    default:
      return ask_shelf(job, listener);
  }
}

}  // namespace opifex::jobs
