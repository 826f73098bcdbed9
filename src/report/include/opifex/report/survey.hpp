/// Folders, drives and files that are no images, as identify shows them.
#pragma once

#include "opifex/core/formats/wbfs/wbfs.hpp"
#include "opifex/core/stage/survey.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json survey_json(const Survey& survey);
std::string survey_text(const Survey& survey);

/// A container of many discs.
Json wbfs_json(const std::string& path, const WbfsListing& listing);
std::string wbfs_text(const std::string& path, const WbfsListing& listing);

Json other_json(const std::string& path, const NonImage& other);
std::string other_text(const std::string& path, const NonImage& other);

}  // namespace opifex::report
