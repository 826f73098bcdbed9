/// What patches say, and what was changed.
#pragma once

#include "opifex/core/jobs/patch.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json patch_json(const jobs::PatchTold& patch);
std::string patch_text(const jobs::PatchTold& patch);
Json changed_json(const jobs::Changed& changed);
std::string changed_text(const jobs::Changed& changed);

}  // namespace opifex::report
