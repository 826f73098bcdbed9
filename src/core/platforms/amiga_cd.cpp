// Amiga CD32 and CDTV: their trademark files and the start-up script.
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {

namespace {

std::optional<Identity> identify_amiga_cd(const DiscView& view) {
  if (!view.iso) return std::nullopt;
  const bool cd32 = view.has("CD32.TM"), cdtv = view.has("CDTV.TM"), system = view.iso->system_id == "CDTV",
             script = view.has("S/STARTUP-SEQUENCE");
  if (!cd32 && !cdtv && !(system && script)) return std::nullopt;
  Identity id = known_as(cd32 ? "cd32" : "cdtv", system && script && (cd32 || cdtv) ? "certain" : "likely",
                         cd32   ? "CD32.TM in the root"
                         : cdtv ? "CDTV.TM in the root"
                                : "the system identifier CDTV");
  if (script) id.evidence.push_back("S/STARTUP-SEQUENCE");
  id.title = id.volume = printable(view.iso->volume_id);
  return id;
}

constexpr std::array kAmigaCdPlatforms = {Platform{"cd32", "Amiga CD32"}, Platform{"cdtv", "Amiga CDTV"}};

}  // namespace

extern const Detector kAmigaCd = {kAmigaCdPlatforms, &identify_amiga_cd};

}  // namespace opifex
