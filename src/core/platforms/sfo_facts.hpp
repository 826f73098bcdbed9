/// What PARAM.SFO and content ids tell, wherever they are found.
#pragma once

#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/sfo.hpp"

namespace opifex {

/// Title, id, version, category and content id.
void take_sfo(const Sfo& sfo, NonImage& file);
/// Title, id and category of a disc; `id_key` is the key of its id.
void take_sfo(Identity& id, const Sfo& sfo, const char* id_key);
/// By its first letter; empty if that tells nothing.
std::string region_of_content(const std::string& content_id);

}  // namespace opifex
