/// The files inside images: listed, and written to a folder.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "opifex/core/convert/extract.hpp"
#include "opifex/core/jobs/job.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex::jobs {

struct FilesJob {
  std::vector<std::string> inputs;  ///< images, archives, folders of images
  std::string path = {};            ///< in them: a folder, a file or a pattern; empty: everything
  ReadRules reading = {};
  std::filesystem::path games = {};  ///< folder of images that saves may be of; empty: nobody asked
  /// Images come first; a word behind the first that fits a path in it is no image. Error (usage) for several paths.
  static FilesJob of(const std::vector<std::string>& words, const Settings& settings);
};

/// The files of one image.
struct Listed {
  const Image& image;
  const std::vector<Volume>& volumes;
  std::string path;
  std::map<std::string, std::string> games = {};  ///< by the code of a game: the image of it; of FilesJob::games
};
/// The code of a game without what programs put between its letters and digits: the key of Listed::games.
std::string plain_code(std::string_view code);
Outcome run(const FilesJob& job, Listener& listener, JobContext& context);

struct ExtractFilesJob {
  std::vector<std::string> inputs;      ///< images, archives, folders of images
  std::vector<std::string> paths = {};  ///< in them; empty: everything
  std::string into;                     ///< of several images each gets a folder in it
  Form2As form2 = Form2As::raw;
  SavesAs saves = SavesAs::single;
  bool even_damaged = false;
  bool read_back = false;  ///< read every file back and compare it with the image
  ReadRules reading = {};
  WriteRules writing = {};
  /// Words as for FilesJob, with any number of paths. Error (usage) if no folder is named.
  static ExtractFilesJob of(const std::vector<std::string>& words, const Settings& settings);
};

/// What was written of one image, or would be.
struct ExtractedFiles {
  const Image& image;
  const ExtractPlan& plan;
  std::string into;
  std::vector<Extracted> items = {};  ///< empty: only planned
  bool read_back = false;
  double seconds = 0;
  std::vector<Warning> warnings = {};  ///< damage of the image
};
Outcome run(const ExtractFilesJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
