/// From what a check has found to what a shelf keeps, and back.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/jobs/sources.hpp"
#include "opifex/core/shelf/item.hpp"
#include "opifex/core/stage/survey.hpp"

#include "known_collector.hpp"

namespace opifex::jobs {

/// One source that was read for a shelf. The item has no host yet, its files are as they were before they were read.
struct ShelfReading {
  ShelfItem item;
  std::optional<Error> error = {};  ///< it could not be read; the item says so
  std::uint64_t bytes_read = 0;
  bool changed_meanwhile = false;  ///< a file is not as it was before: what was read may be half old, half new
};

/// Checks it with every hash a shelf keeps. Error: interrupted alone.
ShelfReading read_for_shelf(const Source& source, JobContext& context);
/// A game that is no image: a folder, a package, a container of files. All files are hashed.
ShelfReading read_for_shelf(const SurveyItem& found, JobContext& context);
/// What cannot be opened is on the shelf all the same.
ShelfItem unread_item(const SurveyItem& found);

/// As the check gathered it, for known lists.
KnownCollector::KeptImage kept_image(const ShelfItem& item, const std::vector<ShelfContent>& contents);

/// Where a source lies: the leading file or archive, and what is inside.
std::pair<std::string, std::string> place_in_shelf(const Source& source);

}  // namespace opifex::jobs
