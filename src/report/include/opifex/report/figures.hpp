/// Pictures of a job, drawn by gnuplot: each as PNG and SVG, with its data and its script beside it.
#pragma once

#include <filesystem>
#include <vector>

#include "opifex/core/dump/dump.hpp"

namespace opifex::report {

/// The state of every sector over the disc, with tracks and layers marked; reading speed over the disc; how often
/// damaged sectors were read. Returns the PNG files. Error (device, "no_figure") if gnuplot cannot draw.
std::vector<std::filesystem::path> draw_dump(const dump::DumpPlan& plan, const dump::DumpResult& result,
                                             const std::filesystem::path& folder);

}  // namespace opifex::report
