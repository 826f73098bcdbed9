/// Saves: what was found out about them, and done.
#pragma once

#include "opifex/core/jobs/save.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json save_json(const jobs::SaveTold& save);
std::string save_text(const jobs::SaveTold& save);

}  // namespace opifex::report
