// Mega-CD: a mark at the start of the disc, the game's header behind it.
#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"
#include "sega_header.hpp"

namespace opifex {
namespace {

std::optional<Identity> identify_megacd(const DiscView& view) {
  const Bytes head = view.read(0, 16);
  const std::string_view mark = as_text(head);
  const bool known = std::ranges::any_of(
      std::array<std::string_view, 4>{"SEGADISCSYSTEM  ", "SEGABOOTDISC    ", "SEGADISC        ", "SEGADATADISC    "},
      [&](std::string_view m) { return mark == m; });
  if (!known) return std::nullopt;
  Identity id;
  id.platform = "megacd";
  id.evidence.push_back("the disc's mark at its start");
  const bool header = as_text(view.read(0x100, 4)) == "SEGA";
  if (header) id.evidence.push_back("the game's header at 0x100");
  id.confidence = header ? "certain" : "likely";
  id.title = view.field(0x150, 48);
  if (id.title.empty()) id.title = view.field(0x120, 48);
  id.serial = view.field(0x180, 14);
  id.region = areas_text(view.field(0x1F0, 16), "JUE", kThreeAreas);
  return id;
}

constexpr std::array kMegaCdPlatforms = {Platform{"megacd", "Mega-CD"}};

}  // namespace

extern const Detector kMegaCd = {kMegaCdPlatforms, &identify_megacd};

}  // namespace opifex
