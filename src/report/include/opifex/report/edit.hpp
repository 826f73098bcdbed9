/// What a change of an image comes to.
#pragma once

#include "opifex/core/jobs/edit.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json edit_json(const jobs::Edited& edited);
std::string edit_text(const jobs::Edited& edited);

}  // namespace opifex::report
