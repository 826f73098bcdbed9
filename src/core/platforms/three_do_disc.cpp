// 3DO: the volume label of its own file system.
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {

namespace {

std::optional<Identity> identify_3do(const DiscView& view) {
  const Bytes head = view.read(0, 0x54);
  if (head.size() < 0x54 || !as_text(head).starts_with("\1ZZZZZ\1") || load_be32(head, 0x4C) != kDiscBlock)
    return std::nullopt;
  Identity id = known_as("3do", "certain", "a volume label at sector 0");
  id.title = id.volume = view.field(0x28, 32);
  return id;
}

constexpr std::array kThreeDoPlatforms = {Platform{"3do", "3DO"}};

}  // namespace

extern const Detector kThreeDo = {kThreeDoPlatforms, &identify_3do};

}  // namespace opifex
