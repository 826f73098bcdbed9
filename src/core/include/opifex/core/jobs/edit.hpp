/// Files put into an image, taken off, moved: floppies and memory cards.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/save_history.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex::jobs {

/// Which command the words behind the image belong to.
enum class EditVerb {
  put,   ///< files and folders of this computer
  drop,  ///< paths in the image
  edit   ///< none: settings say all
};

struct EditJob {
  static constexpr bool kChangesInPlace = true;
  std::string image;
  std::size_t card = 0;                ///< of several in one file, from 1; 0: there is only one
  std::vector<std::string> puts = {};  ///< files and folders, in order
  std::string at = {}, name = {};      ///< where they go; what a single one is called there
  /// Before the puts in this order: undelete, drop, make_folder, move. Behind them: comment, protect, bytes, relabel,
  /// boot.
  std::vector<VolumeEdit> before = {}, after = {};
  bool replace = false;                ///< files that are there already
  std::optional<bool> keep_old = {};   ///< nothing: of memory cards
  std::filesystem::path history = {};  ///< where; empty: NAME.history beside the image
  bool plan_only = false;
  /// Error (usage) for words and settings that say nothing, or nothing clear.
  static EditJob of(const std::vector<std::string>& words, const Settings& settings, EditVerb verb);
};

/// What was changed, or would be.
struct Edited {
  std::filesystem::path path;  ///< as the user named it
  std::string system = {};     ///< for people
  std::vector<EditStep> steps = {};
  VolumeSpace before = {}, after = {};
  std::uint64_t changed_bytes = 0, changed_blocks = 0;  ///< of the image
  std::string sha1 = {};                                ///< of the image afterwards
  std::optional<SaveVersion> kept = {};                 ///< the former version
  bool planned_only = false;
  std::vector<Warning> warnings = {};
};
/// One change, whatever it is made of: all or nothing. The image is replaced by a copy that was synced, read back and
/// checked; if it changed in between it is left alone. Error: those of FileSystem::edit; "not_editable", "packed",
/// "several_cards", "image_changed".
Outcome run(const EditJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
