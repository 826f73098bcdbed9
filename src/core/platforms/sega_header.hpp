/// Fields that the headers of Dreamcast, Saturn and Mega-CD discs have in common.
#pragma once

#include <array>
#include <span>
#include <string>
#include <string_view>

namespace opifex {

inline constexpr std::array<std::string_view, 3> kThreeAreas = {"Japan", "North America", "Europe"};

/// Letters of areas in the order they stand, as names; several letters, several regions.
std::string areas_text(std::string_view letters, std::string_view known, std::span<const std::string_view> names);

/// "GD-ROM1/2" -> "1 of 2"
std::string disc_of_device(const std::string& device);

}  // namespace opifex
