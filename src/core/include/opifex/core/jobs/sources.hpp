/// From the words a user gave to the images behind them: files, folders and drives, archives, files with several
/// images.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/image/inputs.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

/// One image that a job is going to read.
struct Source {
  Input input;
  std::string name;  ///< for people: the path, below an archive's path what is inside, and the id in a file of several
  std::vector<std::filesystem::path> volumes = {};  ///< of the archive it is in; empty: it is in none
  std::string archive_kind = {};                    ///< "zip"
};

/// Something in a folder that is no image, or one that cannot be read.
struct LeftOut {
  std::string name;
  ErrorDetails why;
  bool failed = true;  ///< false: nobody asked for more (a package among images); it is told, and nothing went wrong
};

struct Sources {
  std::vector<Source> images;
  std::vector<LeftOut> left_out = {};
  bool searched = false;  ///< a folder was among the words, or a file with several images
  InputFiles files = {};  ///< the archives they came from: never written
};

/// Which images of a folder a job takes.
enum class Wanted {
  whole,  ///< those of which nothing is missing
  all     ///< incomplete ones as well
};

/// Looks through folders as the survey does, and into archives. A word that is none of them stands for itself, whatever
/// it is: opening it tells. Error (refused, "no_image") for a folder without any image.
Sources find_sources(const std::vector<std::string>& words, const ReadRules& rules, Wanted wanted, JobContext& context);

/// Opens it, and decrypts it if its keys are there.
Image open_source(const Input& input);

/// For jobs that take a single image: Error (usage, "several_images") if the word stands for more than one. The archive
/// it came from is added to `files`.
Image open_one(const std::string& word, const ReadRules& rules, InputFiles& files);

}  // namespace opifex::jobs
