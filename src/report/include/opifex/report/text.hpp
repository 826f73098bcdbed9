/// Results as a person reads them.
#pragma once

#include <string>

#include "opifex/core/platforms/platforms.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

/// For a table: "data disc" for what is no console's.
std::string short_platform_name(const std::string& id);

std::string identify_text(const Image& image, const Identity& id);
enum class RepairHint { give, leave_out };
std::string check_text(const Image& image, const CheckResult& result, RepairHint hint = RepairHint::give);
/// What was written, or is going to be, with what would be lost.
std::string written_text(const jobs::Written& job);
enum class RenameState { planned, done };
std::string rename_text(const RenamePlan& plan, RenameState state);
/// The table of formats and what each can hold.
std::string formats_text();

}  // namespace opifex::report
