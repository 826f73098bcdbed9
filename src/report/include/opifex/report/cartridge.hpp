/// What is known of a cartridge, as lines and as JSON.
#pragma once

#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/report/json.hpp"
#include "opifex/report/table.hpp"

namespace opifex::report {

/// The object `cartridge` of identify and check (docs/json.md).
Json cartridge_json(const rom::Examined& rom);
void add_cartridge(Facts& facts, const rom::Examined& rom);

}  // namespace opifex::report
