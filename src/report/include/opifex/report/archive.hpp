/// An archive as identify shows it.
#pragma once

#include "opifex/core/io/archive.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

Json archive_json(const std::string& path, const Archive& archive);
std::string archive_text(const std::string& path, const Archive& archive);

}  // namespace opifex::report
