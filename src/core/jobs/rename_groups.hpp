/// Groups of files that get their names, whoever found out which.
#pragma once

#include "opifex/core/jobs/rename_by.hpp"

namespace opifex::jobs {

/// Takes out what clashes or lies elsewhere, leaves a file for the way back in each of `inputs` (folders, or images),
/// and renames, unless only planned. Clashes become failures of `outcome`.
void rename_groups(RenamedByList& out, const std::vector<std::string>& inputs, Outcome& outcome, Listener& listener);

}  // namespace opifex::jobs
