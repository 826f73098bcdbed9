/// The list of what files of a volume have beside their bytes, kept in a folder with them: written when they come out,
/// read when they go in again. A TOML file, `opifex-files.toml`: a table `[[file]]` each, with `path` in the folder,
/// and as far as there is something to tell `name`, `protection`, `comment`, `modified`, `id`, `type`.
#pragma once

#include <filesystem>

#include "opifex/core/volumes/file_system.hpp"

namespace opifex {

/// Of a folder that has one; empty if it has none. Error (refused, "bad_list") with its line if it cannot be
/// understood.
KeptFiles read_kept_facts(const std::filesystem::path& folder);
std::string kept_facts_text(const KeptFiles& files);

/// What is worth keeping of an entry that is written as `host_name`; nothing if all of it shows in the file.
std::optional<KeptFile> kept_of(const VolumeEntry& entry, const std::string& host_name);

/// Changes that put a file, or a folder with all that is in it (but the list), below `at` of a volume. Folders that are
/// there already stay: `there` tells. `notices`: what was left out, and why.
struct PutRequest {
  std::filesystem::path from;
  std::string at = {};    ///< folder in the volume; empty: the root
  std::string name = {};  ///< of a file: the user's word; empty: its own
  bool replace = false;
  bool contents_only = false;  ///< of a folder: what is in it, not the folder itself
};
std::vector<VolumeEdit> edits_for(const PutRequest& request, const std::vector<const Volume*>& there,
                                  std::vector<std::string>& notices);

/// An image as these edits make it of `before`: every change is there, and everything else as it was. `steps`: what the
/// editor said of each. Error (device, "proof_failed").
void require_edited(const Volume& before, const Volume& after, std::span<const VolumeEdit> edits,
                    std::span<const EditStep> steps);

struct FolderMaking {
  std::vector<VolumeEdit> more = {};              ///< beside what is in the folder
  std::optional<std::int64_t> date_for_all = {};  ///< instead of each file's own
  std::int64_t now = 0;                           ///< seconds since 1970
};
/// An image that begins as `blank`, with all that is in a folder put on it; empty folder: as it is. What was made is
/// proved before it is returned.
FolderImage image_of_folder(const FileSystem& system, Bytes blank, const std::filesystem::path& folder,
                            const std::filesystem::path& out, const FolderMaking& making);

}  // namespace opifex
