// Discs drawn by their sectors: as a map of states, as a bar of layers, and file by file.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "opifex/core/check/file_map.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/report/figure.hpp"
#include "opifex/report/palette.hpp"

namespace opifex::report {

struct ToneRange {
  std::int64_t first = 0, end = 0;  ///< sectors
  Tone tone = Tone::blank;
  std::string label = {};
};

struct Mark {
  std::int64_t lba;
  std::string text;
};

/// What a disc is called in the title of a figure.
std::string disc_title(const Identity& id, const std::string& otherwise);
std::vector<Mark> marks_of(const cd::Layout& layout);

/// A cell a sector, or the worst of many; what no range covers stays white.
Figure map_figure(const std::string& title, DiscRange disc, std::span<const ToneRange> ranges,
                  const std::vector<Mark>& marks);

/// One row of the bar.
struct Layer {
  std::string name;
  std::vector<ToneRange> ranges;
};
Figure bar_figure(const std::string& title, DiscRange disc, const std::vector<Layer>& layers);
std::vector<Layer> layers_of(const cd::Layout& layout);
/// Partitions, and areas of files as far as the directories can be read. In sectors of 2048 bytes.
std::vector<Layer> layers_of(const Image& image, const Identity& id);
/// First and end of what an image's bar shows; nothing if it is no disc.
std::optional<DiscRange> extent_of(const Image& image);

/// How much of each file is hit; nothing if none is.
Figures suffered_figures(const std::string& title, const std::vector<FileHit>& hits);

}  // namespace opifex::report
