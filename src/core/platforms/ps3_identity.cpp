// PS3: PS3_DISC.SFB, the name at sector 1, PARAM.SFO, and the map of encrypted regions.
#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"
#include "opifex/core/platforms/sfo.hpp"

#include "disc_view.hpp"
#include "sfo_facts.hpp"

namespace opifex {
namespace {

std::optional<Identity> identify_ps3(const DiscView& view) {
  constexpr std::size_t kTitleAt = 2048 + 16, kTitleBytes = 32;
  const bool text = as_text(view.read(2048, 12)) == "PlayStation3";
  const bool sfb = as_text(view.file("PS3_DISC.SFB", 4)) == ".SFB";
  const Bytes param = view.file("PS3_GAME/PARAM.SFO");
  if (!sfb && param.empty() && !(text && view.has("PS3_GAME"))) return std::nullopt;
  Identity id;
  id.platform = "ps3";
  if (sfb) id.evidence.push_back("PS3_DISC.SFB");
  if (text) {
    id.evidence.push_back("the console's name at sector 1");
    id.serial = view.field(kTitleAt, kTitleBytes);
  }
  if (const auto sfo = parse_sfo(param)) {
    take_sfo(id, *sfo, "TITLE_ID");
    id.version = printable(sfo->text("APP_VER").empty() ? sfo->text("VERSION") : sfo->text("APP_VER"));
    id.evidence.push_back("PS3_GAME/PARAM.SFO");
  } else if (!param.empty()) {
    id.state = "encrypted";
    id.evidence.push_back("PARAM.SFO cannot be read: it is still encrypted, or damaged");
  }
  try {
    if (const auto map = read_ps3_disc(*view.disc)) {
      for (const Ps3Disc::Region& r : map->regions)
        if (r.encrypted) id.encrypted_regions.push_back({r.first, r.last});
      const auto file = view.iso ? view.iso->find("PS3_GAME/PARAM.SFO") : std::nullopt;
      // A PARAM.SFO outside the encrypted regions tells nothing of them: other files do.
      if (id.state.empty() && map->has_encrypted())
        id.state = file && map->is_encrypted(file->lba) ? "decrypted" : ps3_state(*map, view.disc);
    }
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    id.evidence.push_back("the map of its encrypted regions cannot be used: " + e.details.what);
  }
  id.confidence = id.evidence.size() > 1 ? "certain" : "likely";
  id.region = region_of_serial(id.serial);
  return id;
}

constexpr std::array kPs3Platforms = {Platform{"ps3", "PS3"}};

}  // namespace

extern const Detector kPs3 = {kPs3Platforms, &identify_ps3};

}  // namespace opifex
