#include "opifex/report/edit.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

Json space_json(const VolumeSpace& space) {
  return {{"free_blocks", space.free_blocks},
          {"free_bytes", space.free_bytes},
          {"largest_free_bytes", space.largest_free_bytes}};
}

/// In memory of single bytes a block is one of them.
std::string room_of(const EditStep& step, const VolumeSpace& space) {
  if (step.blocks == 0) return "";
  const auto n = static_cast<std::uint64_t>(step.blocks < 0 ? -step.blocks : step.blocks);
  const std::string_view unit = space.block_bytes > 1 ? "block" : "byte";
  return fmt::format("{}{}", step.blocks < 0 ? "gives back " : "", plural(n, unit));
}

std::string detail_of(const EditStep& step) {
  using Kind = VolumeEdit::Kind;
  switch (step.kind) {
    case Kind::move:
      return "to " + step.text;
    case Kind::comment:
    case Kind::protect:
    case Kind::boot:
      return step.text;
    default:
      return "";
  }
}

std::string room_text(const VolumeSpace& space) {
  return space.block_bytes > 1 ? plural(space.free_blocks, "block") : plural(space.free_bytes, "byte");
}

}  // namespace

Json edit_json(const jobs::Edited& edited) {
  Json steps = Json::array();
  for (const EditStep& step : edited.steps)
    steps.push_back({{"change", to_string(step.kind)},
                     {"path", step.path},
                     {"detail", step.text},
                     {"size_bytes", step.size_bytes},
                     {"blocks", step.blocks}});
  return {{"path", edited.path.string()},
          {"system", edited.system},
          {"planned_only", edited.planned_only},
          {"changes", steps},
          {"changed_bytes", edited.changed_bytes},
          {"changed_blocks", edited.changed_blocks},
          {"before", space_json(edited.before)},
          {"after", space_json(edited.after)},
          {"sha1", edited.sha1},
          {"kept", edited.kept ? Json(edited.kept->file.string()) : Json()},
          {"warnings", to_json(edited.warnings)}};
}

std::string edit_text(const jobs::Edited& edited) {
  std::string text = fmt::format("{}: {}{}\n\n", printable(edited.path.string()), edited.system,
                                 edited.planned_only ? ", what would be changed" : "");
  Table table({path_column("Change"),
               {"Bytes", Align::right},
               {"Room", Align::right},
               path_column("Path"),
               path_column("Detail")});
  constexpr std::size_t kShown = 40;
  for (std::size_t i = 0; i < std::min(kShown, edited.steps.size()); ++i) {
    const EditStep& step = edited.steps[i];
    table.add({std::string(to_string(step.kind)), step.size_bytes == 0 ? "" : grouped(step.size_bytes),
               room_of(step, edited.before), step.kind == VolumeEdit::Kind::relabel ? step.text : step.path,
               detail_of(step)});
  }
  text += table.text("  ");
  if (edited.steps.size() > kShown)
    text += fmt::format("  ... and {} more (--json lists all)\n", grouped(edited.steps.size() - kShown));
  text += fmt::format("\n  {} free before, {} after\n", room_text(edited.before), room_text(edited.after));
  if (edited.changed_bytes == 0)
    text += "  nothing changes: the image is so already\n";
  else
    text += fmt::format("  {} in {} of the image {}, everything else stays as it is\n",
                        plural(edited.changed_bytes, "byte"), plural(edited.changed_blocks, "block"),
                        edited.planned_only ? "would change" : "changed");
  if (!edited.planned_only && edited.changed_bytes != 0)
    text += fmt::format("  the new image was read back and checked, sha1 {}\n", edited.sha1);
  if (edited.kept) text += fmt::format("  the former version is {}\n", printable(edited.kept->file.string()));
  for (const Warning& w : edited.warnings) text += fmt::format("  warning {}\n", printable(warning_text(w)));
  return text;
}

}  // namespace opifex::report
