#include <fmt/format.h>

#include "opifex/core/stage/naming.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

void declare(po::options_description& options) {
  options.add_options()("limit", po::value<std::size_t>()->value_name("N"),
                        "shorten so that no name is longer than N characters")("plan", po::bool_switch(),
                                                                               "only say what would be renamed");
}

void run(Session& session) {
  const auto words = session.list("words");
  std::optional<std::size_t> limit;
  if (session.options().count("limit") != 0) limit = session.options()["limit"].as<std::size_t>();
  const RenamePlan plan = plan_rename(words[0], words[1], limit);
  const bool planned_only = session.flag("plan");
  if (!planned_only) run_rename(plan);
  session.result(report::rename_json(plan),
                 report::rename_text(plan, planned_only ? report::RenameState::planned : report::RenameState::done));
}

}  // namespace

extern const Command kRename = {
    "rename",
    "SET NEW-NAME",
    "renames a whole set: sheet, bins and sidecars together, FILE lines rewritten",
    "SET is the .cue (or a lone image). NEW-NAME has no extension; \"(Track N)\" and extensions are kept. Files of the "
    "same stem\n"
    "beside the set (covers, notes) are renamed too. If a step fails, everything is as it was.",
    "  opifex rename dump.cue 'Moth & Lantern'\n  opifex rename dump.cue 'Moth & Lantern' --limit 31 --plan\n",
    &declare,
    2,
    &run};

}  // namespace opifex::cli
