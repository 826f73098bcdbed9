/// What one file of a folder is: an image, a copy of one in an archive, a piece of something, or no game at all.
#pragma once

#include "opifex/core/stage/survey.hpp"

namespace opifex {

/// The extension with its dot, in lower case.
std::string folded_extension(const std::filesystem::path& path);

/// Safe from many threads.
class Examiner {
 public:
  explicit Examiner(const SurveyRequest& request);
  /// Of a set of parts the one that is opened; nothing if it is no game.
  std::optional<SurveyItem> examine(const std::filesystem::path& path) const;

 private:
  SurveyItem image(SurveyItem item) const;

  const SurveyRequest& request_;
  OpenOptions opening_;
};

}  // namespace opifex
