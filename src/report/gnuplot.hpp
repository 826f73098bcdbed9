// Figures by gnuplot: each as PNG and SVG, with its data and its script beside it.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/report/figure.hpp"

namespace opifex::report {

/// In single quotes gnuplot runs no commands and knows no escapes; an apostrophe, which would end them, becomes a
/// typographic one. A text of more than `most` bytes loses its middle.
std::string in_quotes(const std::string& text, std::size_t most = 120);
std::string short_text(const std::string& text, std::size_t most);

/// A text in a line of data: in double quotes, which it does not have itself.
std::string field(std::string_view text);

/// "set title ..." as every figure has it.
std::string title_line(const std::string& title);

/// The names of a figure's four files.
std::vector<std::string> files_of(const Figure& figure);

/// Writes the files of all into a folder that is there and holds none of them. Error (device, "no_figure") if gnuplot
/// cannot draw one; the others are drawn first.
void draw(const std::filesystem::path& folder, const Figures& figures);

}  // namespace opifex::report
