// PSP: UMD_DATA.BIN and PARAM.SFO.
#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/sfo.hpp"

#include "disc_view.hpp"
#include "sfo_facts.hpp"

namespace opifex {
namespace {

std::optional<Identity> identify_psp(const DiscView& view) {
  const std::string umd(as_text(view.file("UMD_DATA.BIN", 256)));
  const auto sfo = parse_sfo(view.file("PSP_GAME/PARAM.SFO"));
  if (umd.find('|') == std::string::npos && !sfo) return std::nullopt;
  Identity id;
  id.platform = "psp";
  if (!umd.empty()) {
    id.serial = printable(umd.substr(0, umd.find('|')));
    id.evidence.push_back("UMD_DATA.BIN");
  }
  if (sfo) {
    take_sfo(id, *sfo, "DISC_ID");
    id.version = printable(sfo->text("DISC_VERSION"));
    id.evidence.push_back("PSP_GAME/PARAM.SFO");
  }
  id.confidence = id.evidence.size() > 1 ? "certain" : "likely";
  id.region = region_of_serial(id.serial);
  return id;
}

constexpr std::array kPspPlatforms = {Platform{"psp", "PSP"}};

}  // namespace

extern const Detector kPsp = {kPspPlatforms, &identify_psp};

}  // namespace opifex
