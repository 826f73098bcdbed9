/// What a check of a record has found.
#pragma once

#include <string>

#include "opifex/core/jobs/check_record.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json record_json(const jobs::RecordTold& told);
std::string record_told_text(const jobs::RecordTold& told);

}  // namespace opifex::report
