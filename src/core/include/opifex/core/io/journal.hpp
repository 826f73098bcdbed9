/// Several files that get their names together, even if the machine stops in the middle.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

namespace opifex {

/// One file that gets its name. What stood under that name is set aside first (as `aside`) and removed at the end;
/// without `aside` nothing may stand there.
struct Placing {
  std::filesystem::path from, to;
  std::filesystem::path aside = {};
};

/// Puts complete, synced files in place: all of them, or none. What is going to happen is written beside them first
/// (`.NAME.opifex-journal`) and removed last, so that whoever is interrupted in between can be finished. All files lie
/// in the folder of the last one or below it.
///
/// `remove`: files that have no place any more once all is done.
/// Error: exists, busy, a device error; then everything is as it was before.
void place_together(const std::vector<Placing>& files, const std::vector<std::filesystem::path>& remove = {});

/// Finishes what an interrupted place_together() began in this folder. Returns the files that got their names.
/// Error (needs_word, "unfinished") if something else stands in the way by now, "busy" if that job is still running.
std::vector<std::filesystem::path> finish_interrupted(const std::filesystem::path& folder);

/// The folder's names are on the drive. Drives that cannot do that say so, and are left alone. Error (device).
void sync_folder(const std::filesystem::path& folder);

/// Renames without replacing. Error (needs_word, "exists") if something of that name is there.
void rename_without_replacing(const std::filesystem::path& from, const std::filesystem::path& to);

}  // namespace opifex
