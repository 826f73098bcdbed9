// CD-i: its disc label (Green Book).
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {

namespace {

std::optional<Identity> identify_cdi(const DiscView& view) {
  const Bytes label = view.read(16 * kDiscBlock, 80);
  if (label.size() < 80 || !as_text(label).starts_with("\1CD-I \1")) return std::nullopt;
  Identity id = known_as("cdi", "certain", "a CD-i disc label at sector 16");
  id.title = id.volume = view.field(16 * kDiscBlock + 40, 32);
  return id;
}

constexpr std::array kCdIPlatforms = {Platform{"cdi", "CD-i"}};

}  // namespace

extern const Detector kCdI = {kCdIPlatforms, &identify_cdi};

}  // namespace opifex
