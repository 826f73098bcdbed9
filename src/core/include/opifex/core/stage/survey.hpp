/// A folder or drive full of games: what is there, what belongs together, what is in the way.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/io/target.hpp"
#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/title_list.hpp"

namespace opifex {

enum class SurveyKind { image, archive, game_folder, package, container, drive_image, broken };
std::string_view to_string(SurveyKind kind);

/// One game, or one archive that may hold some.
struct SurveyItem {
  std::filesystem::path path;  ///< the leading file, or the folder
  SurveyKind kind = SurveyKind::image;
  std::string format;  ///< id of the image's format, kind of the archive; may be empty
  Identity id;
  std::uint64_t size_bytes = 0;              ///< of all its files
  std::vector<std::filesystem::path> files;  ///< it consists of
  std::size_t parts = 0;                     ///< of a split file; 0: it is not split
  bool package = false;                      ///< with the header of the console's content packages
  bool complete = true;
  std::string set;  ///< common name of the discs of one game; empty: it stands alone
  int disc = 0;     ///< of that set
  std::vector<Warning> warnings;
};

struct Survey {
  std::filesystem::path folder;
  TargetFacts drive;
  std::vector<SurveyItem> items;  ///< discs of a set one behind the other, else by path
  std::vector<Warning> problems;  ///< that are of no item alone: duplicates, missing discs, names the drive cannot have
  std::vector<Warning> unseen;    ///< of these problems those that hide what else may be there
  std::uint64_t total_bytes = 0;  ///< of the items
  std::uint64_t other_files = 0;  ///< that are no games
};

struct SurveyRequest {
  std::filesystem::path folder;
  TargetFacts drive;  ///< rules that names and sizes are held against
  OpenOptions opening = {};
  TitleList titles = {};
  /// Only which images there are, for a job that is going to read them anyway: cartridges are not read whole, and files
  /// that are alike are not looked for.
  bool for_a_job = false;
  /// True of a file or game folder that nobody needs to look at again: it is passed over, with what is below it. Null:
  /// all are looked at.
  std::function<bool(const std::filesystem::path&)> settled = nullptr;
};

/// Looks through the folder and all below it; links are not followed. Reads headers, and of files of equal size and
/// beginning some more to find duplicates.
Survey survey_folder(const SurveyRequest& request, JobContext& context);

}  // namespace opifex
