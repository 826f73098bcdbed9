/// Many files renamed at once, swapped names among them, with a file that can undo it.
#pragma once

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/stage/naming.hpp"

namespace opifex {

/// Files that belong together: all of them get their names, or none. All lie in `folder` or below it.
struct RenameGroup {
  std::string what;  ///< for people: the set
  std::filesystem::path folder;
  std::vector<RenameStep> steps;
  std::optional<RenameStep> sheet = {};  ///< rewritten; from and to may be the same
  std::string sheet_text = {};

  bool empty() const { return steps.empty() && !sheet; }
};

/// A group that cannot be renamed as long as something else has one of its names.
struct RenameClash {
  RenameGroup group;
  Error error;  ///< needs_word, "same_output" or "exists"
};
/// Takes out of `groups` those whose names are taken: by another of them, or by a file that none of them moves away.
/// `ignore_case`: on drives where case does not tell names apart.
std::vector<RenameClash> take_out_clashes(std::vector<RenameGroup>& groups, bool ignore_case);

/// Renames all of them, group by group; names that groups swap with each other too. If one fails, what was not yet
/// begun is left, and that group is as it was. Error as place_together().
void run_renames(const std::vector<RenameGroup>& groups);

/// What undoes them, before they are run: every name and, of sheets, the text. Written and synced as a new file.
void write_undo(const std::vector<RenameGroup>& groups, const std::filesystem::path& file);

/// Files that an interruption has left between their old and their new names get the old ones back, by the undo files
/// in this folder. What cannot be done is left as it is.
void end_waiting(const std::filesystem::path& folder);

/// A file that write_undo() wrote, by its name: `opifex-renamed-20260105T180000Z.json`.
bool is_undo_name(std::string_view name);
/// The name of a new one, by the clock of this computer; `more` from 2 on where it is taken.
std::string undo_name(int more = 1);

/// The way back, from a file that write_undo() wrote. Files that have their old names are left out. Error (refused,
/// "not_as_renamed") if one is under neither name, or was changed since by its size, its date or a sheet's text;
/// "no_undo_file". Nothing but names below the file's own folder is taken from it.
std::vector<RenameGroup> read_undo(const std::filesystem::path& file);

}  // namespace opifex
