/// What was renamed by known lists, and what was not.
#pragma once

#include <string>

#include "opifex/core/jobs/rename_by.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json renamed_by_json(const jobs::RenamedByList& renamed);
std::string renamed_by_text(const jobs::RenamedByList& renamed);

}  // namespace opifex::report
