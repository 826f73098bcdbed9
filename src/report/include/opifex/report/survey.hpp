/// Folders, drives and files that are no images, as identify shows them.
#pragma once

#include "opifex/core/stage/survey.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json survey_json(const Survey& survey);
std::string survey_text(const Survey& survey);

Json other_json(const std::string& path, const OtherFile& other);
std::string other_text(const std::string& path, const OtherFile& other);

}  // namespace opifex::report
