/// Folders, drives and files that are no images, as identify shows them.
#pragma once

#include "opifex/core/stage/survey.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json survey_json(const Survey& survey);
std::string survey_text(const Survey& survey);

/// A container of many discs.
Json listing_json(const std::string& path, const ImageListing& listing);
std::string listing_text(const std::string& path, const ImageListing& listing);

Json other_json(const std::string& path, const NonImage& other);
std::string other_text(const std::string& path, const NonImage& other);

/// A file of which nobody knows what it is.
Json unknown_json(const std::string& path, const ErrorDetails& why);
std::string unknown_text(const std::string& path, const ErrorDetails& why);

}  // namespace opifex::report
