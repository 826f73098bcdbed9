#include "opifex/core/jobs/job.hpp"

#include "opifex/core/jobs/settings.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

ReadRules ReadRules::of(const Settings& settings) {
  ReadRules rules;
  rules.opening.settings = settings.only(format_read_settings());
  rules.pick = rules.opening.pick = settings.text(kPick);
  if (const std::string keys = settings.text(kKeyFile); !keys.empty()) rules.opening.keys = KeyRing::read(keys);
  // Where the output goes there is room for the copy of an archive's contents as well, and the user expects writing.
  const std::string out = settings.has(kInto) ? settings.text(kInto) : settings.text(kOut);
  if (out.empty()) return rules;
  const fs::path folder = fs::is_directory(out) || settings.has(kInto) ? fs::path(out) : fs::path(out).parent_path();
  if (folder.empty())
    rules.spool_folder = ".";
  else if (fs::is_directory(folder))
    rules.spool_folder = folder;
  return rules;
}

WriteRules WriteRules::of(const Settings& settings) {
  WriteRules rules;
  rules.existing = settings.flag(kOverwrite) ? Existing::replace : Existing::keep;
  rules.plan_only = settings.flag(kPlan);
  rules.prove = settings.flag(kProve);
  rules.strict = settings.flag(kStrict);
  rules.hash_outputs = settings.flag(kSha1);
  rules.file_system = settings.text(kFileSystem);
  for (std::string& kind : settings.list(kAccept)) rules.accepted.insert(std::move(kind));
  return rules;
}

TargetFacts WriteRules::target(const fs::path& folder) const {
  const TargetFacts facts = target_facts(folder);
  return file_system.empty() ? facts : with_file_system(facts, file_system);
}

WriteJob WriteRules::for_folder(const fs::path& folder) const {
  WriteJob job;
  job.inputs = inputs;
  job.existing = existing;
  job.hash_outputs = hash_outputs;
  job.target = target(folder);
  return job;
}

InputFiles named_inputs(const std::vector<std::string>& words, const Settings& settings,
                        std::span<const Setting* const> list) {
  InputFiles files;
  const auto add = [&](std::string word) {
    if (word.starts_with("sim:")) word.erase(0, 4);
    std::error_code ignored;
    if (fs::is_directory(word, ignored))
      files.add_folder(word);
    else
      files.add(word);
  };
  for (const std::string& word : words) add(word);
  for (const Setting* setting : list)
    if (setting->type == SettingType::reads && settings.has(*setting)) add(settings.text(*setting));
  return files;
}

bool ends_all(const Error& error) { return error.details.fault == Fault::interrupted; }

}  // namespace opifex::jobs
