// Dreamcast, Saturn, Mega-CD: text headers at the start of the data track.
#include <algorithm>
#include <array>
#include <charconv>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

/// Letters of areas in the order they stand, as names; several letters, several regions.
std::string areas_text(std::string_view letters, std::string_view known, std::span<const std::string_view> names) {
  std::string text;
  for (const char c : letters) {
    const std::size_t at = known.find(c);
    if (c == ' ' || at == std::string_view::npos) continue;
    text += (text.empty() ? "" : ", ") + std::string(names[at]);
  }
  return text;
}

constexpr std::array<std::string_view, 3> kThreeAreas = {"Japan", "North America", "Europe"};
constexpr std::array<std::string_view, 8> kSaturnAreas = {
    "Japan", "Asia NTSC", "North America", "Central and South America NTSC",
    "Korea", "Asia PAL",  "Europe",        "Central and South America PAL"};

/// "GD-ROM1/2" -> "1 of 2"
std::string disc_of(const std::string& device) {
  const std::size_t slash = device.find('/');
  if (slash == std::string::npos || slash == 0 || slash + 1 >= device.size()) return {};
  const auto digit = [&](std::size_t at) {
    return device[at] >= '0' && device[at] <= '9' ? static_cast<unsigned>(device[at] - '0') : 0;
  };
  const unsigned disc = digit(slash - 1), discs = digit(slash + 1);
  return disc == 1 && discs == 1 ? "1 of 1" : disc_text(disc, discs);
}

}  // namespace

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
  id.disc = disc_of(view.field(0x25, 11));
  id.region = areas_text(view.field(0x30, 8), "JUE", kThreeAreas);
  return id;
}

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
  id.disc = disc_of(view.field(0x38, 8));
  id.region = areas_text(view.field(0x40, 10), "JTUBKAEL", kSaturnAreas);
  id.title = view.field(0x60, 112);
  return id;
}

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

}  // namespace opifex
