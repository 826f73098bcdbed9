/// What known lists are, and what they know.
#pragma once

#include <string>

#include "opifex/core/jobs/known.hpp"
#include "opifex/core/jobs/lists.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

/// The object `known` of a check (docs/json.md).
Json known_json(const jobs::KnownImage& image, const jobs::KnownTold& told);
/// What each list has and knows of the whole collection: sets that are there, files, totals.
Json lists_known_json(const jobs::KnownTold& told);
/// Of a single image: a line or a few for each list; of a collection: its sets, list by list.
std::string known_text(const jobs::KnownTold& told);

/// Of a job that has just written one image; null and nothing for null.
Json answers_json(const std::vector<jobs::KnownAnswer>* answers);
/// `image` for the command that gives it the list's name.
std::string answers_text(const std::vector<jobs::KnownAnswer>* answers, const std::string& image);

Json list_json(const jobs::ListTold& told);
std::string list_text(const jobs::ListTold& told);

Json missing_json(const jobs::MissingTold& told);
std::string missing_text(const jobs::MissingTold& told);

Json list_made_json(const jobs::ListMade& made);
std::string list_made_text(const jobs::ListMade& made);

}  // namespace opifex::report
