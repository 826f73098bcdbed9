// Dreamcast: a text header at the start of the data track.
#include <charconv>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"
#include "sega_header.hpp"

namespace opifex {
namespace {

std::optional<Identity> identify_dreamcast(const DiscView& view) {
  const Bytes head = view.read(0, 256);
  if (head.size() < 256 || !as_text(head).starts_with("SEGA SEGAKATANA ")) return std::nullopt;
  Identity id;
  id.platform = "dreamcast";
  id.evidence.push_back("the hardware's name at the start of the track");
  const std::string_view said = as_text(head).substr(0x20, 4);
  unsigned crc = 0;
  const auto [end, error] = std::from_chars(said.data(), said.data() + said.size(), crc, 16);
  const bool right = error == std::errc() && end == said.data() + said.size() &&
                     crc == crc16(ByteView(head).subspan(0x40, 16), 0xFFFF);
  id.confidence = right ? "certain" : "likely";
  id.evidence.push_back(right ? "its checksum is right" : "its checksum is wrong: the header was changed");
  id.serial = view.field(0x40, 10);
  id.version = view.field(0x4A, 6);
  id.title = view.field(0x80, 128);
  id.boot_file = view.field(0x60, 16);
  id.maker = view.field(0x70, 16);
  id.date = view.field(0x50, 16);
  id.disc = disc_of_device(view.field(0x25, 11));
  id.region = areas_text(view.field(0x30, 8), "JUE", kThreeAreas);
  return id;
}

constexpr std::array kDreamcastPlatforms = {Platform{"dreamcast", "Dreamcast"}};

}  // namespace

extern const Detector kDreamcast = {kDreamcastPlatforms, &identify_dreamcast};

}  // namespace opifex
