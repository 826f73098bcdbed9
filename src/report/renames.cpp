#include "opifex/report/renames.hpp"

#include "opifex/core/base/text.hpp"

namespace opifex::report {
namespace {

Json group_json(const RenameGroup& group) {
  Json steps = Json::array();
  const auto add = [&](const RenameStep& step, bool rewritten) {
    steps.push_back({{"from", step.from.string()}, {"to", step.to.string()}, {"rewritten", rewritten}});
  };
  for (const RenameStep& step : group.steps) add(step, false);
  if (group.sheet) add(*group.sheet, true);
  return {{"set", group.what}, {"steps", steps}};
}

std::string line(const RenameStep& step, std::string_view remark) {
  if (step.from == step.to) return fmt::format("    {}{}\n", printable(step.from.filename().string()), remark);
  return fmt::format("    {} -> {}{}\n", printable(step.from.filename().string()),
                     printable(step.to.filename().string()), remark);
}

std::string heading(const jobs::RenamedByList& renamed) {
  const std::string sets = plural(renamed.groups.size(), "set");
  if (renamed.groups.empty()) return renamed.undone ? "Nothing to take back.\n" : "Nothing to rename.\n";
  if (renamed.undone)
    return fmt::format("{} of files {}:\n", sets,
                       renamed.planned_only ? "would get the old names again" : "with the old names again");
  return fmt::format("{} {}renamed:\n", sets, renamed.planned_only ? "would be " : "");
}

}  // namespace

Json renamed_by_json(const jobs::RenamedByList& renamed) {
  Json groups = Json::array(), left = Json::array(), undo = Json::array();
  for (const RenameGroup& group : renamed.groups) groups.push_back(group_json(group));
  for (const auto& one : renamed.left_alone) left.push_back({{"what", one.what}, {"why", one.why}});
  for (const auto& file : renamed.undo) undo.push_back(file.string());
  return {{"sets", groups},          {"left_alone", left}, {"notes", renamed.notes},
          {"right", renamed.right},  {"undo", undo},       {"planned_only", renamed.planned_only},
          {"undone", renamed.undone}};
}

std::string renamed_by_text(const jobs::RenamedByList& renamed) {
  std::string text = heading(renamed);
  for (const RenameGroup& group : renamed.groups) {
    text += fmt::format("  {}\n", printable(group.what));
    for (const RenameStep& step : group.steps) text += line(step, "");
    if (group.sheet) text += line(*group.sheet, renamed.undone ? "  (as it was)" : "  (with the new names in it)");
  }
  if (renamed.right > 0)
    text += fmt::format("{} {} the list's names already.\n", plural(renamed.right, "set"),
                        renamed.right == 1 ? "has" : "have");
  for (const std::string& note : renamed.notes) text += fmt::format("note: {}\n", note);
  if (!renamed.left_alone.empty()) text += "Left alone:\n";
  for (const auto& one : renamed.left_alone) text += fmt::format("  {}: {}\n", printable(one.what), printable(one.why));
  for (const auto& file : renamed.undo)
    text += fmt::format("To take it back: opifex rename --undo '{}'\n", printable(file.string()));
  return text;
}

}  // namespace opifex::report
