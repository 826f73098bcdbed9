/// What a dump, a rescue and a copied folder tell, as text and as JSON.
#pragma once

#include <string>

#include "opifex/core/check/rescue.hpp"
#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/dump/dump.hpp"
#include "opifex/core/dump/folder_copy.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

enum class DumpTense { planned, now };
std::string dump_plan_text(const dump::DumpPlan& plan, DumpTense tense = DumpTense::planned);
std::string dump_text(const dump::DumpPlan& plan, const dump::DumpResult& result);
/// `result` null: only planned.
Json dump_json(const dump::DumpPlan& plan, const dump::DumpResult* result);

/// "12 sectors from LBA 300 (00:06:00)", one line for each lost or unsure range, at most `most`.
std::string lost_ranges_text(const SectorMap& map, std::size_t most);
Json sector_map_json(const SectorMapFile& map);

/// A result that stands by itself, with the date: the proof of a job.
Json record(const char* job, const Json& result);

std::string cartridge_plan_text(const std::string& source, const dump::CartridgePlan& plan,
                                DumpTense tense = DumpTense::planned);
std::string cartridge_dump_text(const dump::CartridgePlan& plan, const dump::CartridgeResult& result);
/// `result` null: only planned.
Json cartridge_dump_json(const std::string& source, const dump::CartridgePlan& plan,
                         const dump::CartridgeResult* result);

std::string folder_copy_text(const std::filesystem::path& from, const std::filesystem::path& into,
                             const dump::FolderCopy& copy, bool planned);
Json folder_copy_json(const std::filesystem::path& from, const std::filesystem::path& into,
                      const dump::FolderCopy& copy, bool planned);

std::string rescue_text(const RescueResult& result, const std::vector<std::string>& inputs);
/// Added to the JSON of the conversion that writes the result.
void add_rescue(Json& json, const RescueResult& result, const std::vector<std::string>& inputs);

}  // namespace opifex::report
