/// What each file, folder, set or archive is.
#pragma once

#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "opifex/core/io/archive.hpp"
#include "opifex/core/jobs/job.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/title_list.hpp"
#include "opifex/core/stage/survey.hpp"

namespace opifex::jobs {

struct IdentifyJob {
  std::vector<std::string> paths;
  ReadRules reading = {};
  std::filesystem::path titles = {};  ///< the user's list of names for what has only an id; empty: none
  std::string file_system = {};       ///< rules that names and sizes of a folder are held against; empty: found out
  static IdentifyJob of(std::vector<std::string> paths, const Settings& settings);
};

struct IdentifiedImage {
  Image image;
  Identity id;
};
/// Nobody knows what it is.
struct UnknownFile {
  ErrorDetails why;
};

struct Identified {
  std::string path;
  std::variant<IdentifiedImage, ArchivePtr, NonImage, Survey, ImageListing, UnknownFile> what;
  bool sound = true;  ///< whole, of a known kind, with the right key
};

Outcome run(const IdentifyJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
