/// Results as a person reads them.
#pragma once

#include <string>

#include "opifex/report/json.hpp"

namespace opifex::report {

std::string platform_name(const std::string& id);
/// For a table: "data disc" for what is no console's.
std::string short_platform_name(const std::string& id);

std::string identify_text(const Image& image, const Identity& id);
enum class RepairHint { give, leave_out };
std::string check_text(const Image& image, const CheckResult& result, RepairHint hint = RepairHint::give);
/// What is going to happen, and what would be lost.
/// `becomes`: what the image turns into, in words.
std::string plan_text(const Image& image, std::string_view becomes, const Conversion& conversion,
                      const TargetFacts& facts);
/// What was written.
std::string job_text(const Conversion& conversion, const JobResult& job);
enum class RenameState { planned, done };
std::string rename_text(const RenamePlan& plan, RenameState state);
/// The table of formats and what each can hold.
std::string formats_text();

}  // namespace opifex::report
