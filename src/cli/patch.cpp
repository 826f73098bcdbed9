#include "opifex/core/jobs/patch.hpp"

#include "opifex/core/jobs/settings.hpp"

#include "command.hpp"
#include "reporter.hpp"

namespace opifex::cli {
namespace {

jobs::ChangeRules rules_of(const Settings& chosen) {
  jobs::ChangeRules rules{
      .out = chosen.text(jobs::kOut), .replace = chosen.flag(jobs::kOverwrite), .plan_only = chosen.flag(jobs::kPlan)};
  if (rules.out.empty() && !rules.replace)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "a path for the new file is missing",
                 .hint = "<out> PATH; or <overwrite>: the old file is kept beside it under a dated name"});
  return rules;
}

void require_words(const std::vector<std::string>& words, std::size_t least, std::size_t most, const char* usage) {
  if (words.size() >= least && words.size() <= most) return;
  throw Error({.fault = Fault::usage,
               .code = "usage",
               .what = fmt::format("patch {} takes other words", words.front()),
               .hint = fmt::format("opifex patch {} {}", words.front(), usage)});
}

jobs::ReplaceJob replace_job(const std::vector<std::string>& words, const Settings& chosen) {
  jobs::ReplaceJob job{.file = words.at(1), .replacements = {}};
  if (chosen.has(jobs::kText)) job.replacements.push_back(parse_replacement(chosen.text(jobs::kText), false));
  if (chosen.has(jobs::kHex)) job.replacements.push_back(parse_replacement(chosen.text(jobs::kHex), true));
  if (job.replacements.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "nothing is named to be replaced",
                 .hint = "<text> OLD=NEW, or <hex> OLD=NEW"});
  job.count = static_cast<std::uint64_t>(chosen.number(jobs::kCount).value_or(1));
  job.rules = rules_of(chosen);
  return job;
}

void run_patch(Session& session) {
  Reporter reporter(session);
  const std::vector<std::string>& words = session.words();
  const Settings& chosen = session.settings();
  const std::string& action = words.front();
  if (action == "identify") {
    require_words(words, 2, kMany, "PATCH...");
    run_job(session, jobs::PatchIdentifyJob{{words.begin() + 1, words.end()}}, reporter);
  } else if (action == "apply") {
    const bool among = chosen.has(jobs::kAmong);
    require_words(words, among ? 2 : 3, among ? 2 : 3, "PATCH FILE --out NEW, or PATCH --among FOLDER --out NEW");
    run_job(session,
            jobs::PatchApplyJob{.patch = words[1],
                                .source = among ? "" : words[2],
                                .among = chosen.text(jobs::kAmong),
                                .rules = rules_of(chosen)},
            reporter);
  } else if (action == "make") {
    require_words(words, 3, 3, "OLD NEW --out PATCH");
    run_job(session,
            jobs::PatchMakeJob{
                .before = words[1], .after = words[2], .kind = jobs::patch_kind(chosen), .rules = rules_of(chosen)},
            reporter);
  } else if (action == "replace") {
    require_words(words, 2, 2, "FILE --text OLD=NEW --out NEW");
    run_job(session, replace_job(words, chosen), reporter);
  } else {
    unknown_word("action of patch", action, {"apply", "make", "identify", "replace"});
  }
}

}  // namespace

extern const Command kPatch = {
    "patch",
    "apply|make|identify|replace ...",
    "applies, makes and describes patches (ips, ups, bps), and replaces text of one length",
    "apply PATCH FILE: the patch's checksums say whether it is the right file; a ROM behind a copier's header is "
    "patched\n"
    "without it. --among FOLDER finds the file by its checksum. make OLD NEW: by the ending of --out, or --to. replace "
    "FILE:\n"
    "refuses another length, no match, or another number of matches than --count; --plan shows where.",
    "  opifex patch apply moth.bps moth.gb --out moth-new.gb\n"
    "  opifex patch apply moth.bps --among roms/ --out moth-new.gb\n"
    "  opifex patch make old.gb new.gb --out change.bps\n"
    "  opifex patch replace boot.elf --text disc1.iso=disc2.iso --plan --out new.elf\n",
    &jobs::patch_settings,
    kSomeWords,
    &run_patch};

}  // namespace opifex::cli
