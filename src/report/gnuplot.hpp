// A figure by gnuplot: as PNG and SVG, with its data and its script beside it.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/report/figures.hpp"

namespace opifex::report {

/// In single quotes gnuplot runs no commands and knows no escapes but a doubled quote.
std::string quoted(const std::string& text);

/// The four files of a figure.
std::vector<std::filesystem::path> files_of(const std::filesystem::path& folder, const std::string& name);

/// Writes data and script, and draws; all four files get their names together. `body` plots from the data file. The
/// PNG.
std::filesystem::path draw(const FigureRequest& request, const std::string& name, const std::string& data,
                           const std::string& body, int width, int height);

}  // namespace opifex::report
