// Saturn: a text header at the start of the disc.
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"
#include "sega_header.hpp"

namespace opifex {
namespace {

constexpr std::array<std::string_view, 8> kSaturnAreas = {
    "Japan", "Asia NTSC", "North America", "Central and South America NTSC",
    "Korea", "Asia PAL",  "Europe",        "Central and South America PAL"};

std::optional<Identity> identify_saturn(const DiscView& view) {
  if (!as_text(view.read(0, 16)).starts_with("SEGA SEGASATURN ")) return std::nullopt;
  Identity id;
  id.platform = "saturn";
  id.confidence = "certain";
  id.evidence.push_back("the hardware's name at the start of the disc");
  id.maker = view.field(0x10, 16);
  id.serial = view.field(0x20, 10);
  id.version = view.field(0x2A, 6);
  id.date = view.field(0x30, 8);
  id.disc = disc_of_device(view.field(0x38, 8));
  id.region = areas_text(view.field(0x40, 10), "JTUBKAEL", kSaturnAreas);
  id.title = view.field(0x60, 112);
  return id;
}

constexpr std::array kSaturnPlatforms = {Platform{"saturn", "Saturn"}};

}  // namespace

extern const Detector kSaturn = {kSaturnPlatforms, &identify_saturn};

}  // namespace opifex
