/// Pictures of a job, drawn by gnuplot: each as PNG and SVG, with its data and its script beside it.
#pragma once

#include <filesystem>
#include <vector>

#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/dump/dump.hpp"
#include "opifex/core/jobs/files.hpp"

namespace opifex::report {

struct FigureRequest {
  std::filesystem::path folder;  ///< made if it is not there
  Existing existing = Existing::keep;
  InputFiles inputs = {};  ///< never written
};

/// The files draw_dump() is going to make, for refusing early.
std::vector<std::filesystem::path> dump_figures(const std::filesystem::path& folder);

/// The state of every sector over the disc, with tracks and layers marked; reading speed over the disc; how often
/// damaged sectors were read. Returns the PNG files. Error: exists; (device, "no_figure") if gnuplot cannot draw.
std::vector<std::filesystem::path> draw_dump(const dump::DumpPlan& plan, const dump::DumpResult& result,
                                             const FigureRequest& request);

/// The files draw_cartridge() is going to make.
std::vector<std::filesystem::path> cartridge_figures(const std::filesystem::path& folder);

/// Where the readings of a ROM (of a save, if that is all) differed, and what its data lines carried. Errors as above.
std::vector<std::filesystem::path> draw_cartridge(const dump::CartridgePlan& plan, const dump::CartridgeResult& result,
                                                  const FigureRequest& request);

/// The icons of all saves of a memory card, as large squares with their titles. Errors as above; "no_icons" (refused)
/// if there is none.
std::vector<std::filesystem::path> draw_icons(const jobs::Listed& listed, const FigureRequest& request);

}  // namespace opifex::report
