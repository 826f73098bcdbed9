// Neo Geo CD: the list of files that its loader reads.
#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

/// `NAME.EXT,number,number` lines of IPL.TXT whose ending is one of the loader's.
int load_lines(std::string_view text) {
  constexpr std::array<std::string_view, 7> kEndings = {"PRG", "FIX", "SPR", "Z80", "PCM", "PAT", "OBJ"};
  int lines = 0;
  while (!text.empty() && text[0] != '\x1A') {
    const std::size_t end = std::min(text.find_first_of("\r\n\x1A"), text.size());
    const std::string line = to_upper_ascii(text.substr(0, end));
    const std::size_t dot = line.find('.'), comma = line.find(',');
    const bool fits = dot != std::string::npos && comma == dot + 4 && std::count(line.begin(), line.end(), ',') == 2 &&
                      std::find(kEndings.begin(), kEndings.end(), line.substr(dot + 1, 3)) != kEndings.end();
    lines += fits ? 1 : 0;
    if (end < text.size() && text[end] == '\x1A') break;
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return lines;
}

std::optional<Identity> identify_neogeocd(const DiscView& view) {
  const int lines = load_lines(as_text(view.file("IPL.TXT")));
  if (lines < 2) return std::nullopt;
  Identity id = known_as("neogeocd", "certain", fmt::format("IPL.TXT with {} lines of files to load", lines));
  id.title = id.volume = printable(view.iso->volume_id);
  return id;
}

constexpr std::array kNeoGeoPlatforms = {Platform{"neogeocd", "Neo Geo CD"}};

}  // namespace

extern const Detector kNeoGeoCd = {kNeoGeoPlatforms, &identify_neogeocd};

}  // namespace opifex
