// PC Engine CD and PC-FX: the name of the system in front of the loader.
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {

namespace {

std::optional<Identity> identify_pc_engine(const DiscView& view) {
  if (as_text(view.read(0, 16)).starts_with("PC-FX:Hu_CD-ROM")) {
    Identity id = known_as("pcfx", "certain", "the system's name at sector 0");
    id.title = view.field(kDiscBlock, 32);
    return id;
  }
  if (!as_text(view.read(kDiscBlock + 0x20, 23)).starts_with("PC Engine CD-ROM SYSTEM")) return std::nullopt;
  Identity id = known_as("pcecd", "certain", "the system's name at sector 1");
  id.title = view.field(kDiscBlock + 0x6A, 22);
  return id;
}

constexpr std::array kPcEnginePlatforms = {Platform{"pcecd", "PC Engine CD"}, Platform{"pcfx", "PC-FX"}};

}  // namespace

extern const Detector kPcEngine = {kPcEnginePlatforms, &identify_pc_engine};

}  // namespace opifex
