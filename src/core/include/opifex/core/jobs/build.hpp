/// Images made of folders.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex::jobs {

/// One way to make an image of a folder.
struct Builder {
  std::string id;                           ///< what is made: a format, or an image laid out for a console
  SettingList settings;                     ///< that it reads
  bool makes_folders = false;               ///< the output is a tree of its own below what is named
  std::vector<std::string> made_anew = {};  ///< paths of which the image has its own version
  const FileSystem* system = nullptr;
  const Format* format = nullptr;  ///< what is written
  /// `out`: the image, or where its tree begins. Writes nothing.
  Conversion (*plan)(const Builder& builder, const std::filesystem::path& folder, const std::filesystem::path& out,
                     const Settings& settings) = nullptr;
  /// Of no folder at all: an empty image.
  bool makes_blank() const { return system->build->blank; }
};

/// Those of file systems, and of formats that hold the game of a console.
const std::vector<Builder>& builders();
/// The setting that chooses one.
const Setting& as_setting();

struct BuildJob {
  std::vector<std::string> folders;  ///< none: an empty image
  const Builder* builder = nullptr;
  std::string out = {};  ///< empty: beside the folder
  WriteRules writing = {};
  Settings settings = {};  ///< of the builder
  static BuildJob of(std::vector<std::string> folders, const Settings& settings);
};
/// Results are Written, with the folder in place of an image.
Outcome run(const BuildJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
