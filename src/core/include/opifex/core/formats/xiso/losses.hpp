/// What formats that hold a game partition alone leave out.
#pragma once

#include "opifex/core/image/format.hpp"

namespace opifex {

/// Around the game partition of a pressed disc lies one for video players; between its files lies filler.
std::vector<Loss> game_partition_losses(const Image& image, const Settings& settings);

}  // namespace opifex
