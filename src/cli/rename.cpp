#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/journal.hpp"
#include "opifex/core/stage/naming.hpp"
#include "opifex/report/text.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

void declare_rename(po::options_description& options) {
  options.add_options()("limit", po::value<std::size_t>()->value_name("N"),
                        "shorten so that no name is longer than N characters")("plan", po::bool_switch(),
                                                                               "only say what would be renamed");
}

void run_rename(Session& session) {
  const auto words = session.list("words");
  std::optional<std::size_t> limit;
  if (session.options().count("limit") != 0) limit = session.options()["limit"].as<std::size_t>();
  const bool planned_only = session.flag("plan");
  const std::filesystem::path set = words[0];
  if (!planned_only) {
    // What an interrupted renaming left half done may be the very job that is asked for.
    const auto finished = finish_interrupted(set.parent_path());
    if (!finished.empty() && !std::filesystem::exists(set)) {
      std::string text = "Finished what an interrupted job had begun:\n";
      for (const auto& file : finished) text += fmt::format("  {}\n", printable(file.filename().string()));
      return session.result(report::rename_json({}), text);
    }
  }
  const RenamePlan plan = plan_rename(set, words[1], limit);
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
    &declare_rename,
    kTwoWords,
    &run_rename};

}  // namespace opifex::cli
