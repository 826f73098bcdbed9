/// What a shelf tells, as text, JSON and CSV.
#pragma once

#include <functional>
#include <string>

#include "opifex/core/jobs/shelf.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

/// Refers to `told`.
LongResult shelf_json(const jobs::ShelfTold& told);
std::string shelf_text(const jobs::ShelfTold& told);
/// Of a list: block by block.
void shelf_csv(const jobs::ShelfListed& listed, const std::function<void(const std::string& rows)>& rows);

}  // namespace opifex::report
